package command

import (
	"context"
	"errors"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/screen"
	"tivset/internal/site"
)

// changedJSON is how a job with a site that was there ended.
type changedJSON struct {
	outcomeJSON
	FromBackup  string        `json:"from_backup,omitempty"`
	FromRelease string        `json:"from_release,omitempty"`
	FromAddress string        `json:"from_address,omitempty"`
	Backup      *backedUpJSON `json:"backup,omitempty"`
}

func outcome(what string, r *site.Installed) outcomeJSON {
	o := installedJSON(r, false)
	o.Outcome = what
	if o.Checks == nil {
		o.Checks = []site.Checked{}
	}
	o.Warnings, o.Todo = list(o.Warnings), list(o.Todo)
	return o
}

func before(b *site.BackedUp) []screen.Pair { return screen.Before(b) }

func (a *app) update() *cobra.Command {
	r, byCare, timer := &site.UpdateRequest{}, false, ""
	c := &cobra.Command{
		Use:   "update [SITE…] [--due]",
		Short: "Bring sites to a newer release, or leave them as they were",
		Long: "Backs a site up, makes the newer release ready beside it, puts it in place and checks the site;\n" +
			"when anything fails, the old state comes back by itself. With --due it asks nothing and takes\n" +
			"every site to the release that its care allows: fit for a timer.",
		Example:           "  tivset update forum --dry-run\n  tivset update forum --release 2.4.1\n  tivset update --due --quiet",
		ValidArgsFunction: only(a.siteWords),
		RunE: a.using(func(ctx context.Context, s *site.Service, args []string) error {
			switch {
			case timer != "":
				return a.ownTimer(ctx, s, timer)
			case byCare && r.Release+r.Archive != "":
				return fault.New(fault.Usage, "--due takes the release from each site's care", "", "Leave --release and --archive out.")
			case len(args) > 1 && r.Release+r.Archive != "":
				return fault.New(fault.Usage, "a release belongs to one site", "", "Name one site.")
			case byCare:
				return a.updateDue(ctx, s, args)
			case len(args) == 0:
				return fault.New(fault.Usage, "which site?", "", "Name it, or say --due for all that their care takes further. See what is newer with: tivset sites --newer")
			}
			for _, word := range args {
				r.Site = word
				if err := a.updateOne(ctx, s, *r); err != nil && !errors.Is(err, errStop) {
					return err
				}
			}
			return nil
		}),
	}
	f := c.Flags()
	f.BoolVar(&byCare, "due", false, "the sites whose care takes a newer release by itself")
	f.StringVar(&timer, "timer", "", "on: have this machine's cron update what is due every night; off: no more")
	f.StringVar(&r.Release, "release", "", "the release (the newest when left out)")
	f.StringVar(&r.Archive, "archive", "", "the release's archive, for apps whose archive you fetch yourself")
	f.BoolVar(&r.NoBackup, "no-backup", false, "make no backup first")
	return c
}

func (a *app) updateOne(ctx context.Context, s *site.Service, r site.UpdateRequest) error {
	p, err := s.PlanUpdate(ctx, r)
	if errors.Is(err, site.ErrCurrent) {
		return a.isCurrent(ctx, s, r.Site)
	}
	if err != nil {
		return err
	}
	defer p.Close()
	if err := a.agree(ctx, a.streams.ReviewUpdate(p), "Update?", false, p); err != nil {
		return err
	}
	done, err := s.Update(ctx, p)
	a.streams.Say("")
	if err != nil {
		return err
	}
	if a.json {
		return a.streams.WriteJSON(changedJSON{outcomeJSON: outcome("updated", &done.Installed), FromRelease: done.From, Backup: newBackedUpJSON(done.Backup)})
	}
	a.streams.Settled(done.Site.Title+" has release "+done.Site.Release+" and is checked; it had "+done.From+".", &done.Installed, before(done.Backup)...)
	return nil
}

func (a *app) isCurrent(ctx context.Context, s *site.Service, word string) error {
	x, err := s.Site(ctx, word)
	if err != nil {
		return err
	}
	if a.json {
		return a.streams.WriteJSON(map[string]any{"outcome": "current", "site": x})
	}
	a.streams.Print("%s has the newest release, %s.", x.Title, x.Release)
	return nil
}

// updateDue updates what is due, one after the other. One that fails does not
// keep the others from it.
func (a *app) updateDue(ctx context.Context, s *site.Service, words []string) error {
	sites, err := a.chosenSites(ctx, s, words)
	if err != nil {
		return err
	}
	all, code := []any{}, 0
	for _, x := range sites {
		if x.Due == "" {
			continue
		}
		if a.dryRun {
			all = append(all, map[string]any{"outcome": "due", "site": x, "to": x.Due})
			a.line("due", x, x.Release+" → "+x.Due)
			continue
		}
		done, err := s.UpdateDue(ctx, x)
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
		all = append(all, changedJSON{outcomeJSON: outcome("updated", &done.Installed), FromRelease: done.From, Backup: newBackedUpJSON(done.Backup)})
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

// ownTimer sets or ends the timer of this machine.
func (a *app) ownTimer(ctx context.Context, s *site.Service, how string) error {
	if how != "on" && how != "off" {
		return fault.New(fault.Usage, "--timer cannot be "+how, "", "It is on or off.")
	}
	program, err := os.Executable()
	if err != nil {
		return err
	}
	home := a.world.Env("TIVSET_HOME")
	if home != "" {
		if home, err = filepath.Abs(home); err != nil {
			return err
		}
	}
	if a.dryRun {
		a.streams.Say("A dry run: nothing was touched.")
		return nil
	}
	if err := s.OwnTimer(ctx, program, home, how == "on"); err != nil {
		return err
	}
	if a.json {
		return a.streams.WriteJSON(map[string]any{"timer": how})
	}
	a.streams.Print(map[string]string{"on": "This machine updates what is due every night.", "off": "This machine makes no updates by itself."}[how])
	return nil
}

// line is the one of a site among several.
func (a *app) line(what string, x ledger.Site, more string) {
	if !a.json {
		a.streams.Print("%-8s %s  %s", what, x.Address, more)
	}
}
