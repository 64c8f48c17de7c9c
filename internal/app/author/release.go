package author

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"tivset/internal/app/archive"
	"tivset/internal/app/catalogue"
	"tivset/internal/app/draft"
	"tivset/internal/app/kit"
	"tivset/internal/app/release"
	"tivset/internal/app/version"
	"tivset/internal/atomicfile"
	"tivset/internal/fault"
)

// Adding is a release to add to a kit.
type Adding struct {
	Dir     string // the kit's folder
	Release string
	Archive string // a file, or an https address
}

// Added is what came of it.
type Added struct {
	Release  string   `json:"release"`
	After    string   `json:"after"` // the newest before
	Date     string   `json:"date"`
	Level    string   `json:"level"`
	From     string   `json:"from"`     // where the kit says that the archive is, or its name
	Look     []string `json:"look"`     // what has changed, and wants its author's eye
	Compared bool     `json:"compared"` // whether the archive of the release before could be had
}

// Release adds a release to a kit, before the others: with its checksum, date and top
// folder, the needs of the one before, and what changed against that. The kit is as it was
// when anything is wrong.
func (a *Author) Release(ctx context.Context, r Adding) (*Added, error) {
	k, err := kit.Read(catalogue.Folder("", r.Dir).Files, r.Dir)
	if err != nil {
		return nil, err
	}
	if k.FollowsUpstream() {
		return nil, fault.New(fault.Usage, "the releases of "+k.Title+" come by themselves", r.Dir,
			"There is nothing to add.")
	}
	before := k.Newest()
	if !version.Newer(r.Release, before.Release) {
		return nil, fault.New(fault.Usage,
			r.Release+" is not newer than "+before.Release+", the newest that the kit has", r.Dir,
			"Name a newer release; others are written into kit.yaml by hand.")
	}
	scratch, err := os.MkdirTemp("", "tivset-release-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(scratch)
	file := r.Archive
	if strings.HasPrefix(file, "https://") {
		if file, err = a.download(ctx, scratch, file); err != nil {
			return nil, err
		}
	}
	of, err := inspect(ctx, file)
	if err != nil {
		return nil, err
	}
	out := &Added{
		Release: r.Release,
		After:   before.Release,
		Date:    of.date,
		Level:   version.Level(before.Release, r.Release),
	}
	if out.Date == "" {
		out.Date = a.Now().Format(time.DateOnly)
	}
	if err := a.compare(ctx, scratch, k, file, of.top, out); err != nil {
		return nil, err
	}
	line, own := place(before, r, of, out)
	return out, a.insert(r, k, out, line, file, own)
}

// compare says what changed against the release before, and whether the archive knows
// itself as the release that it is.
func (a *Author) compare(ctx context.Context, scratch string, k *kit.Kit, file, top string, out *Added) error {
	now, err := unpacked(ctx, filepath.Join(scratch, "now"), file, top)
	if err != nil {
		return err
	}
	if k.Known != nil {
		out.Look = append(out.Look, marked(k, now, out.Release)...)
	}
	was, err := a.Archives.Fetch(ctx, catalogue.Entry{Kit: k}, k.Newest(), release.Given{})
	if err != nil {
		return ctx.Err() // and Compared says that it was not
	}
	before, err := unpacked(ctx, filepath.Join(scratch, "before"), was, k.Newest().Archive.Top)
	if err != nil {
		return err
	}
	out.Compared = true
	out.Look = append(out.Look, draft.Differences(before, now)...)
	return nil
}

func marked(k *kit.Kit, app *draft.App, wanted string) []string {
	found, err := app.Recognised(k.Known.File, k.Known.Pattern)
	switch {
	case err != nil:
		return []string{"recognise: " + err.Error()}
	case found != wanted:
		return []string{fmt.Sprintf("recognise: by its marks it is %s", found)}
	}
	return nil
}

func unpacked(ctx context.Context, folder, name, top string) (*draft.App, error) {
	if err := os.Mkdir(folder, 0o700); err != nil {
		return nil, err
	}
	file, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	if err := archive.Extract(ctx, file, top, archive.DefaultLimits, folder); err != nil {
		return nil, err
	}
	return draft.Open(ctx, os.DirFS(folder))
}

// place says where the kit has the archive from: where the one before came from, with
// the other number; else the file becomes one of the kit's own.
func place(before *kit.Release, r Adding, of inspected, out *Added) (line string, own bool) {
	next := func(text string) string { return strings.ReplaceAll(text, before.Release, r.Release) }
	was := before.Archive
	switch {
	case strings.HasPrefix(r.Archive, "https://"):
		out.From = r.Archive
	case strings.HasPrefix(was.From, "https://") && next(was.From) != was.From:
		out.From = next(was.From)
		out.Look = append(out.Look, "archive: nobody looked whether "+out.From+" has that archive")
	case was.Name != "":
		out.From = filepath.Base(r.Archive)
		line := fmt.Sprintf("{name: %s, fetch: %s, sha256: %s", draft.YAML(out.From), draft.YAML(next(was.Fetch)), of.sum)
		if of.top != "" {
			line += ", top: " + draft.YAML(of.top)
		}
		return line + "}", false
	default:
		out.From, own = filepath.Base(r.Archive), true
	}
	return of.line(out.From), own
}

// insert writes the release into kit.yaml, once it is seen that the kit can be read so.
func (a *Author) insert(r Adding, k *kit.Kit, out *Added, archive, file string, own bool) error {
	name := filepath.Join(r.Dir, "kit.yaml")
	text, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	next, err := inserted(text, out, archive)
	if err != nil {
		return err
	}
	if own {
		to := filepath.Join(r.Dir, out.From)
		if err := copyFile(file, to); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		} else if err == nil {
			defer func() {
				if now, err := os.ReadFile(name); err != nil || !bytes.Equal(now, next) {
					_ = os.Remove(to)
				}
			}()
		}
	}
	if _, err := kit.Read(changed{k.Files(), next}, r.Dir); err != nil {
		return err
	}
	return atomicfile.Write(name, next, 0o644)
}

