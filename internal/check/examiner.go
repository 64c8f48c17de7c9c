package check

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"sync"
	"time"

	"tivset/internal/app/release"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/files"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
	"tivset/internal/site"

	"golang.org/x/sync/errgroup"
)

// Examiner examines recorded sites. All of its fields are given by whoever wires
// the program.
type Examiner struct {
	Book     *site.Book
	Hosting  *hosting.Opener
	Archives *release.Archives
	Maker    secret.Maker
	Now      func() time.Time
}

// Examined is what the checks of a site came to.
type Examined struct {
	Address string    `json:"address"`
	App     string    `json:"app"`
	OK      bool      `json:"ok"`
	Checks  []Checked `json:"checks"`
	release.Compared
}

// What of a site can be gone.
const (
	OnlyFiles = "files"
	OnlyData  = "data"
	All       = "all"
)

// Check looks at a site as a visitor, as its admin and as a stranger, and
// records how it is.
func (e *Examiner) Check(ctx context.Context, x ledger.Site) (Examined, error) {
	out := Examined{Address: x.Address, App: x.App, Checks: []Checked{}, Compared: release.NothingCompared()}
	s, err := e.Book.From(x)
	if err != nil {
		return out, err
	}
	if s.Password().Empty() {
		return out, site.NoPassword(x.Address)
	}
	in, err := e.Hosting.Open(ctx, s.In)
	if err != nil {
		return out, err
	}
	defer in.Close()
	out, err = e.Examine(ctx, in, s, &x)
	if err != nil {
		return out, err
	}
	if x.Gone != "" {
		x.Health = "gone"
	}
	return out, e.Record(ctx, x)
}

// open makes a recorded site whole, and opens its account. The caller closes that.
func (e *Examiner) open(ctx context.Context, x ledger.Site) (*site.Site, *hosting.Account, error) {
	s, err := e.Book.From(x)
	if err != nil {
		return nil, nil, err
	}
	in, err := e.Hosting.Open(ctx, s.In)
	return s, in, err
}

// sitesAtOnce is how many sites are looked at side by side; their hosts are asked no
// more than web.AtOnce each.
const sitesAtOnce = 8

// CheckAll checks sites side by side, and gives what came of each in their order; tell, where it is not nil, hears of
// each. One that cannot be looked at does not keep the others from it. Interrupted, it gives those that were looked at.
func (e *Examiner) CheckAll(ctx context.Context, sites []ledger.Site, tell func(Examined)) ([]Examined, error) {
	var one sync.Mutex
	all := make([]Examined, len(sites))
	var group errgroup.Group
	group.SetLimit(sitesAtOnce)
	for i, x := range sites {
		group.Go(func() error {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			done, err := e.Check(ctx, x)
			if err != nil {
				done.OK = false
				done.Checks = append(done.Checks, Checked{Name: "site", Detail: err.Error() + ". " + fault.Of(err).Remedy})
			}
			if ctx.Err() != nil {
				return ctx.Err() // half of a look is none
			}
			one.Lock()
			defer one.Unlock()
			if all[i] = done; tell != nil {
				tell(done)
			}
			return nil
		})
	}
	err := group.Wait()
	if err != nil {
		all = slices.DeleteFunc(all, func(x Examined) bool { return x.Address == "" })
	}
	return all, err
}

// Examine runs every check of a site, whatever the first of them come to, and
// brings its record up to date.
func (e *Examiner) Examine(ctx context.Context, in *hosting.Account, s *site.Site, x *ledger.Site) (Examined, error) {
	out := Examined{Address: x.Address, App: x.App, Checks: []Checked{}, Compared: release.NothingCompared()}
	others, err := e.Book.Foreign(ctx, s)
	if err != nil {
		return out, err
	}
	l := &looking{Examiner: e, site: s, in: in, record: x, others: others, found: release.NothingCompared()}
	if err := l.all(ctx); err != nil {
		return out, err
	}
	out.Compared, out.OK = l.found, !slices.ContainsFunc(l.out, func(c Checked) bool { return !c.OK })
	for _, c := range l.out {
		c.Detail = secret.Hide(c.Detail, s.Hidden())
		out.Checks = append(out.Checks, c)
	}
	now := e.Now().UTC()
	x.CheckedAt, x.Health = &now, Health(out.Checks)
	return out, nil
}

