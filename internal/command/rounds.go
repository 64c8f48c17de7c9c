package command

import (
	"context"
	"os"
	"path/filepath"
	"regexp"
	"time"

	"github.com/spf13/cobra"

	"tivset/internal/accounts"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/records/team"
	"tivset/internal/screen"
	"tivset/internal/work/batch"
	"tivset/internal/work/requests"
	"tivset/internal/work/rounds"
)

func (a *app) rounds() *cobra.Command {
	r, o := rounds.Request{}, ordering{}
	c := &cobra.Command{
		Use:   "rounds [on [--every 1h] | off | status]",
		Short: "Do what the care of all sites asks and is due",
		Long: "Makes the updates, backups and checks that are due, each at the hours that the site's care names: the\n" +
			"sites of an account in turn, accounts side by side. Whom it concerns is told in one mail a round; when\n" +
			"all is well and nobody asked for more, in none. With on, this machine's crontab does it from now on.\n" +
			"With --queue a team's workers do it, an account each, whichever machine asks.",
		Example: "  tivset rounds\n  tivset rounds --dry-run\n  tivset rounds on\n  tivset rounds on --every 30m\n" +
			"  tivset rounds status",
		Args: a.unknown,
	}
	c.RunE = a.using(func(ctx context.Context, s *core.Core, _ []string) error {
		if o.on && !a.dryRun {
			return a.orderRounds(c, s, r, &o)
		}
		return a.makeRound(ctx, s, r)
	})
	o.flags(c)
	c.Flags().BoolVar(&r.Now, "now", false, "whatever the hours of the sites' care")
	every, queue := "1h", false
	on := &cobra.Command{Use: "on [--every 1h]", Short: "Have this machine's crontab make rounds",
		Example: "  tivset rounds on\n  tivset rounds on --every 30m", Args: takes(0, 0, ""), Annotations: noDryRun(),
		RunE: a.using(
			func(ctx context.Context, s *core.Core, _ []string) error { return a.roundsOn(ctx, s, every, queue) },
		)}
	on.Flags().BoolVar(&queue, "queue", false, "put the rounds on the team's queue, for workers")
	on.Flags().StringVar(&every, "every", "1h", "how often: 10m to 59m, or 1h to 23h")
	off := &cobra.Command{Use: "off", Short: "Make no more rounds by itself", Example: "  tivset rounds off",
		Args: takes(0, 0, ""), Annotations: noDryRun(),
		RunE: a.using(func(ctx context.Context, s *core.Core, _ []string) error {
			t, err := a.timer("1h")
			if err != nil {
				return err
			}
			if err := s.Accounts.SetRounds(ctx, t, false); err != nil {
				return err
			}
			return a.saidRounds("off", "This machine makes no rounds by itself.")
		})}
	status := &cobra.Command{Use: "status", Short: "Whether rounds are made by themselves, and what the last ones did",
		Example: "  tivset rounds status", Args: takes(0, 0, ""),
		RunE: a.using(func(ctx context.Context, s *core.Core, _ []string) error { return a.roundsStatus(ctx, s) })}
	c.AddCommand(on, off, status)
	for _, sub := range c.Commands() {
		sub.DisableFlagsInUseLine = true
	}
	return c
}

// roundJSON is what a round came to, for programs.
type roundJSON struct {
	Outcome string             `json:"outcome"` // done, or another round was under way: busy
	Sites   int                `json:"sites"`
	Seconds float64            `json:"seconds"`
	Lines   []ledger.RoundLine `json:"lines"`
	Unseen  []string           `json:"unseen"` // what could not be looked up
	Unsent  []string           `json:"unsent"` // mails that could not be sent
}

func newRoundJSON(r *rounds.Round) roundJSON {
	out := roundJSON{"done", r.Sites, r.Took.Seconds(), []ledger.RoundLine{}, []string{}, []string{}}
	if r.Another {
		out.Outcome = "busy"
	}
	for _, l := range r.Lines {
		out.Lines = append(out.Lines,
			ledger.RoundLine{Address: l.Site.Address, What: l.What, Detail: screen.Spelled(l.Detail)})
	}
	for _, err := range r.Unseen {
		out.Unseen = append(out.Unseen, err.Error())
	}
	for _, err := range r.Unsent {
		out.Unsent = append(out.Unsent, err.Error())
	}
	return out
}