// changed is a kit's folder with another kit.yaml.
type changed struct {
	fs.FS
	text []byte
}

// Open implements fs.FS.
func (c changed) Open(name string) (fs.File, error) {
	if name != "kit.yaml" {
		return c.FS.Open(name)
	}
	info, err := fs.Stat(c.FS, name)
	return &opened{bytes.NewReader(c.text), info}, err
}

type opened struct {
	*bytes.Reader
	info fs.FileInfo
}

func (o *opened) Stat() (fs.FileInfo, error) { return o.info, nil }
func (o *opened) Close() error               { return nil }

// inserted puts a release before the first one of a kit's text; all else stays as its
// author wrote it.
func inserted(text []byte, out *Added, archive string) ([]byte, error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil {
		return nil, err
	}
	all := value(doc.Content[0], "releases")
	lines := strings.SplitAfter(string(text), "\n")
	odd := fault.New(fault.Usage, "kit.yaml lists its releases in a way that nothing can be put into", "releases",
		"Write each release as “- release: …”, on lines of its own.")
	if all == nil || len(all.Content) == 0 || all.Style&yaml.FlowStyle != 0 {
		return nil, odd
	}
	at := all.Content[0].Line - 1
	indent, rest, dash := strings.Cut(lines[at], "-")
	if !dash || strings.TrimSpace(indent) != "" {
		return nil, odd
	}
	needs := ""
	if n := value(all.Content[0], "needs"); n != nil {
		flow(n)
		b, err := yaml.Marshal(n)
		if err != nil {
			return nil, err
		}
		needs = strings.TrimSpace(string(b))
	}
	gap := strings.Repeat(" ", max(1, len(rest)-len(strings.TrimLeft(rest, " "))))
	inner := indent + " " + gap
	made := fmt.Sprintf("%s-%srelease: %s\n%sdate: %s\n%slevel: %s\n%sarchive: %s\n", indent, gap,
		draft.YAML(out.Release), inner, out.Date, inner, out.Level, inner, archive)
	if needs != "" {
		made += inner + "needs: " + needs + "\n"
	}
	return []byte(strings.Join(lines[:at], "") + made + strings.Join(lines[at:], "")), nil
}

// flow has a node written on one line, without comments.
func flow(n *yaml.Node) {
	n.Style |= yaml.FlowStyle
	n.HeadComment, n.LineComment, n.FootComment = "", "", ""
	if n.Kind == yaml.ScalarNode {
		n.Style &^= yaml.FlowStyle
	}
	for _, c := range n.Content {
		flow(c)
	}
}

func value(n *yaml.Node, key string) *yaml.Node {
	for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i+1]
		}
	}
	return nil
}