// ReadAgain brings a record up to date with what its site says of itself; what
// cannot be read stays as it is.
func (e *Examiner) ReadAgain(ctx context.Context, in *hosting.Account, x *ledger.Site) {
	s, err := e.Book.From(*x)
	if err != nil {
		return
	}
	v := &Visit{Site: s, In: in, Maker: e.Maker, Now: e.Now, Once: true}
	if err := v.Open(); err != nil {
		return
	}
	defer v.Close()
	now, _ := v.Read(ctx)
	site.Note(x, now)
}

// Record keeps what a look at a site found, unless a job has changed the site
// meanwhile.
func (e *Examiner) Record(ctx context.Context, x ledger.Site) error {
	now, err := e.Book.Ledger.Site(ctx, x.Address)
	if errors.Is(err, fs.ErrNotExist) || err == nil && now.LastJob != x.LastJob {
		return nil
	}
	if err != nil {
		return err
	}
	return e.Book.Ledger.KeepSite(ctx, x)
}

// IsGone says whether a site's files are not there any more, and notes it.
func IsGone(ctx context.Context, in *hosting.Account, x *ledger.Site) (bool, error) {
	gone := 0
	for _, name := range x.Entries {
		there, err := files.Exists(ctx, in.Files, x.Folder+"/"+name)
		if err != nil {
			return false, err
		}
		if !there {
			gone++
		}
	}
	if gone == 0 || gone < len(x.Entries) {
		if x.Gone == OnlyFiles {
			x.Gone = ""
		}
		return false, nil
	}
	x.Gone = OnlyFiles
	return true, nil
}

// Sizes are how many bytes the databases of an account take, by server and name;
// servers that cannot be asked are left out.
type Sizes map[string]map[string]int64

// SizesOf asks an account's servers.
func SizesOf(ctx context.Context, in *hosting.Account) Sizes {
	out := Sizes{}
	for i := range in.Databases {
		d := &in.Databases[i]
		server, err := in.Connect(ctx, d)
		if err != nil {
			continue
		}
		names, err := server.Databases(ctx)
		sizes, sizesErr := server.Sizes(ctx)
		_ = server.Close()
		if err != nil || sizesErr != nil {
			continue
		}
		out[d.Name] = map[string]int64{}
		for _, name := range names {
			out[d.Name][name] = sizes[name]
		}
	}
	return out
}

// Measure brings a record's sizes up to date, and notes whether the site's
// database is there. Others are what in its folder is not its own.
func (s Sizes) Measure(ctx context.Context, in *hosting.Account, x *ledger.Site, others files.Others) error {
	var err error
	if x.Files, x.Bytes, err = files.Count(ctx, in.Files, x.Folder, others.Has); err != nil {
		return err
	}
	if x.Database == nil || s[x.Database.Server] == nil {
		return nil
	}
	bytes, there := s[x.Database.Server][x.Database.Name]
	x.DatabaseBytes = bytes
	switch {
	case !there:
		x.Gone = OnlyData
	case x.Gone == OnlyData:
		x.Gone = ""
	}
	return nil
}

// Worded is an error with what to do about it.
func Worded(err error) string {
	text := err.Error()
	if f := fault.Of(err); f.Remedy != "" && !strings.Contains(text, f.Remedy) {
		text += ". " + f.Remedy
	}
	return text
}

// counted lists some names after a word.
// differing names files with how they differ, of many not all.
func differing(names []string, how string) string {
	text := strings.TrimPrefix(counted("", names), ": ")
	if text == "" {
		return ""
	}
	return ", " + text + " (" + how + ")"
}

func counted(what string, names []string) string {
	const most = 5
	if len(names) == 0 {
		return ""
	}
	text := "; " + what + " "
	if what == "" {
		text = ": "
	}
	for i, name := range names[:min(len(names), most)] {
		if i > 0 {
			text += ", "
		}
		text += name
	}
	if len(names) > most {
		text += fmt.Sprintf(" and %d more", len(names)-most)
	}
	return text
}
