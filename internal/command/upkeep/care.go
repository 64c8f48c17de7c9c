package upkeep

import (
	"context"

	"github.com/spf13/cobra"

	"tivset/internal/answer/care"
	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/sites"
)

func (a *app) care() *cobra.Command {
	how, chosen, usual := sites.Entrusting{}, &cli.Selection{}, false
	given := map[string]*string{}
	c := &cobra.Command{
		Use:   "care SITE… [--accepts LEVEL] [--after DAYS] [--backups HOW] [--notify WHOM] [--like SITE] [options]",
		Short: "Show and change how a site is looked after",
		Long: "Which releases are installed by themselves, how long they must have been out, between which hours, which\n" +
			"of them are rehearsed, how often backups are made, and who is notified of what. Without an option it says\n" +
			"how that stands. A backup before an update, and putting back what fails, always happen.\n" +
			"--default is for sites that come from now on: have trouble told to yourself, and not to their owners.\n" +
			"To have it done: tivset maintain on.",
		Example: "  tivset care forum\n  tivset care forum journal --accepts features --after 7d\n" +
			"  tivset care journal --between 22-04 --notify \"wharfinger@lockside.localhost, changes\"\n" +
			"  tivset care journal --like forum\n  tivset care --default --notify \"wharfinger@lockside.localhost, trouble\"",
		Args: cli.Takes(0, -1, "SITE…"), Annotations: cli.NoDryRun(), ValidArgsFunction: a.AllSiteWords,
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			how.Decided = map[string]string{}
			for name, value := range given {
				if *value != "" {
					how.Decided[name] = *value
				}
			}
			if usual {
				return a.usualCare(ctx, s, args, how)
			}
			rows, err := a.Rows(ctx, s, args, chosen)
			if err != nil {
				return err
			}
			args = cli.Named(rows)
			changed, err := s.Sites.Entrust(ctx, args, how)
			if err != nil {
				return err
			}
			return a.showCare(ctx, s, changed)
		}),
	}
	cli.AllOf(c, chosen)
	f := c.Flags()
	f.StringVar(&chosen.Table, "table", "", "the sites of a table (CSV) with the column site; - for standard input")
	for name, help := range map[string]string{
		"accepts":  "releases that are installed by themselves, up to a level: nothing, fixes, features, breaking",
		"after":    "for how many days a release must have been out, such as 3d",
		"between":  "the hours between which that is done, such as 02-05, or any",
		"rehearse": "releases that are installed on a copy first: from-fixes (each), from-features, breaking, nothing",
		"backups":  "how often a backup is made, and which are kept: daily, 7d,4w,6m; or none",
		"notify":   "whom, and of what: trouble, changes, everything, or \"ADDRESS, trouble\"; or nobody",
	} {
		given[name] = f.String(name, "", help)
	}
	f.BoolVar(&usual, "default", false, "of sites that come from now on, where nothing else is said when they do")
	f.StringVar(&how.Like, "like", "", "a site whose care they get")
	cli.Option(c, "like", a.SiteWords, 0)
	cli.Option(c, "accepts", func(context.Context) []string { return care.Levels }, 0)
	cli.Option(c, "rehearse", func(context.Context) []string { return care.Rehearsals }, 0)
	return c
}

// usualCare shows and changes the care of sites that come from now on.
func (a *app) usualCare(ctx context.Context, s *core.Core, args []string, how sites.Entrusting) error {
	if len(args) > 0 {
		return fault.New(fault.Usage, "--default is of no site", args[0], "Leave the name out, or --default.")
	}
	h := a.World.Home()
	c, err := h.DefaultCare()
	if err != nil && len(how.Decided) == 0 && how.Like == "" {
		return err
	}
	if how.Like != "" {
		x, err := s.Book.Find(ctx, how.Like)
		if err != nil {
			return err
		}
		c = x.Care
	}
	if c, err = c.With(how.Decided); err != nil {
		return err
	}
	if len(how.Decided) > 0 || how.Like != "" {
		if err := h.KeepDefaultCare(c); err != nil {
			return err
		}
	}
	const whose = "the admin's address"
	if a.JSON {
		return a.Streams.WriteJSON(careJSON{"", c, c.Sentence(true, whose), ""})
	}
	a.Streams.Entrusted("A site that comes from now on", c.Sentence(true, whose), "")
	return nil
}

// careJSON is the care of one site.
type careJSON struct {
	Address  string    `json:"address"`
	Care     care.Care `json:"care"`
	Sentence string    `json:"sentence"`
	Due      string    `json:"due_release,omitempty"`
}

func (a *app) showCare(ctx context.Context, s *core.Core, all []ledger.Site) error {
	out := []careJSON{}
	for _, x := range all {
		out = append(out, careJSON{x.Address, x.Care, x.Care.Sentence(cli.CanMail(s, x), x.Admin.Email), x.Due})
	}
	switch {
	case a.JSON && len(out) == 1:
		return a.Streams.WriteJSON(out[0])
	case a.JSON:
		return a.Streams.WriteJSON(out)
	}
	for _, one := range out {
		a.Streams.Entrusted(one.Address, one.Sentence, one.Due)
	}
	if a.SayIdle(ctx, s); a.Streams.Idle != "" {
		a.Streams.Warn(a.Streams.Idle)
	}
	return nil
}
