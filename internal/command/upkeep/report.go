package upkeep

import (
	"context"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/atomicfile"
	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/screen"
	"tivset/internal/sites/report"
	"tivset/internal/work/batch"
)

func (a *app) report() *cobra.Command {
	into, site := "", ""
	c := &cobra.Command{
		Use:   "report --into FILE [--site SITE]",
		Short: "Write one page of all sites: health, backups, space, jobs",
		Long: "One page (HTML) that needs no other file and no server, to read, print or send: how the sites are,\n" +
			"what is due, backups by age, space over time, certificates by days, jobs of the last four weeks.\n" +
			"It is made of what is on record; tivset check looks first. With --site it is of one site, for\n" +
			"whom that is for; with --account of one account.",
		Example: "  tivset report --into sites.html\n  tivset report --site forum --into forum.html\n  tivset report --json",
		Args:    cli.Takes(0, 0, "--into FILE"), Annotations: cli.NoDryRun(),
		RunE: a.Using(func(ctx context.Context, s *core.Core, _ []string) error {
			if into == "" && !a.JSON {
				return fault.New(fault.Usage, "where is the page to be written to?", "",
					"Name a file with --into FILE.html, or ask for --json.")
			}
			if end := strings.ToLower(filepath.Ext(into)); into != "" && end != ".html" && end != ".htm" {
				return fault.New(fault.Usage, "no page can be written into "+into, "--into",
					"Name a file that ends with .html.")
			}
			r, err := a.reportOf(ctx, s, site)
			if err != nil {
				return err
			}
			if into != "" {
				text, err := r.HTML()
				if err != nil {
					return err
				}
				if err := atomicfile.Write(into, text, 0o600); err != nil {
					return fault.New(fault.Usage, "the page cannot be written", into,
						"Name a file in a folder that you can write.").Wrap(err)
				}
			}
			if a.JSON {
				return a.Streams.WriteJSON(r)
			}
			a.Streams.Print("The page is in %s.", into)
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&into, "into", "", "the file to write, which ends with .html")
	f.StringVar(&site, "site", "", "only this site")
	cli.Option(c, "site", a.SiteWords, 0)
	return c
}

// reportOf makes the report of all sites, of an account's, or of one.
func (a *app) reportOf(ctx context.Context, s *core.Core, word string) (*report.Report, error) {
	from := report.From{Of: a.Account, By: s.Desk.Who, Now: a.World.Now(), Spell: screen.Spelled}
	if why, call := a.Upkeep(ctx, s); why != "" {
		from.Idle = why + ". To change that: " + screen.Spelled(call)
	}
	var err error
	if word != "" {
		x, err := s.Book.Find(ctx, word)
		if err != nil {
			return nil, err
		}
		from.Of, from.By, from.Sites = x.Title, "", []ledger.Site{x} // for whom it is for
	} else if from.Sites, err = batch.Sites(ctx, s.Book, nil, a.Account); err != nil {
		return nil, err
	}
	if from.Jobs, err = s.Book.Ledger.Jobs(ctx, ledger.JobFilter{Since: report.JobsSince(a.World.Now())}); err != nil {
		return nil, err
	}
	if from.Measures, err = s.Book.Ledger.Measures(ctx); err != nil {
		return nil, err
	}
	if from.Rounds, err = s.Book.Ledger.Rounds(ctx); err != nil {
		return nil, err
	}
	return report.Of(from), nil
}
