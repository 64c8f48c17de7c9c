// Package rounds does what the care of all sites asks and is due: updates, backups and
// checks, each at its hours; and tells whom it concerns, in one mail a round.
package rounds

import (
	"cmp"
	"context"
	"errors"
	"fmt"
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
	"tivset/internal/sites"
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
	What   string // see ledger.RoundLine
	Detail string
	Remedy string
	of     int    // whom it concerns, as care has it
	key    string // of a trouble: the same one again is not told each time
	noted  bool   // it is noted already that it is told of
}

// Round is what a round came to.
type Round struct {
	Sites   int
	Lines   []Line
	Unseen  []error // what could not be looked up
	Unsent  []error // mails that could not be sent
	Another bool    // another round is under way, and did what this one was to do
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
	siteTime       = 6 * time.Hour      // for one site, whatever it waits for: the others are due too
	again          = 7 * 24 * time.Hour // after which a trouble that lasts is told again
)

// round is one under way.
type round struct {
	desk    *work.Service
	request Request
	kept    home.Rounds

	one   sync.Mutex
	out   *Round
	begun time.Time
	shows func(Line)
	busy  int // accounts at which another round is at work
	// another round of this machine is under way, at other accounts of a team
	second bool

	mailing
	kits map[string]*kit.Kit
	told map[string][]string // by address: the troubles that somebody knows of
}

// Go makes a round. Shows, which may be nil, is called with each line as it comes.
func Go(ctx context.Context, d *work.Service, r Request, shows func(Line)) (*Round, error) {
	o := &round{desk: d, request: r, out: &Round{}, shows: shows, kits: map[string]*kit.Kit{}}
	done, err := o.alone()
	if err != nil || done == nil {
		o.out.Another = done == nil
		return o.out, err
	}
	defer done()
	if err := o.remember(ctx); err != nil {
		return nil, err
	}
	o.begun = d.Now()
	if err := o.noteBeginning(); err != nil {
		return nil, err
	}
	if err := o.openMailing(ctx); err != nil {
		return nil, err
	}
	failed := o.all(ctx)
	o.out.Took = d.Now().Sub(o.begun)
	if r.Dry {
		return o.out, failed
	}
	// Whatever ended it, what was done until then is told of and recorded.
	o.closeMailing(context.WithoutCancel(ctx))
	if o.out.Another {
		return o.out, errors.Join(failed, d.Book.Home.KeepRounds(o.kept))
	}
	o.kept.At, o.kept.Seconds = o.begun.UTC(), o.out.Took.Seconds()
	return o.out, errors.Join(failed, o.keep(context.WithoutCancel(ctx)), d.Book.Home.KeepRounds(o.kept))
}

// sole is a ledger that holds off other machines.
type sole interface {
	Sole(ctx context.Context, what string) (done func(), err error)
}

// alone holds off other rounds of this machine. Where several machines share the ledger, they
// are held off from each account in turn instead: see account.
func (o *round) alone() (done func(), err error) {
	done, err = o.desk.Book.Home.Alone(home.RoundsLock)
	if _, shared := o.desk.Book.Ledger.(sole); shared && done == nil && err == nil {
		o.second = true
		return func() {}, nil
	}
	return done, err
}

// noteBeginning keeps since when the round is under way, for whoever asks meanwhile.
func (o *round) noteBeginning() error {
	if o.request.Dry || o.second {
		return nil
	}
	now := o.kept
	now.Begun = o.begun.UTC()
	return o.desk.Book.Home.KeepRounds(now)
}

// remember reads what earlier rounds have left.
func (o *round) remember(ctx context.Context) (err error) {
	if o.kept, err = o.desk.Book.Home.Rounds(); err != nil {
		o.kept = home.Rounds{} // what cannot be read costs a mail too many
	}
	for address, troubles := range o.kept.Told {
		for trouble, at := range troubles {
			t := ledger.Telling{Address: address, Trouble: trouble, At: at}
			if _, err := o.desk.Book.Ledger.Tell(ctx, t, 0); err != nil {
				return err
			}
		}
	}
	if !o.second {
		o.kept.Begun = time.Time{} // of a round that was ended by force
	}
	o.kept.Told, o.told = nil, map[string][]string{}
	all, err := o.desk.Book.Ledger.Told(ctx)
	for _, t := range all {
		o.told[t.Address] = append(o.told[t.Address], t.Trouble)
	}
	return err
}

// keep records what the round did, if it did anything.
func (o *round) keep(ctx context.Context) error {
	if len(o.out.Lines) == 0 {
		return nil
	}
	r := ledger.Round{At: o.begun.UTC(), Who: o.desk.Who, Seconds: o.out.Took.Seconds()}
	for _, l := range o.out.Lines {
		r.Lines = append(r.Lines, ledger.RoundLine{Address: l.Site.Address, What: l.What, Detail: l.Detail,
			Remedy: l.Remedy})
	}
	return o.desk.Book.Ledger.PutRound(ctx, r)
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
	o.out.Another = len(of) > 0 && o.busy == len(of)
	slices.SortStableFunc(o.out.Lines, func(a, b Line) int { return cmp.Compare(a.Site.Address, b.Site.Address) })
	return err
}

