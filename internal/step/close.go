package step

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/http"
	"path"
	"slices"
	"strings"
	"time"

	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
)

// Close closes a site while a job needs stillness: its own files and folders
// leave the web for the store, one rename each, and a notice comes in their
// place, which answers everybody with 503 and Retry-After (RFC 9110, 15.6.4 and
// 10.2.3). What pages could be run first leaves first, the configuration after
// all that reads it, and a server's rules last. Its undo opens the site again.
type Close struct {
	*Tools          `json:"-"`
	Account         string       `json:"account"` // in which the site is
	Folder          string       `json:"folder"`  // the site's
	ParkedDir       string       `json:"shut"`    // where its files are while it is closed, as below Folder
	Moves           []files.Move `json:"moves"`   // what leaves
	URL             string       `json:"url"`
	MaintenancePage `json:"board"`

	Kit     *kit.Kit                                `json:"-"`
	Parts   func(context.Context) ([]string, error) `json:"-"` // what leaves
	Lenient bool                                    `json:"-"` // a domain that does not answer is no reason to stop
	Coming  string                                  `json:"-"` // a folder that comes to be meanwhile, and is open
	written map[string]string                       // the notice's files
}

// MaintenancePage is where a notice is while the site is open.
type MaintenancePage struct {
	At    string   `json:"at"`
	Files []string `json:"files"` // below it, and below the site's folder while that is closed
}

// apart gives the notice's pages without, and by itself, the one that empties
// PHP's code cache.
func (b MaintenancePage) apart() (pages, flusher []string) {
	for _, name := range b.Files {
		if strings.HasPrefix(name, emptierName) && !strings.Contains(name, "/") {
			flusher = append(flusher, name)
		} else {
			pages = append(pages, name)
		}
	}
	return pages, flusher
}

// boardOf is where a job's notice is while the site is open.
func boardOf(t *Tools) string { return t.Store().Stage(t.Job + "-closed") }

