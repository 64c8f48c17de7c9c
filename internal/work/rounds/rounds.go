// Package rounds does what the care of all sites asks and is due: updates, backups and
// checks, each at its hours; and tells whom it concerns, in one mail a round.
package rounds

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"tivset/internal/answer/care"
	"tivset/internal/app/kit"
	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/records/home"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
	"tivset/internal/work"
	"tivset/internal/work/rehearse"
	"tivset/internal/work/update"
)

// Request is a round that somebody wants.
type Request struct {
	Account string // only its sites; "" for all
	Now     bool   // whatever the hours of the sites' care
	Dry     bool   // only say what is due
}

// Line is something that was done at a site, or met.
type Line struct {
	Site   ledger.Site
	What   string // see home.RoundLine
	Detail string
	Remedy string
	of     int    // whom it concerns, as care has it
	key    string // of a trouble: the same one again is not told each time
}

// Round is what a round came to.
type Round struct {
	Sites   int
	Lines   []Line
	Unseen  []error // what could not be looked up
	Unsent  []error // mails that could not be sent
	Another bool    // another round of this machine is under way: this one did nothing
	Took    time.Duration
}

// Failed says whether anything went wrong.
func (r *Round) Failed() bool {
	return len(r.Unsent) > 0 || slices.ContainsFunc(r.Lines, func(l Line) bool { return l.What == Trouble })
}

// What lines tell of.
const (
	Updated  = "updated"
	BackedUp = "backed up"
	Checked  = "checked"
	Trouble  = "trouble"
	Waits    = "waits"
	IsDue    = "due"
)

const (
	accountsAtOnce = 4             // accounts that are worked on side by side
	lookedUp       = 6 * time.Hour // how often it is looked up what is newer
	checked        = 24 * time.Hour
	again          = 7 * 24 * time.Hour // after which a trouble that lasts is told again
)

// round is one under way.
type round struct {
	desk    *work.Desk
	request Request
	kept    home.Rounds

	one   sync.Mutex
	out   *Round
	shows func(Line)

	kits     map[string]*kit.Kit
	reminded []Line // what was told of though nothing happened
}

// Go makes a round. Shows, which may be nil, is called with each line as it comes.
func Go(ctx context.Context, d *work.Desk, r Request, shows func(Line)) (*Round, error) {
	out := &Round{}
	done, err := d.Book.Home.Alone("rounds")
	if err != nil {
		return nil, err
	}
	if done == nil {
		out.Another = true
		return out, nil
	}
	defer done()
	o := &round{desk: d, request: r, out: out, shows: shows, kits: map[string]*kit.Kit{}}
	if o.kept, err = d.Book.Home.Rounds(); err != nil {
		o.kept = home.Rounds{} // what cannot be read costs a mail too many
	}
	begun := d.Now()
	if err := o.all(ctx); err != nil {
		return nil, err
	}
	out.Took = d.Now().Sub(begun)
	if r.Dry {
		return out, nil
	}
	o.tell(ctx)
	o.told(o.reminded)
	o.kept.At, o.kept.Seconds = begun.UTC(), out.Took.Seconds()
	if len(out.Lines) > 0 {
		o.kept.LinesAt, o.kept.Lines = begun.UTC(), nil
		for _, l := range out.Lines {
			o.kept.Lines = append(o.kept.Lines, home.RoundLine{Address: l.Site.Address, What: l.What, Detail: l.Detail})
		}
	}
	return out, d.Book.Home.KeepRounds(o.kept)
}

// all works on the accounts side by side, and on the sites of each in turn.
func (o *round) all(ctx context.Context) error {
	if now := o.desk.Now(); now.Sub(o.kept.Looked) >= lookedUp && !o.request.Dry {
		o.out.Unseen = update.LookUp(ctx, o.desk)
		o.kept.Looked = now.UTC()
	}
	if name := o.request.Account; name != "" {
		if _, err := o.desk.Book.Home.Account(name); err != nil {
			return err
		}
	}
	sites, err := o.desk.Book.All(ctx)
	if err != nil {
		return err
	}
	of := map[string][]ledger.Site{}
	for _, x := range sites {
		if o.request.Account == "" || o.request.Account == x.Account {
			of[x.Account] = append(of[x.Account], x)
			o.out.Sites++
		}
	}
	var group errgroup.Group
	group.SetLimit(accountsAtOnce)
	for _, name := range slices.Sorted(maps.Keys(of)) {
		group.Go(func() error { return o.account(ctx, name, of[name]) })
	}
	err = group.Wait()
	slices.SortStableFunc(o.out.Lines, func(a, b Line) int { return cmp.Compare(a.Site.Address, b.Site.Address) })
	return err
}