// account works on the sites of one account, in turn, unless a round on another machine does.
func (o *round) account(ctx context.Context, name string, sites []ledger.Site) error {
	if shared, is := o.desk.Book.Ledger.(sole); is && !o.request.Dry {
		done, err := shared.Sole(ctx, "rounds "+name)
		if err != nil {
			return err
		}
		if done == nil {
			o.one.Lock()
			defer o.one.Unlock()
			o.busy++
			return nil
		}
		defer done()
		for i, x := range sites { // what the other one has done meanwhile is not due any more
			if sites[i], err = o.desk.Book.Find(ctx, x.Address); err != nil {
				sites[i] = ledger.Site{}
			}
		}
	}
	if slices.ContainsFunc(sites, func(x ledger.Site) bool { return site.IsRehearsal(x.Address) }) && !o.request.Dry {
		if err := rehearse.Sweep(ctx, o.desk, name); err != nil {
			o.troubled(sites[0], "rehearsal", err)
		}
	}
	for _, x := range sites {
		if site.IsRehearsal(x.Address) || x.Address == "" {
			continue
		}
		within, enough := context.WithTimeout(ctx, siteTime)
		err := o.site(within, x)
		tooLong := within.Err() != nil && ctx.Err() == nil
		enough()
		if tooLong {
			o.troubled(x, "time", fault.New(fault.Failed, fmt.Sprintf("what is due took longer than %s, and was left",
				siteTime), "", "See what it waits for: "+fault.Call("check", x.Address)))
			continue
		}
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			// of this site: the others are due all the same
			o.troubled(x, "rounds", fault.New(fault.Failed, "not all that is due could be done", "",
				"The next time it is tried again; see: "+fault.Call("check", x.Address)).Wrap(err))
		}
	}
	return nil
}

// site does what is due at one site.
func (o *round) site(ctx context.Context, x ledger.Site) error {
	errands := []errand{{Updated, o.updateDue, o.update}, {BackedUp, o.backupDue, o.backup},
		{Checked, o.checkDue, o.check}}
	if x.Gone != "" { // it is looked at until it is back, or forgotten
		errands = errands[2:]
	}
	for _, one := range errands {
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
		if err := o.intending(x, one.what); err != nil {
			return err
		}
		err := one.run(ctx, x)
		o.unsent(o.intended(x))
		if err != nil {
			return err
		}
		now, err := o.desk.Book.Find(ctx, x.Address)
		if err != nil {
			break // it was taken out meanwhile
		}
		x = now
	}
	return o.reminders(ctx, x)
}

// errand is something that a round does: the word for it when it is done; what of it is due at a site, in words, ""
// for nothing; and how it is done.
type errand struct {
	what string
	due  func(ledger.Site) string
	run  func(context.Context, ledger.Site) error
}

func (o *round) say(l Line) {
	o.one.Lock()
	defer o.one.Unlock()
	o.out.Lines = append(o.out.Lines, l)
	if !o.request.Dry { // at once: what is killed in the middle has done this all the same
		o.out.Took = o.desk.Now().Sub(o.begun)
		_ = o.keep(context.Background()) // or with the next line
		o.tell(context.Background(), l)
	}
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
	// what is not there is said of the site from now on, before anybody looks at all of it
	_ = o.desk.Examiner.Glance(context.Background(), x.Address)
	if now, err := o.desk.Book.Find(context.Background(), x.Address); err == nil && now.Gone != "" {
		want := sites.WantOf(now)
		f = fault.New(fault.Failed, "gone: its "+now.Gone+"; "+f.What, f.Where, "Bring it back: "+want.Call)
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
	return o.found(ctx, x, found)
}

// found tells of what a check found; a trouble that is over is forgotten.
func (o *round) found(ctx context.Context, x ledger.Site, found check.Examined) error {
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
	return o.over(ctx, x, func(key string) bool { return fine[key] })
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
func (o *round) over(ctx context.Context, x ledger.Site, is func(key string) bool) error {
	o.one.Lock()
	var gone []string
	for _, key := range o.told[x.Address] {
		if is(key) {
			gone = append(gone, key)
		}
	}
	o.one.Unlock()
	if len(gone) == 0 {
		return nil
	}
	return o.desk.Book.Ledger.Untell(context.WithoutCancel(ctx), x.Address, gone...)
}

// age is for how long something has not been done.
func (o *round) age(last *time.Time) time.Duration {
	if last == nil {
		return 1 << 62
	}
	return o.desk.Now().Sub(*last)
}