// entries are the names in the site's folder that the notice takes.
func (b MaintenancePage) entries() []string {
	var out []string
	for _, name := range b.Files {
		first, _, _ := strings.Cut(name, "/")
		out = append(out, first)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// CloseOf closes a site whose own parts leave: the entries that its record names
// and what else its folder holds that is nobody else's. At a document root, where
// strangers to the site may lie beside it, only the former.
func CloseOf(t *Tools, s *site.Site, x ledger.Site) *Close {
	c := &Close{Tools: t, Account: x.Account, Folder: x.Folder, ParkedDir: path.Join(t.Store().Aside(t.Job), "live"),
		MaintenancePage: MaintenancePage{At: boardOf(t)}, URL: x.URL, Kit: s.Kit.Kit}
	c.Parts = func(ctx context.Context) ([]string, error) {
		others, err := t.Book.Foreign(ctx, s)
		if err != nil {
			return nil, err
		}
		if !slices.ContainsFunc(s.In.Domains, atRoot(x.Folder)) {
			return files.OwnedParts(ctx, t.In.Files, x.Folder, others)
		}
		var out []string
		for _, name := range x.Entries {
			full := path.Join(x.Folder, name)
			there, err := files.Exists(ctx, t.In.Files, full)
			if err != nil {
				return nil, err
			}
			if !there {
				continue
			}
			parts, err := files.Besides(ctx, t.In.Files, full, others)
			if err != nil {
				return nil, err
			}
			out = append(out, parts...)
		}
		return out, nil
	}
	return c
}

// Kind and Title implement job.Step.
func (*Close) Kind() string  { return "close" }
func (*Close) Title() string { return "Close the site" }

// Prepare lists what leaves, and what the notice consists of.
func (c *Close) Prepare(ctx context.Context) error {
	parts, err := c.Parts(ctx)
	if err != nil {
		return err
	}
	c.Moves = files.Leaving(parts, c.Folder, c.ParkedDir)
	slices.Reverse(inOrder(c.Kit, c.Folder, c.Moves, func(m files.Move) string { return m.From }))
	if c.written, err = c.notices(ctx, parts); err != nil {
		return err
	}
	c.MaintenancePage.Files = slices.Sorted(maps.Keys(c.written))
	return nil
}

// Do puts the notice in the site's place, and sees that nothing but it answers.
func (c *Close) Do(ctx context.Context) error {
	if c.flusher() != "" {
		// PHP knows a file again by the second of its time: the notice's must not be
		// that of a page which was made ready just now.
		c.In.Pause(ctx, 1100*time.Millisecond)
	}
	for name, text := range c.written {
		full := path.Join(c.MaintenancePage.At, name)
		if _, err := files.MkdirAll(ctx, c.In.Files, path.Dir(full), 0o755); err != nil {
			return err
		}
		if err := files.Write(ctx, c.In.Files, full, []byte(text), 0o644); err != nil {
			return err
		}
	}
	if len(c.Moves) > 0 {
		if _, err := files.MkdirAll(ctx, c.In.Files, path.Dir(c.ParkedDir), 0o700); err != nil {
			return err
		}
	}
	for _, m := range c.Moves {
		if _, err := files.MkdirAll(ctx, c.In.Files, path.Dir(m.To), 0o755); err != nil {
			return err
		}
	}
	// Begun, it is done as a whole: an interrupt waits.
	whole := context.WithoutCancel(ctx)
	runs, last := c.halves()
	var pages, ruling []files.Move
	for _, m := range c.arrivals() {
		if base := path.Base(m.To); base == rules || base == kit.UserINI {
			ruling = append(ruling, m)
		} else {
			pages = append(pages, m)
		}
	}
	if err := c.move(whole, paired(runs, pages, true), 0); err != nil {
		return err
	}
	if len(c.Moves) > 0 {
		if err := c.look(ctx); err != nil {
			return err
		}
	}
	if err := c.move(whole, paired(last, ruling, true), len(runs)+len(pages)); err != nil {
		return err
	}
	return c.borne(whole)
}

// halves are what leaves first, and what leaves once no code that was cached runs
// any more: an app that is run without its configuration offers its set-up.
func (c *Close) halves() (runs, last []files.Move) {
	for _, m := range c.Moves {
		if rank(c.Kit, c.Folder, m.From) <= configRank {
			last = append(last, m)
		} else {
			runs = append(runs, m)
		}
	}
	return runs, last
}

func (c *Close) move(ctx context.Context, moves []files.Move, done int) error {
	for n, m := range moves {
		if err := c.In.Files.Rename(ctx, m.From, m.To); err != nil {
			return err
		}
		c.Count(int64(done+n+1), int64(len(c.Moves)+len(c.MaintenancePage.entries())), "entries")
	}
	return nil
}

// Reopened orders moves so that a closed site answers again with what arrives.
// What empties PHP's code cache leaves last.
func (c *Close) Reopened(arriving []files.Move) []files.Move {
	arriving = inOrder(c.Kit, c.Folder, arriving, func(m files.Move) string { return m.To })
	var pages, flusher []files.Move
	for _, m := range c.Departures() {
		if path.Base(m.From) == c.flusher() {
			flusher = append(flusher, m)
		} else {
			pages = append(pages, m)
		}
	}
	return append(paired(arriving, pages, false), flusher...)
}

// held says of moves that Reopened gave which address empties PHP's code cache,
// and how many of them, the first, bring what code needs. "" where no such page
// is.
func (c *Close) held(moves []files.Move) (flusher string, n int) {
	if c.flusher() == "" {
		return "", 0
	}
	for i, m := range moves {
		if rank(c.Kit, c.Folder, m.To) <= configRank && files.Within(m.To, c.Folder) {
			n = i + 1
		}
	}
	return c.URL + c.flusher(), n
}

// paired puts the moves of a notice beside those of what has the same name in
// the site's folder, so that one of the two always answers: after what leaves,
// before what arrives. Those without such a name go last, or first.
func paired(moves, notice []files.Move, leaving bool) []files.Move {
	here := func(m files.Move) string { return m.To } // the name in the site's folder
	there := func(m files.Move) string { return m.From }
	if leaving {
		here, there = there, here
	}
	var with, alone []files.Move
	for _, other := range notice {
		if !slices.ContainsFunc(moves, func(m files.Move) bool { return here(m) == there(other) }) {
			alone = append(alone, other)
		}
	}
	for _, m := range moves {
		i := slices.IndexFunc(notice, func(other files.Move) bool { return here(m) == there(other) })
		switch {
		case i < 0:
			with = append(with, m)
		case leaving:
			with = append(with, m, notice[i])
		default:
			with = append(with, notice[i], m)
		}
	}
	if leaving {
		return append(with, alone...)
	}
	return append(alone, with...)
}

// arrivals are the moves that bring the notice in.
func (c *Close) arrivals() []files.Move {
	var out []files.Move
	for _, name := range c.MaintenancePage.entries() {
		out = append(out, files.Move{From: path.Join(c.MaintenancePage.At, name), To: path.Join(c.Folder, name)})
	}
	return out
}

// Departures are the moves that take the notice out.
func (c *Close) Departures() []files.Move { return backwards(c.arrivals()) }

// Opening are the moves that open the site again with the files that it had, and
// with those that were added where they are, below Shut.
func (c *Close) Opening(added ...string) []files.Move {
	back := backwards(c.Moves)
	for _, name := range added {
		if slices.ContainsFunc(back, func(m files.Move) bool { return files.Within(name, m.From) }) {
			continue
		}
		first, _, _ := strings.Cut(name[len(c.ParkedDir)+1:], "/")
		if whole := path.Join(c.ParkedDir, first); !slices.ContainsFunc(back, func(m files.Move) bool {
			return files.Within(m.From, whole)
		}) {
			name = whole
		}
		back = append(back, files.Move{From: name, To: path.Join(c.Folder, name[len(c.ParkedDir)+1:])})
	}
	return c.Reopened(back)
}

// Undo opens the site with the files that it had.
func (c *Close) Undo(ctx context.Context) error {
	t, done, err := c.inAccount(ctx, c.Account)
	if err != nil {
		return err
	}
	defer done()
	pages, flusher := c.MaintenancePage.apart()
	if err := c.noticeBack(ctx, t, pages); err != nil {
		return err
	}
	if err := t.moveBack(ctx, c.Moves); err != nil {
		return err
	}
	for _, name := range flusher { // what it has cached may be as old as what is there again
		if there, err := files.Exists(ctx, t.In.Files, path.Join(c.Folder, name)); err == nil && there {
			t.flush(ctx, c.URL+name)
		}
	}
	if err := c.noticeBack(ctx, t, flusher); err != nil {
		return err
	}
	if err := t.dropBoard(ctx, c.MaintenancePage.At); err != nil {
		return err
	}
	empty := []string{}
	for _, m := range c.Moves {
		for dir := path.Dir(m.To); files.Within(dir, c.ParkedDir); dir = path.Dir(dir) {
			empty = append(empty, dir)
		}
	}
	slices.SortFunc(empty, func(a, b string) int { // the innermost first, and the same beside each other
		return cmp.Or(cmp.Compare(len(b), len(a)), cmp.Compare(a, b))
	})
	aside := path.Dir(c.ParkedDir)
	return files.DropEmpty(ctx, t.In.Files, append(slices.Compact(empty), c.ParkedDir, aside, path.Dir(aside),
		path.Dir(c.MaintenancePage.At), t.Store().Top())...)
}

// noticeBack takes what is there of the notice out of the site's folder: what
// bears one of its names may be the site's own, which had not left yet.
func (c *Close) noticeBack(ctx context.Context, t *Tools, names []string) error {
	for _, name := range names {
		first, _, _ := strings.Cut(name, "/")
		ours, err := t.isNotice(ctx, path.Join(c.Folder, name))
		if err != nil {
			return err
		}
		if !ours {
			continue
		}
		if err := t.In.Files.Rename(ctx, path.Join(c.Folder, first), path.Join(c.MaintenancePage.At, first)); err != nil {
			return err
		}
	}
	return nil
}

// look waits until nothing of the site answers any more: servers run a page
// that is gone for as long as their code cache does not look.
func (c *Close) look(ctx context.Context) error {
	visitor := c.In.Visitor()
	if name := c.flusher(); name != "" {
		c.flush(ctx, c.URL+name)
	}
	err := c.In.Settled(ctx, func() error {
		page, err := visitor.Get(ctx, c.URL+"?tivset="+c.Job)
		switch {
		case err != nil:
			return fault.NewAs(fault.NoAnswer, fault.Failed, "the domain does not answer", c.URL,
				"Look at its name and its address in the account.").Wrap(err)
		case strings.Contains(string(page.Body), noticeSign): // with 503, where pages are run
			return nil
		case page.Status == http.StatusServiceUnavailable: // the server's own page for that
			c.Result.Warn("while it was closed the site answered with a page of the server's in place of the notice")
			return nil
		}
		return fault.NewAs(fault.NotClosed, fault.Failed,
			fmt.Sprintf("the site cannot be closed: its address answers %d, and not with the "+
				"notice, though its files are out of the web", page.Status), c.URL,
			"Switch off what answers in front of it (a cache, a proxy, a rule of the server's) while it is worked on.")
	})
	if err != nil && c.Lenient {
		c.Result.Warn("that the site is closed could not be seen: " + err.Error())
		err = nil
	}
	c.In.Pause(ctx, underWay)
	return err
}

// flush has the runtime forget the code that it keeps, by a page that does so; where that
// cannot be, it waits until the runtime has looked.
func (t *Tools) flush(ctx context.Context, page string) {
	r := t.In.Runtimes().Of(page)
	if r == nil {
		return
	}
	_, says := r.Emptier(noticeSign)
	answer, err := t.In.Visitor().Get(ctx, page)
	if err != nil || !strings.Contains(string(answer.Body), says) {
		t.In.Pause(ctx, r.CodeCache())
	}
}

// underWay is for pages that were being made when the site was closed.
const underWay = 300 * time.Millisecond

// flusher is the name of the notice's page that empties PHP's code cache, "" for
// none. It is new, so no cache knows it.
func (c *Close) flusher() string {
	if _, flusher := c.MaintenancePage.apart(); len(flusher) > 0 {
		return flusher[0]
	}
	return ""
}

func atRoot(folder string) func(d account.Domain) bool {
	return func(d account.Domain) bool { return d.Folder == folder }
}
