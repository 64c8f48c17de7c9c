package debian

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
)

// Recipe says how an app's archive is made of packages.
type Recipe struct {
	Take    map[string]string // what to take, by its place in the packages: where it comes to be, "." for the top
	Without []string          // patterns of what is not taken, by the names that it would have (doublestar)
	Put     map[string]string // files of the archive's own
	Change  []Change          // what a package fixed and a hosting account does not have
}

// Change replaces a text in a file of the archive.
type Change struct {
	File, From, To string
}

// largestFile is how large a file of a package may be, and largestWhole how much is
// taken in all.
const (
	largestFile  = 256 << 20
	largestWhole = 2 << 30
	mostLinks    = 32 // links that lead to links
)

// item is what a package has at a place.
type item struct {
	dir, runs bool
	link      string // where it leads to, from the root; "" for none
	at, size  int64  // of its content, in the packages' spool
}

// packed is what packages have, together.
type packed struct {
	spool *os.File
	end   int64
	items map[string]item // by their names from the root, without a slash before

	dangling map[string]string // gathers links that lead to none of the packages, where it is not nil
}

// Make writes an app's archive (POSIX.1-1988 ustar, not compressed) from packages'
// files: the same bytes wherever it is made.
func Make(r Recipe, debs []string, to io.Writer) error {
	p, err := openAll(debs)
	if err != nil {
		return err
	}
	defer p.close()
	chosen, err := p.choose(r)
	if err != nil {
		return err
	}
	return p.write(r, chosen, to)
}

// openAll reads packages.
func openAll(debs []string) (*packed, error) {
	spool, err := os.CreateTemp("", "tivset-packages-")
	if err != nil {
		return nil, err
	}
	p := &packed{spool: spool, items: map[string]item{}}
	for _, name := range debs {
		if err := p.read(name); err != nil {
			p.close()
			return nil, fmt.Errorf("read the package %s: %w", path.Base(name), err)
		}
	}
	return p, nil
}

func (p *packed) close() {
	_ = p.spool.Close()
	_ = os.Remove(p.spool.Name())
}

// Contents is what packages have, for who writes a recipe.
type Contents struct {
	Folders  []string          // from the root
	Depends  []string          // packages that the first one names as needed or recommended
	Dangling map[string]string // with a recipe: what would be taken, but leads to nothing that is there

	Summary, Home, Licence string // as the first package says them
}

// Look tells what packages have.
func Look(r Recipe, debs []string) (*Contents, error) {
	p, err := openAll(debs)
	if err != nil {
		return nil, err
	}
	defer p.close()
	c := &Contents{}
	for name, it := range p.items {
		if it.dir {
			c.Folders = append(c.Folders, name)
		}
	}
	slices.Sort(c.Folders)
	p.dangling = map[string]string{}
	if _, err := p.choose(r); err != nil {
		return nil, err
	}
	c.Dangling = p.dangling
	d, err := openDeb(debs[0])
	if err != nil {
		return nil, err
	}
	defer d.close()
	c.Summary, _, _ = strings.Cut(d.fields["Description"], "\n")
	c.Home, c.Licence = d.fields["Homepage"], p.licence(d.fields["Package"])
	for _, list := range []string{d.fields["Depends"], d.fields["Recommends"]} {
		c.Depends = append(c.Depends, relations(list)...)
	}
	return c, nil
}

var licenceLine = regexp.MustCompile(`(?m)^License:[ \t]*(\S+)`)

// licence reads what a package's copyright file says of the app, as far as it is written
// for programs to read (Debian's “Machine-readable debian/copyright file”).
func (p *packed) licence(name string) string {
	it, there := p.items["usr/share/doc/"+name+"/copyright"]
	if !there || it.size > 1<<20 {
		return ""
	}
	text := make([]byte, it.size)
	if _, err := p.spool.ReadAt(text, it.at); err != nil {
		return ""
	}
	m := licenceLine.FindSubmatch(text)
	if m == nil {
		return ""
	}
	return string(m[1])
}

// relations lists the packages of a field of relations (Debian policy, 7.1).
func relations(field string) (out []string) {
	for _, one := range strings.FieldsFunc(field, func(r rune) bool { return r == ',' || r == '|' }) {
		if words := strings.Fields(one); len(words) > 0 {
			out = append(out, words[0])
		}
	}
	return out
}

// read takes in what a package has.
func (p *packed) read(name string) error {
	d, err := openDeb(name)
	if err != nil {
		return err
	}
	defer d.close()
	for {
		h, err := d.data.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		full := path.Clean(strings.TrimPrefix(strings.TrimPrefix(h.Name, "."), "/"))
		if full == "." {
			continue
		}
		if !fs.ValidPath(full) {
			return fmt.Errorf("%q leads out of it", h.Name)
		}
		i := item{runs: h.Mode&0o100 != 0, size: h.Size}
		switch h.Typeflag {
		case tar.TypeDir:
			i.dir = true
		case tar.TypeSymlink:
			i.link = rooted(full, h.Linkname)
		case tar.TypeLink:
			i.link = path.Clean(strings.TrimPrefix(strings.TrimPrefix(h.Linkname, "."), "/"))
		case tar.TypeReg:
			if h.Size > largestFile || p.end+h.Size > largestWhole {
				return fmt.Errorf("%s is too large", full)
			}
			i.at = p.end
			n, err := io.Copy(p.spool, d.data)
			if err != nil {
				return err
			}
			p.end += n
		default:
			return fmt.Errorf("%s is neither a file, a folder nor a link", full)
		}
		if was, there := p.items[full]; !there || !was.dir || !i.dir {
			p.items[full] = i
		}
	}
}

