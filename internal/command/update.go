package command

import (
	"context"
	"errors"

	"github.com/spf13/cobra"

	"tivset/internal/check"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/screen"
	"tivset/internal/step"
	"tivset/internal/work"
	"tivset/internal/work/rehearse"
	"tivset/internal/work/update"
)

// changedJSON is how a job with a site that was there ended.
type changedJSON struct {
	outcomeJSON
	FromBackup  string        `json:"from_backup,omitempty"`
	FromRelease string        `json:"from_release,omitempty"`
	FromAddress string        `json:"from_address,omitempty"`
	Backup      *backedUpJSON `json:"backup,omitempty"`

	Rehearsal *rehearse.Rehearsed `json:"rehearsal,omitempty"`
}

func outcome(what string, r *work.Done) outcomeJSON {
	o := installedJSON(r, false)
	o.Outcome = what
	if o.Checks == nil {
		o.Checks = []check.Checked{}
	}
	o.Warnings, o.Todo = list(o.Warnings), list(o.Todo)
	return o
}

func before(b *step.BackedUp) []screen.Pair { return screen.Before(b) }

func (a *app) update() *cobra.Command {
	r, byCare, inHours, first, o := &update.Request{}, false, false, false, &selection{}
	c := &cobra.Command{
		Use:   "update [SITE…] [--due]",
		Short: "Bring sites to a newer release, or leave them as they were",
		Long: "Backs a site up, makes the newer release ready beside it, puts it in place and checks the site;\n" +
			"when anything fails, the old state comes back by itself. With --due it asks nothing and takes\n" +
			"every site to the release that its care allows; with --in-hours at the hours of its care. With --rehearse\n" +
			"the update is first made on a copy, which is checked, compared with the site and taken away again.",
		Example: "  tivset update forum --dry-run\n  tivset update forum --release 2.4.1\n  tivset update --due " +
			"--quiet",
		ValidArgsFunction: only(a.siteWords),
		RunE: a.using(func(ctx context.Context, s *core.Core, args []string) error {
			a.freshen(ctx)
			switch {
			case byCare && r.Release+r.Archive != "":
				return fault.New(fault.Usage, "--due takes the release from each site's care", "",
					"Leave --release and --archive out.")
			case inHours && !byCare:
				return fault.New(fault.Usage, "--in-hours goes with --due", "", "Leave it out, or add --due.")
			case (len(args) > 1 || o.all) && r.Release+r.Archive != "":
				return fault.New(fault.Usage, "a release belongs to one site", "", "Name one site.")
			case byCare:
				return a.updateDue(ctx, s, args, inHours)
			case len(args) == 0 && !o.all && o.table == "":
				return fault.New(
					fault.Usage,
					"which site?",
					"",
					"Name it, or say --due for all that their care takes further, or --all. See what is newer with: tivset sites "+
						"--newer",
				)
			}
			rows, err := a.rows(ctx, s, args, o)
			if err != nil {
				return err
			}
			if a.sideBySide(rows, o) {
				return a.updateSeveral(ctx, s, rows, o, *r, first)
			}
			r.Site = rows[0].Site
			done, err := a.updateOne(ctx, s, *r, first)
			if sum := a.acceptsArchive(ctx, err); sum != "" {
				r.Accept = sum
				done, err = a.updateOne(ctx, s, *r, first)
			}
			if err == nil && a.json {
				err = a.streams.WriteJSON(done)
			}
			return err
		}),
	}
	f := c.Flags()
	f.BoolVar(&byCare, "due", false, "the sites whose care takes a newer release by itself")
	f.BoolVar(&inHours, "in-hours", false, "with --due: only sites whose care names this hour; for a timer")
	f.StringVar(&r.Release, "release", "", "the release (the newest when left out)")
	f.StringVar(&r.Archive, "archive", "", "the release's archive, for apps whose archive you fetch yourself")
	f.StringVar(&r.Accept, "accept-archive", "", acceptUsage)
	chooses(c, o, "release")
	f.BoolVar(
		&first,
		"rehearse",
		false,
		"make it on a copy first, compare that with the site, and go on only if all is well",
	)
	f.BoolVar(&r.NoBackup, "no-backup", false, "make no backup first")
	return c
}

// updateSeveral updates several sites side by side.
func (a *app) updateSeveral(ctx context.Context, s *core.Core, rows []siteRow, o *selection, r update.Request,
	first bool) error {
	if first && a.dryRun {
		return noRehearsal()
	}
	return a.several(ctx, s, rows, o, "Update %s?", func(ctx context.Context, row siteRow) (prepared, error) {
		one := r
		one.Site, one.Release = row.Site, row.value("release", r.Release)
		l, err := a.lookedAt(ctx, s, row.Site)
		if err != nil {
			return l, err
		}
		p, err := update.Look(ctx, s.Desk, one)
		if errors.Is(err, update.ErrCurrent) {
			x, err := s.Book.Find(ctx, row.Site)
			l.nothing = &ended{"current", x.Title + " has the newest release, " + x.Release,
				map[string]any{"outcome": "current", "site": x}}
			return l, err
		}
		if err != nil {
			return l, err
		}
		one.Release = p.To // what was agreed to, whatever is published meanwhile
		l.review, l.document = a.streams.ReviewUpdate(p), p
		l.do = func(ctx context.Context, d *work.Service) (ended, error) {
			return a.updateAgreed(ctx, d, one, p, first)
		}
		l.close = p.Close
		return l, nil
	})
}

