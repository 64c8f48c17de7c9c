package check

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"tivset/internal/app/archive"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/runtime"
	"tivset/internal/hosting/web"
)

// What is asked for, at most, of each part that the web must not show.
const (
	mostFolders = 40       // folders that are listed
	mostAsked   = 24       // files
	peeked      = 64 << 10 // bytes of each
	together    = 4        // requests at once
)

// Hidden is what came of asking, as a stranger, for all that the kit says must
// not be seen.
type Hidden struct {
	Seen  []Seen
	Asked int      // addresses that were asked for
	Mute  int      // those of them that did not answer at all: nobody knows what they show
	Left  []string // parts of which not all was asked for, and how much was
}

// Seen is what came back of one part of the app.
type Seen struct {
	Kind string // the check that tells of it
	Part string // as the kit names it
	Name string // below the site's folder; of a folder with a final slash
}

// detail words what was asked for when nothing came back.
func (h Hidden) detail() string {
	text := fmt.Sprintf("%d addresses asked for, nothing comes back", h.Asked)
	if h.Mute > 0 {
		text = fmt.Sprintf(
			"of %d addresses asked for %d did not answer, and nothing comes back from the others. Check again "+
				"when the site answers",
			h.Asked,
			h.Mute,
		)
	}
	if len(h.Left) > 0 {
		text += "; not all was asked for: " + strings.Join(h.Left, ", ")
	}
	return text
}

// wanted is an address that a stranger asks for.
type wanted struct {
	part   string
	name   string     // below the site's folder; of a folder with a final slash
	info   files.Info // of a file
	inside []string   // of a folder: names that its listing would show
}

// nothing says of a folder that there is nothing in it that a list would show.
func (w wanted) nothing() bool { return strings.HasSuffix(w.name, "/") && len(w.inside) == 0 }

// Hidden asks for the parts themselves, which may list what is in them, and for
// what is really there now: logs and uploads among them, not the archive's files
// alone. Servers pass over rules that apps bring.
func (v *Visit) Hidden(ctx context.Context) (Hidden, error) {
	var out Hidden
	all, err := v.written(ctx)
	if err != nil {
		return out, err
	}
	for _, part := range v.Site.Kit.Place.Deny {
		found, left, err := v.private(ctx, strings.TrimSuffix(path.Clean(part), "/"))
		if err != nil {
			return out, err
		}
		all = append(all, found...)
		if left != "" {
			out.Left = append(out.Left, left)
		}
	}
	all = slices.DeleteFunc(all, wanted.nothing)
	out.Asked = len(all)
	out.Seen, out.Mute, err = v.askAll(ctx, all)
	slices.SortFunc(out.Seen, func(a, b Seen) int {
		return cmp.Or(strings.Compare(a.Part, b.Part), strings.Compare(a.Name, b.Name))
	})
	return out, err
}

// Listed says whether the server lists any folder that it should not, and gives all that it should not, below the
// site's folder.
func (v *Visit) Listed(ctx context.Context) (listed bool, folders []string, err error) {
	all, err := v.written(ctx)
	if err != nil {
		return false, nil, err
	}
	for _, part := range v.Site.Kit.Place.Deny {
		found, _, err := v.private(ctx, path.Clean(part))
		if err != nil {
			return false, nil, err
		}
		all = append(all, found...)
	}
	all = slices.DeleteFunc(all, func(w wanted) bool { return !strings.HasSuffix(w.name, "/") })
	for _, w := range all {
		folders = append(folders, strings.TrimSuffix(w.name, "/"))
	}
	seen, _, err := v.askAll(ctx, slices.DeleteFunc(all, wanted.nothing))
	return len(seen) > 0, folders, err
}

// written lists the folders in which the app writes what everybody may see, but not a list of it.
func (v *Visit) written(ctx context.Context) (out []wanted, err error) {
	for _, part := range v.Site.Kit.Place.Writes() {
		part = path.Clean(part)
		if archive.Skipped(part, v.Site.Kit.Place.Deny) {
			continue
		}
		inside, err := v.In.Files.List(ctx, path.Join(v.Site.Place.Folder, part))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, listing(part, part, inside))
	}
	return out, nil
}

// listing is what is to be asked for to see whether the server lists a folder.
func listing(part, folder string, inside []files.Info) wanted {
	w := wanted{part: part, name: folder + "/"}
	for _, i := range inside {
		if len(i.Name) > 2 && !strings.HasPrefix(i.Name, "index.") && !strings.HasPrefix(i.Name, ".") {
			w.inside = append(w.inside, i.Name)
		}
	}
	return w
}

// kindOf says which check tells of what came back.
func (v *Visit) kindOf(w wanted) string {
	switch {
	case strings.HasSuffix(w.name, "/"):
		return Listings
	case archive.Skipped(w.name, v.Site.Kit.Place.Compiled):
		return Caches
	}
	return PrivateFiles
}

// private lists what is to be asked for of one part; nothing of one that is not
// there.
func (v *Visit) private(ctx context.Context, part string) (all []wanted, left string, err error) {
	top := v.Site.Place.Folder
	there, err := files.Exists(ctx, v.In.Files, path.Join(top, part))
	if err != nil || !there {
		return nil, "", err
	}
	info, err := v.In.Files.Stat(ctx, path.Join(top, part))
	if err != nil {
		return nil, "", err
	}
	if !info.IsDir() {
		return []wanted{{part: part, name: part, info: info}}, "", nil
	}
	var found []wanted
	folders := []string{part}
	for n := 0; n < len(folders) && n < mostFolders; n++ {
		inside, err := v.In.Files.List(ctx, path.Join(top, folders[n]))
		if errors.Is(err, fs.ErrNotExist) && n > 0 {
			continue // it has gone since it was listed
		}
		if err != nil {
			return nil, "", err
		}
		for _, i := range inside {
			name := path.Join(folders[n], i.Name)
			if i.IsDir() {
				folders = append(folders, name)
			} else if i.Size > 0 {
				found = append(found, wanted{part: part, name: name, info: i})
			}
		}
		all = append(all, listing(part, folders[n], inside))
	}
	chosen, of := sample(v.In.Runtimes(), found)
	left = notAsked(part, len(chosen), of, len(folders)-mostFolders)
	return append(all, chosen...), left, nil
}

