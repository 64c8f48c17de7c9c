package upkeep

import (
	"cmp"
	"context"
	"regexp"
	"time"

	"github.com/spf13/cobra"

	"tivset/internal/accounts"
	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/records/outbox"
	"tivset/internal/records/team"
	"tivset/internal/screen"
	"tivset/internal/work/batch"
	"tivset/internal/work/requests"
	"tivset/internal/work/rounds"
)

func (a *app) maintain() *cobra.Command {
	r, o := rounds.Request{}, cli.Ordering{}
	c := &cobra.Command{
		Use:   "maintain [on [--every 1h] | off | status]",
		Short: "Make the updates, backups and checks that are due",
		Long: "Makes the updates, backups and checks that are due, each between the hours that the site's care names:\n" +
			"the sites of an account one after the other, accounts side by side. Each person gets one mail per run,\n" +
			"and none when all is well. With on, this machine does it from now on, by its crontab or a timer of systemd.\n" +
			"With --queue a team's workers do it, an account each, whichever machine asks.",
		Example: "  tivset maintain\n  tivset maintain --dry-run\n  tivset maintain on\n  tivset maintain on --every 30m\n" +
			"  tivset maintain status",
		Args: a.Unknown,
	}
	c.RunE = a.Using(func(ctx context.Context, s *core.Core, _ []string) error {
		if o.On && !a.DryRun {
			return a.orderRounds(c, s, r, &o)
		}
		return a.makeRound(ctx, s, r)
	})
	o.Flags(c)
	c.Flags().BoolVar(&r.Now, "now", false, "whatever the hours of the sites")
	every, queue := "1h", false
	on := &cobra.Command{Use: "on [--every 1h]", Short: "Have this machine do it by itself",
		Example: "  tivset maintain on\n  tivset maintain on --every 30m", Args: cli.Takes(0, 0, ""),
		Annotations: cli.NoDryRun(),
		RunE: a.Using(
			func(ctx context.Context, s *core.Core, _ []string) error { return a.roundsOn(ctx, s, every, queue) },
		)}
	on.Flags().BoolVar(&queue, "queue", false, "put what is due on the team's queue, for workers")
	on.Flags().StringVar(&every, "every", "1h", "how often: 10m to 59m, or 1h to 23h")
	off := &cobra.Command{
		Use: "off", Short: "Have this machine do it no more",
		Example: "  tivset maintain off\n  tivset maintain off --json",
		Args:    cli.Takes(0, 0, ""), Annotations: cli.NoDryRun(),
		RunE: a.Using(func(ctx context.Context, s *core.Core, _ []string) error {
			t, err := a.Timer("1h")
			if err != nil {
				return err
			}
			if _, err := s.Accounts.SetRounds(ctx, t, false); err != nil {
				return err
			}
			return a.saidRounds("off", "Maintenance is off on this machine.")
		})}
	status := &cobra.Command{Use: "status", Short: "Show whether it is done by itself, and what the last run did",
		Long: "Ends with exit code 1 when the last run that did anything met trouble, and with 3 when it is on and none " +
			"was\n" +
			"made for 26 hours, so that whatever watches a machine can ask for it.",
		Example: "  tivset maintain status\n  tivset maintain status --json", Args: cli.Takes(0, 0, ""),
		RunE: a.Using(func(ctx context.Context, s *core.Core, _ []string) error { return a.roundsStatus(ctx, s) })}
	c.AddCommand(on, off, status)
	for _, sub := range c.Commands() {
		sub.DisableFlagsInUseLine = true
	}
	return c
}

func (a *app) makeRound(ctx context.Context, s *core.Core, r rounds.Request) error {
	r.Account, r.Dry = a.Account, a.DryRun
	s.Desk.Progress = nil // its lines are what is done, not how
	shows := a.Streams.RoundLine
	if a.JSON {
		shows = nil
	}
	came, err := rounds.Go(ctx, s.Desk, r, shows)
	if err != nil {
		return err
	}
	if a.JSON {
		if err := a.Streams.WriteJSON(cli.NewRoundJSON(came)); err != nil {
			return err
		}
	} else {
		a.Streams.Rounded(came)
	}
	if came.Failed() {
		return cli.Quiet(int(fault.Failed))
	}
	return nil
}

// orderRounds puts a round of each account on the queue at which anything is due. One that is
// there already, from whichever machine, stays the only one.
func (a *app) orderRounds(c *cobra.Command, s *core.Core, r rounds.Request, o *cli.Ordering) error {
	ctx := c.Context()
	if err := o.Valid(c); err != nil {
		return err
	}
	if _, is := s.Book.Ledger.(*team.Team); !is {
		return cli.NoQueue()
	}
	for _, err := range s.Desk.SendOut(ctx).Failed { // what this machine was to tell before it left its rounds to others
		a.Streams.Note(err.Error())
	}
	r.Account, r.Dry = a.Account, true
	due, err := rounds.Go(ctx, s.Desk, r, nil)
	if err != nil {
		return err
	}
	b := &batch.Batch{}
	seen := map[string]bool{}
	for _, l := range due.Lines {
		if seen[l.Site.Account] {
			continue
		}
		seen[l.Site.Account] = true
		row := &batch.Row{Request: &requests.Rounds{Request: rounds.Request{Account: l.Site.Account, Now: r.Now}}}
		if row.Plan, err = row.Request.Plan(ctx, s.Desk); err != nil {
			return err
		}
		b.Rows = append(b.Rows, row)
	}
	if len(b.Rows) == 0 && !a.JSON {
		a.Streams.Say("%s looked at: nothing is due.", screen.Counted(due.Sites, "site"))
	}
	a.Ordering = o
	return a.OrderAll(ctx, s, b, "on the queue already")
}

