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
	return a.Group("queue", "What a team's workers are to do", a.queueList(), a.queueCancel(), a.queueRetry(),
		a.queueWorkers())
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
			a.showQueue(all)
			return nil
		},
	}
	c.Flags().IntVar(&most, "most", most, "how many, the newest first")
	return c
}

// showQueue lists requests, and why those wait that do.
func (a *app) showQueue(all []queue.Listed) {
	var rows [][]string
	for _, o := range all {
		of := strconv.FormatInt(o.Number, 10)
		if o.Batch > 0 {
			of += " of " + strconv.FormatInt(o.Batch, 10)
		}
		rows = append(rows, []string{of, o.State, o.What, o.At, o.Who, o.Put.Format("2006-01-02 15:04"),
			screen.Dash(o.Worker)})
	}
	a.Streams.Table([]string{"Number", "State", "What", "Site", "Who", "Since", "Worker"}, rows)
	for _, o := range all {
		switch {
		case o.State == "stuck":
			a.Streams.Say("Number %d waits for people: %s. Several workers gave it back. When it is mended: tivset queue "+
				"retry %d",
				o.Number, o.Why, o.Number)
		case o.Why != "" && o.Until != nil:
			a.Streams.Say("Number %d waits until %s: %s.", o.Number, o.Until.Format("15:04:05"), o.Why)
		case o.Why != "":
			a.Streams.Say("Number %d: %s.", o.Number, o.Why)
		}
	}
}

// each does something with all requests that a number means, and says what became of them.
func (a *app) each(ctx context.Context, word string, do func(q *queue.Queue, as string, all []queue.Listed) (
	[]queue.Listed, error)) error {
	n, err := numbered(word)
	if err != nil {
		return err
	}
	q, p, as, done, err := a.QueueOf(ctx)
	if err != nil {
		return err
	}
	defer done()
	if err := a.May(ctx, p.Ledger.(*team.Team), trust.Operate); err != nil {
		return err
	}
	all, err := q.Of(ctx, n)
	if err != nil {
		return err
	}
	became, err := do(q, as, all)
	if err != nil {
		return err
	}
	if a.JSON && len(became) == 1 && all[0].Number == n {
		return a.Streams.WriteJSON(became[0])
	}
	if a.JSON {
		return a.Streams.WriteJSON(became)
	}
	for _, o := range became {
		a.Streams.Print("Number %d is %s.", o.Number, map[bool]string{true: "being interrupted",
			false: o.State}[o.State == "running"])
	}
	return nil
}

func (a *app) queueCancel() *cobra.Command {
	return &cobra.Command{
		Use: "cancel NUMBER", Short: "Take a request from the queue, or all of a batch; one under way is interrupted, and " +
			"undone",
		Args: cli.Takes(1, 1, "NUMBER"), Annotations: cli.NoDryRun(),
		Example: "  tivset queue cancel 12\n  tivset queue cancel 12 --json",
		RunE: func(c *cobra.Command, args []string) error {
			return a.each(c.Context(), args[0], func(q *queue.Queue, _ string, all []queue.Listed) (out []queue.Listed,
				err error) {
				for _, o := range all {
					if o.Ended != nil && len(all) > 1 {
						continue
					}
					if o, err = q.Cancel(c.Context(), o.Number); err != nil {
						return out, err
					}
					out = append(out, o)
				}
				return out, nil
			})
		},
	}
}

