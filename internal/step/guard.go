package step

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path"
	"slices"
	"strings"
	"time"

	"tivset/internal/app/archive"
	"tivset/internal/fault"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/runtime"
	"tivset/internal/hosting/web"
)

// Guard keeps visitors out of a site that is in place and not yet checked: its pages let in who brings the job's pass,
// and show all others the notice. So nobody writes into what may have to be put back.
type Guard struct {
	*Tools
	pass  web.Pass
	hash  string
	pages []string // that do something, below the site's folder
}

// guardSign is in each page that is guarded, by which it is known again.
const guardSign = "tivset-guard"

// passCookie is the cookie that the pass is.
const passCookie = "tivset_pass"

// Bounds of what is looked at for pages to guard: beyond them the site is checked open.
const (
	mostPages   = 5000
	longestPage = 1 << 20 // bytes
)

// GuardOf makes a guard for the job's site at its place.
func GuardOf(t *Tools) (*Guard, error) {
	secret, err := t.Maker.Token(40)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256([]byte(secret))
	return &Guard{Tools: t, hash: hex.EncodeToString(sum[:]),
		pass: web.Pass{Below: t.Site.Place.URL, Name: passCookie, Secret: secret}}, nil
}

// Bring gives a context whose visits bring the pass.
func (g *Guard) Bring(ctx context.Context) context.Context {
	if g == nil || len(g.pages) == 0 {
		return ctx
	}
	return web.Bringing(ctx, g.pass)
}

// Look makes the step that finds the pages, in a folder where the app's files are, while the site is open still. Apart
// are parts that other files take the place of.
func (g *Guard) Look(folder string, apart ...string) *FuncStep {
	return &FuncStep{Label: "Look which pages to keep closed until the check", Work: func(ctx context.Context) error {
		others, err := g.Book.Foreign(ctx, g.Site)
		if err != nil {
			return err
		}
		all, err := files.Tree(ctx, g.In.Files, folder, func(full string) bool {
			return archive.Skipped(strings.TrimPrefix(full, folder+"/"), g.left(apart)) || others.Has(full)
		})
		if err != nil {
			return err
		}
		all = slices.DeleteFunc(all, func(f files.Found) bool {
			return !f.Mode.IsRegular() || f.Size > longestPage || g.In.Runtimes().Of(f.Path) == nil
		})
		if len(all) > mostPages {
			return nil
		}
		n := 0
		return files.ReadAll(ctx, g.In.Files, all, func(f files.Found, content io.Reader) error {
			n++
			g.Count(int64(n), int64(len(all)), "pages")
			text, err := io.ReadAll(content)
			name := strings.TrimPrefix(f.Path, folder+"/")
			if _, is := g.guarded(f.Path, string(text)); is && !slices.Contains(g.pages, name) {
				g.pages = append(g.pages, name)
			}
			return err
		})
	}}
}

// left lists what is never guarded: what the app writes, what the kit says is to be as it is, and what comes from
// elsewhere.
func (g *Guard) left(apart []string) []string {
	p := g.Site.Kit.Place
	return slices.Concat(p.Writes(), p.Untouched, apart)
}

func (g *Guard) guarded(name, page string) (string, bool) {
	return g.In.Runtimes().Of(name).Guarded(page, runtime.Guard{Cookie: g.pass.Name, Hash: g.hash, Sign: guardSign,
		RetryAfter: retryAfter, Text: noticePage})
}

// Cover makes the step that guards the pages, which are at these names, before they are put in place.
func (g *Guard) Cover(at func(page string) string) *CoverPages {
	return &CoverPages{Tools: g.Tools, guard: g, at: at, Clean: path.Join(pagesOf(g.Tools), "clean")}
}

// pagesOf is where a job keeps pages that it guards.
func pagesOf(t *Tools) string { return t.Store().Stage(t.Job + "-pages") }

// In gives where pages are that are in one folder.
func In(folder string) func(page string) string {
	return func(page string) string { return path.Join(folder, page) }
}

// Uncover makes the step that opens the site: the pages as they are take the place of the guarded ones.
func (g *Guard) Uncover() *UncoverPages {
	return &UncoverPages{Tools: g.Tools, guard: g, Folder: g.Site.Place.Folder, URL: g.Site.Place.URL,
		Clean: path.Join(pagesOf(g.Tools), "clean"), Guarded: path.Join(pagesOf(g.Tools), "guarded")}
}

// holds looks whether visitors are kept out, and tells the owner where they are not.
func (g *Guard) holds(ctx context.Context) {
	if g == nil {
		return
	}
	if len(g.pages) == 0 {
		g.Result.Warn("visitors could come in while the site was checked: no page of it could be kept closed")
		return
	}
	err := g.In.Settled(ctx, func() error {
		// A server may show a page of its own in the notice's place.
		if notice, status, err := g.shows(ctx); err != nil || notice || status == http.StatusServiceUnavailable {
			return err
		}
		return errors.New("open")
	})
	if err != nil && ctx.Err() == nil {
		g.Result.Warn("visitors could come in while the site was checked: its address did not show them the notice")
	}
}