// account works on the sites of one account, in turn.
func (o *round) account(ctx context.Context, name string, sites []ledger.Site) error {
	if slices.ContainsFunc(sites, func(x ledger.Site) bool { return site.IsRehearsal(x.Address) }) && !o.request.Dry {
		if err := rehearse.Sweep(ctx, o.desk, name); err != nil {
			o.troubled(sites[0], "rehearsal", err)
		}
	}
	for _, x := range sites {
		if site.IsRehearsal(x.Address) || x.Gone != "" {
			continue
		}
		for _, one := range []errand{{o.updateDue, o.update}, {o.backupDue, o.backup}, {o.checkDue, o.check}} {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			what := one.due(x)
			if what == "" {
				continue
			}
			if o.request.Dry {
				o.say(Line{Site: x, What: IsDue, Detail: what})
				continue
			}
			if err := one.run(ctx, x); err != nil {
				return err
			}
			now, err := o.desk.Book.Find(ctx, x.Address)
			if err != nil {
				break // it was taken out meanwhile
			}
			x = now
		}
		o.reminders(x)
	}
	return nil
}

// errand is something that a round does: what of it is due at a site, in words, "" for
// nothing; and how it is done.
type errand struct {
	due func(ledger.Site) string
	run func(context.Context, ledger.Site) error
}

func (o *round) say(l Line) {
	o.one.Lock()
	defer o.one.Unlock()
	o.out.Lines = append(o.out.Lines, l)
	if o.shows != nil {
		o.shows(l)
	}
}

// troubled says that something did not work. A job of somebody else's that is at work is
// no trouble: the next round comes.
func (o *round) troubled(x ledger.Site, key string, err error) {
	f := fault.Of(err)
	if f.Busy {
		o.say(Line{Site: x, What: Waits, Detail: f.What, of: care.Routine})
		return
	}
	o.say(Line{Site: x, What: Trouble, Detail: f.Error(), Remedy: f.Remedy, of: care.Trouble, key: key})
}

// inHours says whether it is the hour for something that was to be done before a time:
// late, any hour will do, for a machine that is off at night would never do it.
func (o *round) inHours(x ledger.Site, late bool) bool {
	return o.request.Now || late || x.Care.Now(o.desk.Now().Local())
}

// checkDue has a site looked at once a day.
func (o *round) checkDue(x ledger.Site) string {
	if age := o.age(x.CheckedAt); age < checked*9/10 || !o.inHours(x, age > 2*checked) {
		return ""
	}
	return "a check"
}

func (o *round) check(ctx context.Context, x ledger.Site) error {
	found, err := o.desk.Examiner.Check(ctx, x)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		o.troubled(x, "check", err)
		return nil
	}
	o.found(x, found)
	return nil
}

// found tells of what a check found; a trouble that is over is forgotten.
func (o *round) found(x ledger.Site, found check.Examined) {
	fine := map[string]bool{"check": true}
	for _, c := range found.Checks {
		if c.OK {
			fine["check "+c.Name] = true
			continue
		}
		if c.Name == "updates" && o.refused(x.Address) {
			continue // it has been said why
		}
		o.say(Line{Site: x, What: Trouble, Detail: c.Name + ": " + c.Detail, of: care.Trouble, key: "check " + c.Name})
	}
	if found.OK {
		o.say(Line{Site: x, What: Checked, Detail: "all is well", of: care.Routine})
	}
	o.over(x, func(key string) bool { return fine[key] })
}

// refused says whether this round has told of an update of a site that was not made.
func (o *round) refused(address string) bool {
	o.one.Lock()
	defer o.one.Unlock()
	return slices.ContainsFunc(o.out.Lines, func(l Line) bool {
		return l.Site.Address == address && strings.HasPrefix(l.key, "update ")
	})
}

// over forgets troubles of a site that are no more.
func (o *round) over(x ledger.Site, is func(key string) bool) {
	o.one.Lock()
	defer o.one.Unlock()
	maps.DeleteFunc(o.kept.Told[x.Address], func(key string, _ time.Time) bool { return is(key) })
}

// age is for how long something has not been done.
func (o *round) age(last *time.Time) time.Duration {
	if last == nil {
		return 1 << 62
	}
	return o.desk.Now().Sub(*last)
}