// updateAgreed updates one of several sites, after a rehearsal where that is wanted.
func (a *app) updateAgreed(ctx context.Context, d *work.Service, r update.Request, p *update.Plan, first bool) (ended,
	error) {
	var rehearsed *rehearse.Rehearsed
	if first {
		var err error
		if rehearsed, err = rehearse.Rehearse(ctx, d, r); err != nil {
			return ended{}, err
		}
		if !rehearsed.OK {
			return ended{}, notRehearsed(rehearsed, r.Site)
		}
	}
	done, err := update.Update(ctx, d, p)
	if err != nil {
		return ended{}, err
	}
	return ended{"updated", "has release " + done.Site.Release + " and is checked; it had " + done.From,
		changedJSON{outcomeJSON: outcome("updated", &done.Done), FromRelease: done.From,
			Backup: newBackedUpJSON(done.Backup), Rehearsal: rehearsed}}, nil
}

// noRehearsal is the fault of a dry run that asks for a copy.
func noRehearsal() error {
	return fault.New(fault.Usage, "a rehearsal makes a copy, which a dry run does not", "--rehearse",
		"Leave one of the two out. Nothing was touched.")
}

// notRehearsed is the fault of an update whose rehearsal did not go well.
func notRehearsed(came *rehearse.Rehearsed, site string) error {
	return &fault.Error{Kind: fault.Failed, What: "the rehearsal of " + came.To + " did not go well", Where: site,
		Details: came.Problems, Remedy: "The site was not touched and stays with " + came.From + ". Wait for a release " +
			"that mends this, or tell whoever made the kit."}
}

// updateOne updates one site, and gives what is to be said of it to programs.
func (a *app) updateOne(ctx context.Context, s *core.Core, r update.Request, first bool) (document any, err error) {
	var rehearsed *rehearse.Rehearsed
	if first {
		if rehearsed, err = a.rehearse(ctx, s, r); err != nil {
			return nil, err
		}
	}
	p, err := update.Look(ctx, s.Desk, r)
	if errors.Is(err, update.ErrCurrent) {
		return a.isCurrent(ctx, s, r.Site)
	}
	if err != nil {
		return nil, err
	}
	defer p.Close()
	if a.dryRun && a.json {
		return p, nil
	}
	if err := a.agree(ctx, a.streams.ReviewUpdate(p), "Update?", p); errors.Is(err, errStop) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	done, err := update.Update(ctx, s.Desk, p)
	a.streams.Say("")
	if err != nil {
		return nil, err
	}
	if !a.json {
		a.streams.Settled(done.Site.Title+" has release "+done.Site.Release+" and is checked; it had "+done.From+".",
			&done.Done, before(done.Backup)...)
	}
	return changedJSON{outcomeJSON: outcome("updated", &done.Done), FromRelease: done.From,
		Backup: newBackedUpJSON(done.Backup), Rehearsal: rehearsed}, nil
}

// rehearse makes an update on a copy, and shows what came of it. One that did not do is a
// fault: the site was not touched.
func (a *app) rehearse(ctx context.Context, s *core.Core, r update.Request) (*rehearse.Rehearsed, error) {
	if a.dryRun {
		return nil, noRehearsal()
	}
	came, err := rehearse.Rehearse(ctx, s.Desk, r)
	if errors.Is(err, update.ErrCurrent) {
		return nil, nil
	}
	a.streams.Say("")
	if err != nil {
		return nil, err
	}
	if !a.json {
		a.streams.Rehearsed(came)
	}
	if !came.OK {
		return nil, notRehearsed(came, r.Site)
	}
	return came, nil
}

func (a *app) isCurrent(ctx context.Context, s *core.Core, word string) (document any, err error) {
	x, err := s.Book.Find(ctx, word)
	if err != nil {
		return nil, err
	}
	if !a.json {
		a.streams.Print("%s has the newest release, %s.", x.Title, x.Release)
	}
	return map[string]any{"outcome": "current", "site": x}, nil
}

// updateDue updates what is due, one after the other. One that fails does not
// keep the others from it.
func (a *app) updateDue(ctx context.Context, s *core.Core, words []string, inHours bool) error {
	for _, err := range update.LookUp(ctx, s.Desk) {
		a.streams.Note("what is newer could not be looked up, and what was known counts: " + fault.Of(err).Error())
	}
	sites, err := a.chosenSites(ctx, s, words)
	if err != nil {
		return err
	}
	all, code := []any{}, 0
	for _, x := range sites {
		if x.Due == "" || inHours && !x.Care.Now(a.world.Now().Local()) {
			continue
		}
		if a.dryRun {
			all = append(all, map[string]any{"outcome": "due", "site": x, "to": x.Due})
			a.line("due", x, x.Release+" → "+x.Due)
			continue
		}
		done, err := update.Due(ctx, s.Desk, x)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			f := fault.Of(err)
			code = max(code, screen.Code(err))
			all = append(all, a.streams.Failed(err))
			a.line("failed", x, x.Release+" stays: "+f.What)
			continue
		}
		all = append(all, changedJSON{outcomeJSON: outcome("updated", &done.Done), FromRelease: done.From,
			Backup: newBackedUpJSON(done.Backup)})
		a.line("updated", x, done.From+" → "+done.Site.Release)
	}
	if a.json {
		if err := a.streams.WriteJSON(all); err != nil {
			return err
		}
	} else if len(all) == 0 {
		a.streams.Say("Nothing is due.")
	}
	if code != 0 {
		return &silent{code}
	}
	return nil
}

// line is the one of a site among several.
func (a *app) line(what string, x ledger.Site, more string) {
	if !a.json {
		a.streams.Print("%-8s %s  %s", what, x.Address, more)
	}
}
