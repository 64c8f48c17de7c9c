package upkeep

import (
	"context"

	"github.com/spf13/cobra"

	"tivset/internal/answer/care"
	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/records/ledger"
	"tivset/internal/sites"
)

func (a *app) care() *cobra.Command {
	how := sites.Entrusting{}
	given := map[string]*string{}
	c := &cobra.Command{
		Use:   "care SITE… [--takes LEVEL] [--waits DAYS] [--backups HOW] [--tells WHOM] [--like SITE] [flags]",
		Short: "Show and change what is entrusted of a site",
		Long: "Which releases a site takes by itself, how long they must have been out, at which hours, which of them\n" +
			"are rehearsed, how often backups are made, and who is told of what. Without a decision it says how that\n" +
			"stands. A backup before an update, and putting back what does not work, are no decisions: they always\n" +
			"happen. What carries it out: tivset rounds on.",
		Example: "  tivset care forum\n  tivset care forum journal --takes features --waits 7d\n" +
			"  tivset care journal --hours 22-04 --tells \"wharfinger@lockside.localhost, changes\"\n" +
			"  tivset care journal --like forum",
		Args: cli.Takes(1, -1, "SITE…"), Annotations: cli.NoDryRun(), ValidArgsFunction: a.AllSiteWords,
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			how.Decided = map[string]string{}
			for name, value := range given {
				if *value != "" {
					how.Decided[name] = *value
				}
			}
			changed, err := s.Sites.Entrust(ctx, args, how)
			if err != nil {
				return err
			}
			return a.showCare(s, changed)
		}),
	}
	f := c.Flags()
	for name, help := range map[string]string{
		"takes":     "releases that it takes by itself, up to a level: nothing, fixes, features, breaking",
		"waits":     "for how many days a release must have been out, such as 3d",
		"hours":     "the hours at which that is done, such as 02-05, or any",
		"rehearses": "releases from which level on are first made on a copy: fixes, features, breaking, nothing",
		"backups":   "how often a backup is made, and which are kept: daily, 7d,4w,6m; or none",
		"tells":     "whom, and of what: trouble, changes, everything, or \"ADDRESS, trouble\"; or nobody",
	} {
		given[name] = f.String(name, "", help)
	}
	f.StringVar(&how.Like, "like", "", "a site whose care these get")
	cli.Option(c, "like", a.SiteWords, 0)
	cli.Option(c, "takes", func(context.Context) []string { return care.Levels }, 0)
	return c
}

// careJSON is the care of one site.
type careJSON struct {
	Address  string    `json:"address"`
	Care     care.Care `json:"care"`
	Sentence string    `json:"sentence"`
	Due      string    `json:"due_release,omitempty"`
}

func (a *app) showCare(s *core.Core, all []ledger.Site) error {
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
	return nil
}
