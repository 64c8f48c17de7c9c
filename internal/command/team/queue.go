package team

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/records/queue"
	"tivset/internal/records/team"
	"tivset/internal/records/trust"
	"tivset/internal/screen"
	"tivset/internal/work/orders"
)

func (a *app) queueGroup() *cobra.Command {
	return a.Group("queue", "What a team's workers are to do", a.queueList(), a.queueCancel())
}

func (a *app) queueList() *cobra.Command {
	most := 50
	c := &cobra.Command{
		Use: "list", Short: "List what is on the queue, and what came of it", Args: cli.Takes(0, 0, ""),
		Example: "  tivset queue list\n  tivset queue list --json",
		RunE: func(c *cobra.Command, _ []string) error {
			q, _, _, done, err := a.QueueOf(c.Context())
			if err != nil {
				return err
			}
			defer done()
			all, err := q.List(c.Context(), most)
			if err != nil {
				return err
			}
			if a.JSON {
				return a.Streams.WriteJSON(all)
			}
			if len(all) == 0 {
				a.Streams.Say("Nothing is on the queue.")
				return nil
			}
			var rows [][]string
			for _, o := range all {
				rows = append(rows, []string{strconv.FormatInt(o.Number, 10), o.State, o.What, o.At, o.Who,
					o.Put.Format("2006-01-02 15:04"), screen.Dash(o.Worker)})
			}
			a.Streams.Table([]string{"Number", "State", "What", "Site", "Who", "Since", "Worker"}, rows)
			return nil
		},
	}
	c.Flags().IntVar(&most, "most", most, "how many, the newest first")
	return c
}

func (a *app) queueCancel() *cobra.Command {
	return &cobra.Command{
		Use: "cancel NUMBER", Short: "Take a request from the queue; one under way is interrupted, and undone",
		Args: cli.Takes(1, 1, "NUMBER"), Annotations: cli.NoDryRun(),
		Example: "  tivset queue cancel 12\n  tivset queue cancel 12 --json",
		RunE: func(c *cobra.Command, args []string) error {
			n, err := numbered(args[0])
			if err != nil {
				return err
			}
			q, p, _, done, err := a.QueueOf(c.Context())
			if err != nil {
				return err
			}
			defer done()
			if err := a.May(c.Context(), p.Ledger.(*team.Team), trust.Operate); err != nil {
				return err
			}
			o, err := q.Cancel(c.Context(), n)
			if err != nil {
				return err
			}
			if a.JSON {
				return a.Streams.WriteJSON(o)
			}
			a.Streams.Print("Number %d is %s.", o.Number, map[bool]string{true: "being interrupted",
				false: o.State}[o.State == "running"])
			return nil
		},
	}
}

func numbered(text string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, fault.New(fault.Usage, "that is no number of a request", text,
			"See them with: "+fault.Call("queue", "list"))
	}
	return n, nil
}

// Follow shows how an order goes on until it has ended, from wherever it is typed.
func Follow(ctx context.Context, shared *cli.App, word string) error {
	a := &app{shared}
	n, err := numbered(word)
	if err != nil {
		return err
	}
	q, p, _, done, err := a.QueueOf(ctx)
	if err != nil {
		return err
	}
	defer done()
	shown := stagesShown{}
	for {
		o, err := q.Get(ctx, n)
		if err != nil {
			return err
		}
		if err := shown.more(ctx, a, p, o); err != nil {
			return err
		}
		if o.Ended != nil {
			return a.followed(o)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// followed says how an order ended, with its exit code.
func (a *app) followed(o queue.Listed) error {
	code := 0
	if o.Result != nil {
		code = o.Result.Code
	} else if o.State != "done" {
		code = int(fault.Failed)
	}
	if a.JSON {
		if err := a.Streams.WriteJSON(o); err != nil {
			return err
		}
	} else {
		a.Streams.Print("Number %d, %s of %s: %s.", o.Number, o.What, o.At, o.State)
		if o.Result != nil {
			if why := orders.Why(*o.Result); why != "" {
				a.Streams.Print("%s", why)
			}
		}
	}
	if code != 0 {
		return cli.Quiet(code)
	}
	return nil
}

// stagesShown is what of an order's jobs was shown: by job, how many of its journal's lines.
type stagesShown map[string]int

// more shows what has been done since.
func (s stagesShown) more(ctx context.Context, a *app, p team.Place, o queue.Listed) error {
	jobs, err := p.Ledger.Jobs(ctx, ledger.JobFilter{Order: o.Number})
	if err != nil {
		return err
	}
	slices.Reverse(jobs) // the oldest first
	for _, j := range jobs {
		titles, err := p.Ledger.(*team.Team).Stages(ctx, j.ID, s[j.ID])
		if err != nil {
			return err
		}
		for _, title := range titles.Done {
			a.Streams.Say("  ✓ %s", title)
		}
		s[j.ID] = titles.Lines
	}
	return nil
}

func orderName(number int64, o queue.Order) string {
	return strings.TrimSpace(fmt.Sprintf("number %d %s %s", number, o.What, o.At))
}