func (a *app) queueRetry() *cobra.Command {
	return &cobra.Command{
		Use: "retry NUMBER", Short: "Put what failed on the queue again, of a batch all that did",
		Args: cli.Takes(1, 1, "NUMBER"), Annotations: cli.NoDryRun(),
		Example: "  tivset queue retry 12\n  tivset queue retry 12 --json",
		RunE: func(c *cobra.Command, args []string) error {
			ctx := c.Context()
			return a.each(ctx, args[0], func(q *queue.Queue, as string, all []queue.Listed) (out []queue.Listed, err error) {
				var again []queue.Listed
				for _, o := range all {
					if len(all) == 1 || slices.Contains([]string{"failed", "cancelled", "stuck"}, o.State) {
						again = append(again, o)
					}
				}
				if len(again) == 0 {
					return nil, fault.New(fault.Usage, "nothing of it failed", args[0], "See: "+fault.Call("queue", "list"))
				}
				var together int64
				if len(again) > 1 {
					if together, err = q.NewBatch(ctx); err != nil {
						return nil, err
					}
					a.Streams.Say("Together they are number %d.", together)
				}
				for _, o := range again {
					n, err := q.Retry(ctx, o, as, together, queue.Priorities["normal"])
					if err != nil {
						return out, err
					}
					if o, err = q.Get(ctx, n); err != nil {
						return out, err
					}
					out = append(out, o)
				}
				return out, nil
			})
		},
	}
}

func (a *app) queueWorkers() *cobra.Command {
	return &cobra.Command{
		Use: "workers", Short: "List the workers: who lives, since when, what they have, and what they lack",
		Long: "Ends with exit code 1 when no worker is at work, and with 3 when one lacks something for a request, so " +
			"that\n" +
			"whatever watches a machine can ask for it.",
		Args: cli.Takes(0, 0, ""), Example: "  tivset queue workers\n  tivset queue workers --json",
		RunE: func(c *cobra.Command, _ []string) error {
			q, _, _, done, err := a.QueueOf(c.Context())
			if err != nil {
				return err
			}
			defer done()
			all, err := q.Workers(c.Context())
			if err != nil {
				return err
			}
			code := int(fault.Failed)
			var rows [][]string
			var lacks []string
			for _, w := range all {
				state, has := "gone", []string{}
				if w.Alive {
					state = "at work"
					code = 0
				}
				for _, n := range w.Orders {
					has = append(has, strconv.FormatInt(n, 10))
				}
				for of, why := range w.Lacks {
					lacks = append(lacks, w.ID+": "+of+": "+why)
				}
				rows = append(rows, []string{w.ID, state, w.Since.UTC().Format("2006-01-02 15:04"),
					w.Seen.UTC().Format("15:04:05"), screen.Dash(strings.Join(has, ", ")),
					screen.Dash(strings.Join(w.Accounts, ", "))})
			}
			if code == 0 && len(lacks) > 0 {
				code = int(fault.NeedsConfirmation)
			}
			switch {
			case a.JSON:
				if err := a.Streams.WriteJSON(all); err != nil {
					return err
				}
			case len(all) == 0:
				a.Streams.Say("No worker is at work. Begin one with: tivset worker")
			default:
				a.Streams.Table([]string{"Worker", "State", "Since", "Seen", "Has", "Only for"}, rows)
				for _, one := range lacks {
					a.Streams.Say("%s", one)
				}
			}
			if code != 0 {
				return cli.Quiet(code)
			}
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
	all, err := q.Of(ctx, n)
	if err != nil {
		return err
	}
	if len(all) > 1 || all[0].Batch == n {
		return a.followBatch(ctx, q, n)
	}
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

// followBatch shows how many of a batch have ended, until all have; those that failed first.
func (a *app) followBatch(ctx context.Context, q *queue.Queue, n int64) error {
	said := -1
	for {
		all, err := q.Of(ctx, n)
		if err != nil {
			return err
		}
		ended := 0
		for _, o := range all {
			if o.Ended != nil {
				ended++
			}
		}
		if ended != said {
			said = ended
			a.Streams.Say("  %d of %d", ended, len(all))
		}
		if ended == len(all) {
			return a.batchFollowed(n, all)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
	}
}

// batchFollowed says how a batch ended, with the worst exit code of it.
func (a *app) batchFollowed(n int64, all []queue.Listed) error {
	code := 0
	for _, o := range all {
		if o.State != "done" {
			code = max(code, int(fault.Failed))
		}
		if o.Result != nil {
			code = max(code, o.Result.Code)
		}
	}
	if a.JSON {
		if err := a.Streams.WriteJSON(all); err != nil {
			return err
		}
	} else {
		a.Streams.Print("%s", orders.BatchText(n, all))
	}
	if code != 0 {
		return cli.Quiet(code)
	}
	return nil
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