// shows says whether the site's address shows visitors the notice, and with which status it answers.
func (g *Guard) shows(ctx context.Context) (notice bool, status int, err error) {
	page, err := g.In.Visitor().Get(ctx, g.Site.Place.URL+"?tivset="+g.Job)
	if err != nil {
		return false, 0, err
	}
	return strings.Contains(string(page.Body), noticeSign), page.Status, nil
}

// CoverPages puts a guarded page in the place of each, which is kept beside it.
type CoverPages struct {
	*Tools `json:"-"`
	Clean  string       `json:"clean"` // where pages are kept as they are
	Moves  []files.Move `json:"moves"` // of the pages to there
	// they arrive for the first time: where that is undone they are gone, and what is kept of them goes too
	Arrives bool `json:"arrives,omitempty"`

	guard *Guard
	at    func(page string) string
}

// Kind and Title implement job.Step.
func (*CoverPages) Kind() string  { return "cover-pages" }
func (*CoverPages) Title() string { return "Keep it closed to visitors until it is checked" }

// Prepare lists the pages that are there.
func (c *CoverPages) Prepare(ctx context.Context) error {
	c.Moves = nil
	for _, page := range c.guard.pages {
		there, err := files.Exists(ctx, c.In.Files, c.at(page))
		if err != nil {
			return err
		}
		if there {
			c.Moves = append(c.Moves, files.Move{From: c.at(page), To: path.Join(c.Clean, page)})
		}
	}
	return nil
}

// Do guards them.
func (c *CoverPages) Do(ctx context.Context) error {
	for i, m := range c.Moves {
		if _, err := files.MkdirAll(ctx, c.In.Files, path.Dir(m.To), 0o700); err != nil {
			return err
		}
		if err := c.cover(ctx, m); err != nil {
			return err
		}
		c.Count(int64(i+1), int64(len(c.Moves)), "pages")
	}
	return nil
}

func (c *CoverPages) cover(ctx context.Context, m files.Move) error {
	info, err := c.In.Files.Stat(ctx, m.From)
	if err != nil || !info.Mode.IsRegular() {
		return err
	}
	text, err := files.Read(ctx, c.In.Files, m.From, longestPage)
	if err != nil {
		return err
	}
	page, is := c.guard.guarded(m.From, string(text))
	if !is {
		return nil
	}
	// A code cache knows a page again by the second of its time.
	cached := c.In.Runtimes().Of(m.From).CodeCache() > 0
	if age := c.Now().Sub(info.Modified); cached && age < time.Second {
		c.In.Pause(ctx, 1100*time.Millisecond)
	}
	// It comes whole: of one that is cut off half way nobody would know whose it is.
	whole := path.Join(c.fresh(), strings.TrimPrefix(m.To, c.Clean+"/"))
	if _, err := files.MkdirAll(ctx, c.In.Files, path.Dir(whole), 0o700); err != nil {
		return err
	}
	if err := files.Write(ctx, c.In.Files, whole, []byte(page), info.Mode.Perm()); err != nil {
		return err
	}
	if err := c.In.Files.Rename(ctx, m.From, m.To); err != nil {
		return err
	}
	return c.In.Files.Rename(ctx, whole, m.From)
}

// fresh is where guarded pages are written, beside the pages as they are.
func (c *CoverPages) fresh() string { return c.Clean + "-fresh" }

// Undo puts the pages back as they were.
func (c *CoverPages) Undo(ctx context.Context) error {
	for _, m := range slices.Backward(c.Moves) {
		kept, err := files.Exists(ctx, c.In.Files, m.To)
		if err != nil {
			return err
		}
		if !kept {
			continue
		}
		switch ours, err := c.isGuarded(ctx, m.From); {
		case errors.Is(err, fs.ErrNotExist) && c.Arrives:
			if err := c.In.Files.Remove(ctx, m.To); err != nil {
				return err
			}
			continue
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return err
		case !ours:
			return cameBack(m.From, m.To)
		default:
			if err := c.In.Files.Remove(ctx, m.From); err != nil {
				return err
			}
		}
		if err := c.In.Files.Rename(ctx, m.To, m.From); err != nil {
			return err
		}
	}
	if err := files.RemoveAll(ctx, c.In.Files, c.fresh()); err != nil {
		return err
	}
	return c.dropFolders(ctx, c.Clean)
}

// isGuarded says whether a page is one that a guard wrote; fs.ErrNotExist where none is.
func (t *Tools) isGuarded(ctx context.Context, name string) (bool, error) {
	info, err := t.In.Files.Stat(ctx, name)
	if err != nil || !info.Mode.IsRegular() || info.Size > 2*longestPage {
		return false, err
	}
	text, err := files.Read(ctx, t.In.Files, name, 2*longestPage)
	return strings.Contains(string(text), guardSign), err
}

