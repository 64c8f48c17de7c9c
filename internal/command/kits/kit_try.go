package kits

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tivset/internal/app/catalogue"
	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/screen"
	"tivset/internal/trial"
)

func (a *app) kitTry() *cobra.Command {
	var on []string
	var keep bool
	c := &cobra.Command{
		Use:   "try DIR",
		Short: "Live the whole life of an app on real servers of this machine",
		Long: "Starts private servers, installs the app and lives its life: sign-in, what an owner does, backup, updates,\n" +
			"one that fails, copy, move, restore, renewal, removal. A line for each; at the end the account as it began.",
		Example: "  tivset kit try ./willowbench\n  tivset kit try ./willowbench --on mariadb,apache --keep",
		Args:    cli.Takes(1, 1, "DIR"), Annotations: cli.NoDryRun(),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.runTry(cmd.Context(), args[0], on, keep)
		},
	}
	c.Flags().StringSliceVar(&on, "on", nil, "only on these: engines, "+strings.Join(trial.Webs, ", ")+", "+
		strings.Join(trial.Reaches, ", "))
	c.Flags().BoolVar(&keep, "keep", false, "leave what failed as it is, with its servers, until Ctrl-C")
	return c
}

// tried is what a trial came to.
type tried struct {
	App     string        `json:"app"`
	OK      bool          `json:"ok"`
	Grounds []triedGround `json:"grounds"`
}

type triedGround struct {
	Ground string     `json:"ground"`
	OK     bool       `json:"ok"`
	Acts   []triedAct `json:"acts"`
}

type triedAct struct {
	Act     string  `json:"act"`
	Seconds float64 `json:"seconds"`
	Said    string  `json:"said,omitempty"`
	Problem string  `json:"problem,omitempty"`
}

func (a *app) runTry(ctx context.Context, dir string, on []string, keep bool) error {
	full, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	t := &trial.Trial{Kits: catalogue.Folder("tried", filepath.Dir(full)), App: filepath.Base(full),
		Archives: core.Archives(a.Machine(), a.World.Now), On: on, Keep: keep}
	grounds, err := t.Grounds(ctx)
	if err != nil {
		return err
	}
	all := tried{App: t.App}
	var fine, failed []string
	for _, g := range grounds {
		one, err := a.tryOn(ctx, t, g)
		if err != nil {
			return err
		}
		if one.OK {
			fine = append(fine, one.Ground)
		} else {
			failed = append(failed, one.Ground)
		}
		all.Grounds = append(all.Grounds, one)
	}
	if all.OK = len(failed) == 0; a.JSON {
		if err := a.Streams.WriteJSON(all); err != nil || all.OK {
			return err
		}
		return cli.Quiet(int(fault.Failed))
	}
	if len(failed) > 0 {
		return fault.New(fault.Failed, "the trial failed on "+strings.Join(failed, "; "), t.App,
			"See what failed, and look at it with --keep.")
	}
	a.Streams.Print("The kit of %s was tried, and all went well on %s.", t.App, strings.Join(fine, "; "))
	return nil
}

// tryOn lives the app's life on one ground, and tells of each act as it ends.
func (a *app) tryOn(ctx context.Context, t *trial.Trial, g trial.Ground) (triedGround, error) {
	out := triedGround{Ground: g.Name(), Acts: []triedAct{}}
	a.Streams.Say("On %s:", g.Name())
	t.Tell = func(l trial.Line) {
		a.tellTried(l)
		act := triedAct{Act: l.Act, Seconds: l.Took.Round(100 * time.Millisecond).Seconds(), Said: l.Said}
		if l.Err != nil {
			act.Problem = screen.Spelled(l.Err.Error())
		}
		out.Acts = append(out.Acts, act)
	}
	logs, err := trial.On(func(s *trial.Stage) (err error) {
		if out.OK, err = t.Live(ctx, s, g); err != nil || out.OK {
			return err
		}
		s.Fail()
		if t.Keep {
			a.Streams.Say("What failed is kept, and its servers run until Ctrl-C.")
			<-ctx.Done()
		}
		return nil
	})
	a.tellLogged(logs)
	return out, err
}

// short is the beginning of what is worth knowing.
func short(text string) string {
	const most = 200
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most]) + "…"
	}
	return text
}

// expected is what servers log of what goes as it should.
var expected = []string{"NOTICE: ", ":notice]", "is forbidden", "client denied by server configuration"}

// tellLogged prints the ends of what servers logged.
func (a *app) tellLogged(logs []string) {
	for _, text := range logs {
		lines := strings.Split(text, "\n")
		for _, l := range lines[max(0, len(lines)-8):] {
			if !slices.ContainsFunc(expected, func(s string) bool { return strings.Contains(l, s) }) {
				a.Streams.Say("    %.500s", screen.Clean(l))
			}
		}
	}
}

// tellTried prints what an act came to.
func (a *app) tellTried(l trial.Line) {
	sign := "✓"
	if l.Err != nil {
		sign = "✗"
	}
	text := fmt.Sprintf("  %s %-46s %6.1f s", sign, l.Act, l.Took.Round(100*time.Millisecond).Seconds())
	if l.Said != "" {
		text += "  " + short(l.Said)
	}
	a.Streams.Say("%s", text)
	if l.Err != nil {
		a.Streams.Fault(l.Err)
	}
}
