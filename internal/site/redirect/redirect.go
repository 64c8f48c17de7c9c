// Package redirect leaves files at an address of an account that lead visitors to
// another one: to every page by the server's rules where it obeys them, and by a
// page in the place of each page of old where it does not.
package redirect

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"tivset/internal/hosting"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/web"
	"tivset/internal/records/ledger"
)

// most is how many bytes a file of ours can have.
const most = 64 << 10

// Pages lists, of a folder with an app, what visitors ask for: its pages, and the
// first pages of the folders in it, by their names below it. Skip is what belongs
// to others.
func Pages(ctx context.Context, in *hosting.Account, folder string, skip files.Others) ([]string, error) {
	inside, err := in.Files.List(ctx, folder)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, i := range inside {
		full := path.Join(folder, i.Name)
		switch {
		case skip.Has(full):
		case !i.IsDir():
			if i.Mode.IsRegular() && isPage(in, i.Name) {
				out = append(out, i.Name)
			}
		default:
			below, err := in.Files.List(ctx, full)
			if err != nil {
				return nil, err
			}
			for _, j := range below {
				if j.Mode.IsRegular() && isPage(in, j.Name) && strings.HasPrefix(j.Name, "index.") {
					out = append(out, path.Join(i.Name, j.Name))
				}
			}
		}
	}
	return out, nil
}

func isPage(in *hosting.Account, name string) bool {
	return page(in.Runtimes(), name, &ledger.Redirect{}) != ""
}

// Write has an address lead elsewhere: r says where, and in Files which pages were
// there. What others have put there meanwhile stays. It fills in what came of it:
// the files, the folders that were made, and how far it reaches, by asking.
func Write(ctx context.Context, in *hosting.Account, r *ledger.Redirect) error {
	made, err := files.MkdirAll(ctx, in.Files, r.Folder, 0o755)
	if err != nil {
		return err
	}
	if made != "" {
		r.FoldersMade = foldersFrom(r.Folder, made)
	}
	wanted := r.Files
	if len(wanted) == 0 {
		wanted = []string{"index.html"}
	}
	r.Files = nil
	for _, name := range wanted {
		if name == rules {
			continue
		}
		ours, err := put(ctx, in.Files, path.Join(r.Folder, name), page(in.Runtimes(), name, r))
		if err != nil {
			return err
		}
		if ours {
			r.Files = append(r.Files, name)
		}
	}
	return rule(ctx, in, r)
}

// rule adds the rules with which the server leads every address elsewhere, as far
// as it bears them, and asks the address how far it leads.
func rule(ctx context.Context, in *hosting.Account, r *ledger.Redirect) error {
	own, name := firsts(r.Files), path.Join(r.Folder, rules)
	others, err := besides(ctx, in, r, own)
	if err != nil {
		return err // a rule that spares nothing would take others' addresses too
	}
	for _, plain := range []bool{false, true} {
		ours, err := put(ctx, in.Files, name, ruleText(r, own, others, plain))
		if err != nil {
			return err
		}
		if !ours {
			break
		}
		if settled(ctx, in, r) && r.Covers == ledger.CoversAll {
			r.Files = append(r.Files, rules)
			return nil
		}
		if err := in.Files.Remove(ctx, name); err != nil {
			return err
		}
	}
	settled(ctx, in, r)
	return ctx.Err()
}

// settled asks the address how far it leads; whether it does at all.
func settled(ctx context.Context, in *hosting.Account, r *ledger.Redirect) bool {
	return in.Settled(ctx, func() error {
		if r.Covers = reach(ctx, in.Visitor(), r); r.Covers == ledger.CoversNothing {
			return errors.New("it does not lead there")
		}
		return nil
	}) == nil
}

// foldersFrom lists the folders from an inner one out to an outer one.
func foldersFrom(inner, outer string) (out []string) {
	for dir := inner; files.Within(dir, outer); dir = path.Dir(dir) {
		out = append(out, dir)
	}
	return out
}

// firsts are the names in a folder of files below it.
func firsts(names []string) (out []string) {
	for _, name := range names {
		first, _, _ := strings.Cut(name, "/")
		out = append(out, first)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// besides are the names of what lies in the redirect's folder and is not its own:
// those addresses are no old pages.
func besides(ctx context.Context, in *hosting.Account, r *ledger.Redirect, own []string) (out []string, err error) {
	inside, err := in.Files.List(ctx, r.Folder)
	for _, i := range inside {
		if i.Name != rules && !slices.Contains(own, i.Name) {
			out = append(out, i.Name)
		}
	}
	return out, err
}

// put writes a file, over one of ours; false where somebody else's is there.
func put(ctx context.Context, f files.FS, name, text string) (bool, error) {
	ours, err := Ours(ctx, f, name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil || !ours:
		return false, err
	default:
		if err := files.Drop(ctx, f, name); err != nil {
			return false, err
		}
	}
	if _, err := files.MkdirAll(ctx, f, path.Dir(name), 0o755); err != nil {
		if errors.Is(err, fs.ErrExist) {
			return false, nil
		}
		return false, err
	}
	err = files.Write(ctx, f, name, []byte(text), 0o644)
	if errors.Is(err, fs.ErrExist) {
		return false, nil
	}
	return err == nil, err
}

// Ours says whether a file is one that this package wrote; fs.ErrNotExist where
// none is.
func Ours(ctx context.Context, f files.FS, name string) (bool, error) {
	info, err := f.Stat(ctx, name)
	if err != nil || !info.Mode.IsRegular() || info.Size > most {
		return false, err
	}
	text, err := files.Read(ctx, f, name, most)
	return strings.Contains(string(text), sign), err
}

// reach asks the address.
func reach(ctx context.Context, v *web.Visitor, r *ledger.Redirect) string {
	if page, err := v.Get(ctx, r.To); err != nil || page.URL.String() == r.URL {
		return ledger.CoversNothing // in a circle, or nobody can tell
	}
	const deep = "tivset-asks/where-it-leads?and=that"
	if to, _, err := v.LeadsTo(ctx, r.URL+deep); err == nil && to == r.To+deep {
		return ledger.CoversAll
	}
	to, body, err := v.LeadsTo(ctx, r.URL)
	if err == nil && (to == r.To || to == "" && strings.Contains(string(body), sign)) {
		return ledger.CoversPages
	}
	return ledger.CoversNothing
}

// Drop takes a redirect's files away. What somebody has put in their place stays,
// and is named.
func Drop(ctx context.Context, in *hosting.Account, r ledger.Redirect) (stays []string, err error) {
	var folders []string
	for _, name := range r.Files {
		full := path.Join(r.Folder, name)
		ours, err := Ours(ctx, in.Files, full)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			continue
		case err != nil:
			return stays, err
		case !ours:
			stays = append(stays, full)
			continue
		}
		if err := in.Files.Remove(ctx, full); err != nil {
			return stays, err
		}
		if dir := path.Dir(full); dir != r.Folder {
			folders = append(folders, dir)
		}
	}
	return stays, files.DropEmpty(ctx, in.Files, append(folders, r.FoldersMade...)...)
}

// Says is how far a redirect reaches, in words.
func Says(r ledger.Redirect) string {
	switch {
	case r.Covers == ledger.CoversAll:
		return "every page"
	case r.Covers == ledger.CoversPages && len(r.Files) > 1:
		return fmt.Sprintf("its %d old pages", len(r.Files))
	case r.Covers == ledger.CoversPages:
		return "its old page"
	}
	return "nothing: it was asked, and does not lead there"
}