// notAsked words what of a part was left out; "" for nothing.
func notAsked(part string, asked, of, folders int) string {
	switch {
	case folders > 0:
		return fmt.Sprintf("%s (%d files asked for; %d of its folders not looked into)", part, asked, folders)
	case asked < of:
		return fmt.Sprintf("%s (%d of %d files)", part, asked, of)
	}
	return ""
}

// sample chooses files to ask for, of how many: of each kind in turn, the newest
// first. A page that only keeps a folder from being listed is nobody's secret.
// Programs are not asked for: the server would run them, whatever they do.
func sample(runtimes runtime.Set, found []wanted) (out []wanted, of int) {
	kinds := map[string][]wanted{}
	for _, w := range found {
		if strings.HasPrefix(path.Base(w.name), "index.htm") && w.info.Size < 1024 {
			continue
		}
		kind := strings.ToLower(path.Ext(w.name))
		if runs(runtimes, w.name) {
			continue
		}
		kinds[kind] = append(kinds[kind], w)
	}
	for kind, list := range kinds {
		slices.SortFunc(list, func(a, b wanted) int {
			return cmp.Or(b.info.Modified.Compare(a.info.Modified), strings.Compare(a.name, b.name))
		})
		of += len(kinds[kind])
	}
	names := slices.Sorted(maps.Keys(kinds))
	for n := 0; len(out) < mostAsked; n++ {
		before := len(out)
		for _, kind := range names {
			if n < len(kinds[kind]) && len(out) < mostAsked {
				out = append(out, kinds[kind][n])
			}
		}
		if len(out) == before {
			break
		}
	}
	return out, of
}

// errMute means that an address did not answer.
var errMute = errors.New("no answer")

// askAll asks for all, some at once, and tells what came back, and how many did not answer.
func (v *Visit) askAll(ctx context.Context, all []wanted) (seen []Seen, mute int, err error) {
	var mu sync.Mutex
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(together)
	for _, w := range all {
		group.Go(func() error {
			comes, err := v.comesBack(ctx, w)
			mu.Lock()
			defer mu.Unlock()
			switch {
			case errors.Is(err, errMute):
				mute++
				return nil
			case err == nil && comes:
				seen = append(seen, Seen{v.kindOf(w), w.part, w.name})
			}
			return err
		})
	}
	err = group.Wait()
	return seen, mute, err
}

// comesBack says whether a stranger gets what is wanted.
func (v *Visit) comesBack(ctx context.Context, w wanted) (bool, error) {
	page, err := v.In.Visitor().Peek(ctx, v.Site.Place.URL+escaped(w.name), peeked)
	if ctx.Err() != nil {
		return false, ctx.Err()
	}
	if err != nil {
		return false, errMute
	}
	if page.Status != http.StatusOK && page.Status != http.StatusPartialContent {
		return false, nil
	}
	if strings.HasSuffix(w.name, "/") {
		return lists(page.Body, w.inside), nil
	}
	content, err := head(ctx, v.In.Files, path.Join(v.Site.Place.Folder, w.name), peeked)
	if err != nil {
		return false, err
	}
	if begins(page.Body, content) || leaks(page, nil, v.run.Secrets) {
		return true, nil
	}
	if runs(v.In.Runtimes(), w.name) || !strings.HasSuffix(page.URL.Path, "/"+w.name) {
		return false, nil // it ran, or another page came
	}
	return v.servedAsIs(ctx, w.name, page)
}

// servedAsIs says whether a file that may have changed since it was asked for is
// what came back: where a file that is not there is refused, it is.
func (v *Visit) servedAsIs(ctx context.Context, name string, page *web.Page) (bool, error) {
	token, err := v.Maker.Token(12)
	if err != nil {
		return false, err
	}
	control, err := v.In.Visitor().Peek(ctx, v.Site.Place.URL+escaped(path.Join(path.Dir(name), token+path.Ext(name))),
		peeked)
	if err != nil {
		return false, cmp.Or(ctx.Err(), errMute)
	}
	return control.Status >= 400 && len(page.Body) > 0, nil
}

// compared is how many bytes have to be the same.
const compared = 256

// begins says whether an answer begins as a file does.
func begins(body, content []byte) bool {
	body, content = bytes.TrimSpace(body), bytes.TrimSpace(content)
	n := min(len(content), compared)
	return n > 0 && len(body) >= n && bytes.Equal(body[:n], content[:n])
}

// lists says whether an answer shows the names of what is in a folder.
func lists(body []byte, inside []string) bool {
	seen := 0
	for _, name := range inside {
		if bytes.Contains(body, []byte(name)) || bytes.Contains(body, []byte(url.PathEscape(name))) {
			seen++
		}
	}
	return seen >= min(3, len(inside))
}

// escaped is a name as it stands in an address.
func escaped(name string) string {
	parts := strings.Split(name, "/")
	for i := range parts {
		parts[i] = url.PathEscape(parts[i])
	}
	return strings.Join(parts, "/")
}