// dropFolders takes folders of the store away whose files are gone.
func (t *Tools) dropFolders(ctx context.Context, top string) error {
	all, err := files.Tree(ctx, t.In.Files, top, nil)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	var folders []string
	for _, f := range slices.Backward(all) {
		if f.IsDir() {
			folders = append(folders, f.Path)
		}
	}
	return files.DropEmpty(ctx, t.In.Files, append(folders, top, path.Dir(top), t.Store().Stages(), t.Store().Top())...)
}

// UncoverPages opens a site that was checked.
type UncoverPages struct {
	*Tools  `json:"-"`
	Folder  string   `json:"folder"`  // the site's
	URL     string   `json:"url"`     // its address
	Clean   string   `json:"clean"`   // where the pages are as they are
	Guarded string   `json:"guarded"` // where the guarded ones go
	Pages   []string `json:"pages"`
	Flusher string   `json:"flusher,omitempty"` // the page of ours that empties the code cache, below Folder

	guard *Guard
}

// Kind and Title implement job.Step.
func (*UncoverPages) Kind() string  { return "uncover-pages" }
func (*UncoverPages) Title() string { return "Open it to visitors" }

// Prepare lists the pages that are guarded; what somebody put in the place of one stays.
func (u *UncoverPages) Prepare(ctx context.Context) error {
	u.Pages = nil
	for _, page := range u.guard.pages {
		kept, err := files.Exists(ctx, u.In.Files, path.Join(u.Clean, page))
		if err != nil {
			return err
		}
		if !kept {
			continue
		}
		switch ours, err := u.isGuarded(ctx, path.Join(u.Folder, page)); {
		case err != nil && !errors.Is(err, fs.ErrNotExist):
			return err
		case ours:
			u.Pages = append(u.Pages, page)
		}
	}
	if len(u.Pages) == 0 {
		return nil
	}
	ending := u.In.Runtimes().Of(u.Pages[0]).Pages()[0]
	token, err := u.Maker.Token(20)
	u.Flusher = emptierName + token + ending
	return err
}

// Do exchanges the pages, and sees that visitors are let in.
func (u *UncoverPages) Do(ctx context.Context) error {
	if len(u.Pages) == 0 {
		return nil
	}
	whole := context.WithoutCancel(ctx) // begun, it is done as a whole
	for i, page := range u.Pages {
		if _, err := files.MkdirAll(whole, u.In.Files, path.Join(u.Guarded, path.Dir(page)), 0o700); err != nil {
			return err
		}
		for _, m := range u.exchange(page) {
			if err := u.In.Files.Rename(whole, m.From, m.To); err != nil {
				return err
			}
		}
		u.Count(int64(i+1), int64(len(u.Pages)), "pages")
	}
	if err := u.emptied(whole); err != nil {
		return err
	}
	return u.In.Settled(ctx, func() error {
		shown, _, err := u.guard.shows(ctx)
		if err == nil && shown {
			err = fault.New(fault.Failed, "the site cannot be opened: its address still shows the notice", u.URL,
				"Switch off what keeps its pages in front of it (a cache, a proxy, PHP's code cache) while it is worked on.")
		}
		return err
	})
}

// exchange are the moves that put a page in the place of its guarded one.
func (u *UncoverPages) exchange(page string) []files.Move {
	at := path.Join(u.Folder, page)
	return []files.Move{{From: at, To: path.Join(u.Guarded, page)}, {From: path.Join(u.Clean, page), To: at}}
}

// emptied has the code cache forget the guarded pages.
func (u *UncoverPages) emptied(ctx context.Context) error {
	r := u.In.Runtimes().Of(u.Flusher)
	text, _ := r.Emptier(noticeSign)
	if text == "" {
		return nil
	}
	name := path.Join(u.Folder, u.Flusher)
	if err := files.Write(ctx, u.In.Files, name, []byte(text), 0o644); err != nil {
		return err
	}
	u.flush(ctx, u.URL+u.Flusher)
	return u.In.Files.Remove(ctx, name)
}

// Undo puts the guarded pages back in place: what is undone next is undone while nobody is let in.
func (u *UncoverPages) Undo(ctx context.Context) error {
	if u.Flusher != "" {
		if err := files.Drop(ctx, u.In.Files, path.Join(u.Folder, u.Flusher)); err != nil {
			return fmt.Errorf("take away %s: %w", u.Flusher, err)
		}
	}
	for _, page := range slices.Backward(u.Pages) {
		if err := u.moveBack(ctx, u.exchange(page)); err != nil {
			return err
		}
	}
	return u.dropFolders(ctx, u.Guarded)
}
