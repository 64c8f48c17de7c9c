package team

import (
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/fault"
	"tivset/internal/records/team"
	"tivset/internal/records/trust"
	"tivset/internal/screen"
)

func (a *app) history() *cobra.Command {
	of := team.HistoryOf{Most: 50}
	c := &cobra.Command{
		Use:   "history [SITE|ACCOUNT|MEMBER] [--most N]",
		Short: "Say who of the team did what",
		Long: "Reads the log of the team, the newest entries first: records of sites, accounts and passwords that were\n" +
			"written or forgotten, passwords that were shown, requests and what came of them, and who is of the team.\n" +
			"Each entry was signed by who made it, and is compared with what this machine knows of the log.",
		Example: "  tivset history\n  tivset history lockside.localhost/forum\n  tivset history steward --most 200",
		Args:    cli.Takes(0, 1, "SITE|ACCOUNT|MEMBER"),
		RunE: func(c *cobra.Command, args []string) error {
			t, _, _, done, err := a.teamOf(c.Context())
			if err != nil {
				return err
			}
			defer done()
			if of.Most < 1 {
				return fault.New(fault.Usage, "at least one entry has to be shown", "--most", "Give a number from 1 on.")
			}
			if len(args) > 0 {
				charter, err := t.Charter(c.Context())
				if err != nil {
					return err
				}
				if of.Of = args[0]; charter.Knew(args[0]) {
					of.Of, of.Member = "", args[0]
				}
			}
			all, err := t.History(c.Context(), of)
			if err != nil {
				return err
			}
			if a.JSON {
				return a.Streams.WriteJSON(all)
			}
			if len(all) == 0 {
				a.Streams.Say("The log has nothing of that.")
				return nil
			}
			var rows [][]string
			for _, e := range all {
				rows = append(rows, []string{e.At.UTC().Format("2006-01-02 15:04:05"), e.Member, didWhat(e)})
			}
			a.Streams.Table([]string{"When", "Who", "What"}, rows)
			return nil
		},
	}
	c.Flags().IntVar(&of.Most, "most", of.Most, "how many, the newest first")
	return c
}

// didWhat words an entry.
func didWhat(e team.Entry) string {
	done := "written"
	if e.Gone {
		done = "taken away"
	}
	switch e.Kind {
	case trust.OfCharter:
		return "team: " + e.Note + " (version " + e.Key + ")"
	case trust.OfSeen:
		return e.Note + ": " + e.Key
	case trust.OfRequest, trust.OfResult:
		return "request " + screen.Dash(e.Note)
	case trust.OfJob:
		return e.Note + " (job " + e.Key + ")"
	case trust.OfSecret:
		return "password " + done + ": " + strings.TrimPrefix(e.Key, "sites/")
	}
	if e.Note != "" && !e.Gone {
		done = e.Note + " " + done
	}
	return string(e.Kind) + " " + done + ": " + e.Key
}

func (a *app) ledgerAccept() *cobra.Command {
	return &cobra.Command{
		Use: "accept", Short: "Go on with a database that was put back, or that somebody wrote into",
		Long: "Where the team's database was put back from a backup, or something was written into it that nobody of\n" +
			"the team signed, every machine stops. An admin who knows why sees here what is lost and who would come\n" +
			"back, and has the team go on with what is right, and with the members that this machine knows.",
		Example: "  tivset ledger accept\n  tivset ledger accept --yes",
		Args:    cli.Takes(0, 0, ""), Annotations: cli.NoDryRun(),
		RunE: func(c *cobra.Command, _ []string) error {
			ctx, h := c.Context(), a.World.Home()
			t, done, err := a.teamUnseen(ctx)
			if err != nil {
				return err
			}
			defer done()
			d, err := t.Differs(ctx)
			if err != nil {
				return err
			}
			if d == nil {
				return fault.New(fault.Usage, "the database is as the team wrote it", t.Address(), "There is nothing to accept.")
			}
			if err := a.AgreeFinally(ctx, worded(*d), "Go on with that?"); err != nil {
				return err
			}
			if err := t.Accept(ctx); err != nil {
				return err
			}
			if _, err := a.Known(ctx, t, h); err != nil {
				return err
			}
			if a.JSON {
				return a.Streams.WriteJSON(map[string]any{"outcome": "accepted", "difference": d})
			}
			a.Streams.Print("The team goes on from number %d.", d.There)
			return nil
		},
	}
}

// worded says what is different.
func worded(d team.Difference) string {
	out := []string{"  This machine knows the log until number " + strconv.FormatInt(d.Seen, 10) +
		"; what is right in the database ends with number " + strconv.FormatInt(d.There, 10) + "."}
	if d.Bad {
		out = append(out, "  What comes after that was made by nobody who may, and is taken out.")
	}
	out = append(out, some("These are not there, or not as the team wrote them last, and are lost", d.Lost)...)
	out = append(out, some("These nobody of the team wrote, and they are taken out", d.Foreign)...)
	if len(d.Back) > 0 {
		out = append(out, "  It would bring back, and does not: "+strings.Join(d.Back, ", ")+".")
	}
	if len(d.Missing) > 0 {
		out = append(out, "  It does not know yet, and will: "+strings.Join(d.Missing, ", ")+".")
	}
	return strings.Join(out, "\n")
}

// some lists the first of many.
func some(what string, all []string) (out []string) {
	const most = 20
	if len(all) == 0 {
		return nil
	}
	out = append(out, "  "+what+": "+screen.Counted(len(all), "record")+".")
	for _, one := range all[:min(most, len(all))] {
		out = append(out, "    "+one)
	}
	if len(all) > most {
		out = append(out, "    … and "+strconv.Itoa(len(all)-most)+" more")
	}
	return out
}
