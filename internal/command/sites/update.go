package sites

import (
	"context"

	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/screen"
	"tivset/internal/work/batch"
	"tivset/internal/work/requests"
	"tivset/internal/work/update"
)

func (a *app) update() *cobra.Command {
	r, byCare, inHours, o := &requests.Update{}, false, false, &cli.Selection{}
	c := &cobra.Command{
		Use:   "update [SITE…] [--due]",
		Short: "Bring sites to a newer release, or leave them as they were",
		Long: "Backs a site up, makes the newer release ready beside it, puts it in place and checks the site;\n" +
			"when anything fails, the old state comes back by itself. With --due it asks nothing and takes\n" +
			"every site to the release that its care allows; with --in-hours at the hours of its care. With --rehearse\n" +
			"the update is first made on a copy, which is checked, compared with the site and taken away again.",
		Example: "  tivset update forum --dry-run\n  tivset update forum --release 2.4.1\n  tivset update --due " +
			"--quiet",
		ValidArgsFunction: cli.Only(a.SiteWords),
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			a.Freshen(ctx)
			switch {
			case byCare && r.Release+r.Archive != "":
				return fault.New(fault.Usage, "--due takes the release from each site's care", "",
					"Leave --release and --archive out.")
			case inHours && !byCare:
				return fault.New(fault.Usage, "--in-hours goes with --due", "", "Leave it out, or add --due.")
			case (len(args) > 1 || o.All) && r.Release+r.Archive != "":
				return fault.New(fault.Usage, "a release belongs to one site", "", "Name one site.")
			case byCare && a.Ordering != nil:
				return fault.New(fault.Usage, "what is due goes to the queue with a maintenance run", "--due", "Run: "+
					fault.Call("maintain", "--queue"))
			case r.Rehearse && a.DryRun:
				return fault.New(fault.Usage, "a rehearsal makes a copy, which a dry run does not", "--rehearse",
					"Leave one of the two out. Nothing was touched.")
			case byCare:
				return a.updateDue(ctx, s, args, inHours)
			case len(args) == 0 && !o.All && o.Table == "":
				return fault.New(
					fault.Usage,
					"which site?",
					"",
					"Name it, or say --due for all that their care takes further, or --all. See what is newer with: tivset sites "+
						"--newer",
				)
			}
			b, err := a.Asked(ctx, s, args, o, func(row *batch.Row) batch.Request {
				one := *r
				one.Site, one.Release = row.Site, row.Value("release", r.Release)
				return &one
			})
			if err != nil {
				return err
			}
			return a.Carry(ctx, s, b, o, func(err error) (batch.Request, error) {
				sum := a.AcceptsArchive(ctx, err)
				if sum == "" {
					return nil, err
				}
				one := *b.Rows[0].Request.(*requests.Update)
				one.Accept = sum
				return &one, nil
			})
		}),
	}
	f := c.Flags()
	f.BoolVar(&byCare, "due", false, "the sites whose care takes a newer release by itself")
	f.BoolVar(&inHours, "in-hours", false, "with --due: only sites whose care names this hour; for a timer")
	f.StringVar(&r.Release, "release", "", "the release (the newest when left out)")
	f.StringVar(&r.Archive, "archive", "", "the release's archive, for apps whose archive you fetch yourself")
	f.StringVar(&r.Accept, "accept-archive", "", cli.AcceptUsage)
	cli.Chooses(c, o, "release")
	f.BoolVar(&r.Rehearse, "rehearse", false,
		"make it on a copy first, compare that with the site, and go on only if all is well")
	f.BoolVar(&r.NoBackup, "no-backup", false, "make no backup first")
	return c
}

// updateDue updates what is due, one after the other. One that fails does not
// keep the others from it.
func (a *app) updateDue(ctx context.Context, s *core.Core, words []string, inHours bool) error {
	for _, err := range update.LookUp(ctx, s.Desk) {
		a.Streams.Note("what is newer could not be looked up, and what was known counts: " + fault.Of(err).Error())
	}
	sites, err := batch.Sites(ctx, s.Book, words, a.Account)
	if err != nil {
		return err
	}
	all, code := []any{}, 0
	for _, x := range sites {
		if x.Due == "" || inHours && !x.Care.Now(a.World.Now().Local()) {
			continue
		}
		if a.DryRun {
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
			all = append(all, a.Streams.Failed(err))
			a.line("failed", x, x.Release+" stays: "+f.What)
			continue
		}
		all = append(all, cli.EndedJSON(&requests.Updated{Done: done}, false))
		a.line("updated", x, done.From+" → "+done.Site.Release)
	}
	if a.JSON {
		if err := a.Streams.WriteJSON(all); err != nil {
			return err
		}
	} else if len(all) == 0 {
		a.Streams.Say("Nothing is due.")
	}
	if code != 0 {
		return cli.Quiet(code)
	}
	return nil
}

// line is the one of a site among several.
func (a *app) line(what string, x ledger.Site, more string) {
	if !a.JSON {
		a.Streams.Print("%-8s %s  %s", what, x.Address, more)
	}
}