var everyForm = regexp.MustCompile(`^([1-5][0-9]m|[1-9]h|1[0-9]h|2[0-3]h)$`)

func (a *app) roundsOn(ctx context.Context, s *core.Core, every string, queue bool) error {
	if !everyForm.MatchString(every) {
		return fault.New(fault.Usage, "maintenance cannot be run every “"+every+"”", "--every",
			"Write 10m to 59m, or 1h to 23h.")
	}
	t, err := a.Timer(every)
	if err != nil {
		return err
	}
	if _, is := s.Book.Ledger.(*team.Team); queue && !is {
		return cli.NoQueue()
	}
	t.Queue = queue
	by, err := s.Accounts.SetRounds(ctx, t, true)
	if err != nil {
		return err
	}
	said := "Maintenance is on: this machine looks every " + every +
		", and makes what is due between the hours of each site."
	if queue {
		said = "Maintenance is on: every " + every + " this machine puts what is due on the team's queue, for workers."
	}
	if by == accounts.BySystemd {
		said += "\nA timer of systemd runs while you are signed in. To have it run always: loginctl enable-linger"
	}
	return a.saidRounds("on", said)
}

func (a *app) saidRounds(how, text string) error {
	if a.JSON {
		return a.Streams.WriteJSON(map[string]any{"maintain": how})
	}
	a.Streams.Print("%s", text)
	return nil
}

// statusJSON is how it stands with rounds.
type statusJSON struct {
	On      bool               `json:"on"`
	Line    string             `json:"line,omitempty"` // of the crontab, or the timer of systemd
	At      *time.Time         `json:"last_at,omitempty"`
	Seconds float64            `json:"last_seconds"`
	Since   *time.Time         `json:"under_way_since,omitempty"`
	DidAt   *time.Time         `json:"did_at,omitempty"` // when one did anything last
	Who     string             `json:"did_by,omitempty"`
	Did     []ledger.RoundLine `json:"did"`
	Waiting []waitsJSON        `json:"waiting"` // what could not be told yet
}

// waitsJSON is something that this machine is to tell, and could not yet.
type waitsJSON struct {
	To    string    `json:"to"`
	Begun time.Time `json:"begun"`
	Next  time.Time `json:"next"`
	Why   string    `json:"why"`
}

// waiting lists what this machine could not tell yet.
func waiting(s *core.Core) (out []waitsJSON, err error) {
	out = []waitsJSON{}
	all, err := outbox.At(s.Book.Home).Letters()
	for _, l := range all {
		if l.Tries > 0 {
			out = append(out, waitsJSON{l.To, l.Begun, l.Next, l.Why})
		}
	}
	return out, err
}

func (a *app) roundsStatus(ctx context.Context, s *core.Core) error {
	t, err := a.Timer("1h")
	if err != nil {
		return err
	}
	kept, err := s.Book.Home.Rounds()
	if err != nil {
		return err
	}
	line, by, crontabErr := s.Accounts.RoundsLine(ctx, t)
	did, err := s.Book.Ledger.Rounds(ctx)
	if err != nil {
		return err
	}
	out := statusJSON{On: line != "", Line: line, Seconds: kept.Seconds, Did: []ledger.RoundLine{}}
	if !kept.At.IsZero() {
		out.At = &kept.At
	}
	if len(did) > 0 {
		out.DidAt, out.Who, out.Did = &did[0].At, did[0].Who, did[0].Lines
	}
	since, err := s.Book.Home.RoundUnderWay()
	if err != nil {
		return err
	}
	if !since.IsZero() {
		out.Since = &since
	}
	code, err := a.statusCode(ctx, s, out.On, since)
	if err != nil {
		return err
	}
	if out.Waiting, err = waiting(s); err != nil {
		return err
	}
	if a.JSON {
		return cmp.Or(a.Streams.WriteJSON(out), code)
	}
	switch {
	case crontabErr != nil:
		f := fault.Of(crontabErr)
		a.Streams.Print("Whether maintenance is on cannot be told: %s. %s", f.Error(), f.Remedy)
	case out.On:
		a.Streams.Print("Maintenance is on; %s has:\n  %s", by, out.Line)
	default:
		a.Streams.Print("Maintenance is off. To switch it on: tivset maintain on")
	}
	a.Streams.UnderWay(since, a.World.Now())
	a.Streams.LastRounds(kept, did)
	for _, w := range out.Waiting {
		a.Streams.Print("%s could not be told yet what was done on %s: %s. It is tried again from %s on.", w.To,
			w.Begun.Local().Format("2 January, 15:04"), w.Why, w.Next.Local().Format("2 January, 15:04"))
	}
	return code
}

// statusCode is the exit code of maintain status, for whatever watches a machine: 1 when the last run met trouble, 3
// when none was made lately though it is on, or one is under way for so long that something holds it up.
func (a *app) statusCode(ctx context.Context, s *core.Core, on bool, since time.Time) (code, err error) {
	h, err := a.roundsHealth(ctx, s)
	switch {
	case err != nil:
		return nil, err
	case !since.IsZero() && a.World.Now().Sub(since) > screen.LongUnderWay,
		on && (h.last == nil || a.World.Now().Sub(*h.last) > lately):
		return cli.Quiet(int(fault.NeedsConfirmation)), nil
	case h.troubles > 0:
		return cli.Quiet(int(fault.Failed)), nil
	}
	return nil, nil
}