func (a *app) makeRound(ctx context.Context, s *core.Core, r rounds.Request) error {
	r.Account, r.Dry = a.account, a.dryRun
	s.Desk.Progress = nil // its lines are what is done, not how
	shows := a.streams.RoundLine
	if a.json {
		shows = nil
	}
	came, err := rounds.Go(ctx, s.Desk, r, shows)
	if err != nil {
		return err
	}
	if a.json {
		if err := a.streams.WriteJSON(newRoundJSON(came)); err != nil {
			return err
		}
	} else {
		a.streams.Rounded(came)
	}
	if came.Failed() {
		return &silent{int(fault.Failed)}
	}
	return nil
}

// orderRounds puts a round of each account on the queue at which anything is due. One that is
// there already, from whichever machine, stays the only one.
func (a *app) orderRounds(c *cobra.Command, s *core.Core, r rounds.Request, o *ordering) error {
	ctx := c.Context()
	if err := o.valid(c); err != nil {
		return err
	}
	if _, is := s.Book.Ledger.(*team.Team); !is {
		return noQueue()
	}
	r.Account, r.Dry = a.account, true
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
	if len(b.Rows) == 0 && !a.json {
		a.streams.Say("%s looked at: nothing is due.", screen.Counted(due.Sites, "site"))
	}
	a.ordering = o
	return a.orderAll(ctx, s, b, "rounds are there already")
}

var everyForm = regexp.MustCompile(`^([1-5][0-9]m|[1-9]h|1[0-9]h|2[0-3]h)$`)

func (a *app) roundsOn(ctx context.Context, s *core.Core, every string, queue bool) error {
	if !everyForm.MatchString(every) {
		return fault.New(fault.Usage, "rounds cannot be made every “"+every+"”", "--every",
			"Write 10m to 59m, or 1h to 23h.")
	}
	t, err := a.timer(every)
	if err != nil {
		return err
	}
	if _, is := s.Book.Ledger.(*team.Team); queue && !is {
		return noQueue()
	}
	t.Queue = queue
	if err := s.Accounts.SetRounds(ctx, t, true); err != nil {
		return err
	}
	said := "This machine makes a round every " + every + ", and does what is due at the hours of each site."
	if queue {
		said = "This machine puts what is due on the team's queue every " + every + ", for workers."
	}
	return a.saidRounds("on", said)
}

func (a *app) saidRounds(how, text string) error {
	if a.json {
		return a.streams.WriteJSON(map[string]any{"rounds": how})
	}
	a.streams.Print("%s", text)
	return nil
}

// timer is the call with which this program makes its rounds.
func (a *app) timer(every string) (accounts.Timer, error) {
	t := accounts.Timer{Every: every, Home: a.world.Env("TIVSET_HOME")}
	var err error
	if t.Program, err = os.Executable(); err == nil && t.Home != "" {
		t.Home, err = filepath.Abs(t.Home)
		return t, err
	}
	for _, name := range []string{"XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME"} {
		if value := a.world.Env(name); value != "" {
			t.Env = append(t.Env, name+"="+value)
		}
	}
	return t, err
}

// statusJSON is how it stands with rounds.
type statusJSON struct {
	On      bool               `json:"on"`
	Line    string             `json:"line,omitempty"` // of the crontab
	At      *time.Time         `json:"last_at,omitempty"`
	Seconds float64            `json:"last_seconds"`
	DidAt   *time.Time         `json:"did_at,omitempty"` // when one did anything last
	Who     string             `json:"did_by,omitempty"`
	Did     []ledger.RoundLine `json:"did"`
}

func (a *app) roundsStatus(ctx context.Context, s *core.Core) error {
	t, err := a.timer("1h")
	if err != nil {
		return err
	}
	kept, err := s.Book.Home.Rounds()
	if err != nil {
		return err
	}
	line, crontabErr := s.Accounts.RoundsLine(ctx, t)
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
	if a.json {
		return a.streams.WriteJSON(out)
	}
	switch {
	case crontabErr != nil:
		f := fault.Of(crontabErr)
		a.streams.Print("Whether rounds are made by themselves cannot be told: %s. %s", f.Error(), f.Remedy)
	case out.On:
		a.streams.Print("Rounds are made by themselves; this machine's crontab has:\n  %s", out.Line)
	default:
		a.streams.Print("No rounds are made by themselves. To have them made: tivset rounds on")
	}
	a.streams.LastRounds(kept, did)
	return nil
}