// rooted is where a link in a package leads to, from the root.
func rooted(at, to string) string {
	if !strings.HasPrefix(to, "/") {
		to = path.Join("/"+path.Dir(at), to)
	}
	return strings.TrimPrefix(path.Clean(to), "/")
}

// resolve follows links, also in the folders above.
func (p *packed) resolve(name string) (string, error) {
	for range mostLinks {
		moved := false
		for i := 0; i <= len(name); i++ {
			if i < len(name) && name[i] != '/' {
				continue
			}
			if it, there := p.items[name[:i]]; there && it.link != "" {
				name, moved = path.Join(it.link, strings.TrimPrefix(name[i:], "/")), true
				break
			}
		}
		if !moved {
			return name, nil
		}
	}
	return "", fmt.Errorf("the link %s goes round in a circle", name)
}

// choose lists what the recipe takes: names in the archive, and where each is.
func (p *packed) choose(r Recipe) (map[string]string, error) {
	out := map[string]string{}
	for _, from := range slices.Sorted(maps.Keys(r.Take)) {
		if err := p.take(r, path.Clean(from), path.Clean(r.Take[from]), out, 0); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (p *packed) take(r Recipe, from, to string, out map[string]string, depth int) error {
	if to != "." && without(r, to) {
		return nil
	}
	at, err := p.resolve(from)
	if err != nil {
		return err
	}
	it, there := p.items[at]
	switch {
	case !there && depth == 0 && at == from:
		return fmt.Errorf("take: the packages have nothing at %s", from)
	case !there && p.dangling != nil:
		p.dangling[to] = at
		return nil
	case !there:
		return fmt.Errorf("take: %s leads to %s, which none of the packages has; add the one that does to also, or the name "+
			"%s to without", from, at, to)
	case depth > 64:
		return fmt.Errorf("take: %s is too deep", from)
	case !it.dir:
		out[to] = at
		return nil
	}
	inside := p.inside(at)
	if len(inside) == 0 && to != "." {
		out[to+"/"] = at // for the app to write into
	}
	for _, name := range inside {
		if err := p.take(r, path.Join(from, name), path.Join(to, name), out, depth+1); err != nil {
			return err
		}
	}
	return nil
}

// inside lists the names in a folder.
func (p *packed) inside(dir string) (out []string) {
	for name := range p.items {
		if rest, below := strings.CutPrefix(name, dir+"/"); below && !strings.Contains(rest, "/") {
			out = append(out, rest)
		}
	}
	slices.Sort(out)
	return out
}

func without(r Recipe, name string) bool {
	return slices.ContainsFunc(r.Without, func(pattern string) bool {
		fits, err := doublestar.Match(pattern, name)
		return err == nil && fits
	})
}

// write writes the archive: sorted, of one time and of nobody.
func (p *packed) write(r Recipe, chosen map[string]string, to io.Writer) error {
	w := tar.NewWriter(to)
	done := map[int]bool{}
	names := maps.Clone(chosen)
	for name := range r.Put {
		names[name] = ""
		delete(names, path.Dir(name)+"/") // which is not empty then
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if own, is := r.Put[name]; is {
			if err := put(w, name, 0o644, []byte(own)); err != nil {
				return err
			}
			continue
		}
		it := p.items[chosen[name]]
		if it.dir {
			if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: name, Mode: 0o755,
				ModTime: time.Unix(0, 0).UTC()}); err != nil {
				return err
			}
			continue
		}
		text := make([]byte, it.size)
		if _, err := p.spool.ReadAt(text, it.at); err != nil {
			return err
		}
		for n, c := range r.Change {
			if fits, _ := doublestar.Match(c.File, name); fits && bytes.Contains(text, []byte(c.From)) {
				text, done[n] = bytes.ReplaceAll(text, []byte(c.From), []byte(c.To)), true
			}
		}
		mode := int64(0o644)
		if it.runs {
			mode = 0o755
		}
		if err := put(w, name, mode, text); err != nil {
			return err
		}
	}
	for n, c := range r.Change {
		if !done[n] {
			return fmt.Errorf("change: no file %s has the text %q; the package is another than the recipe was written for",
				c.File, c.From)
		}
	}
	return w.Close()
}

func put(w *tar.Writer, name string, mode int64, text []byte) error {
	if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: mode, Size: int64(len(text)),
		ModTime: time.Unix(0, 0).UTC()}); err != nil {
		return err
	}
	_, err := w.Write(text)
	return err
}
