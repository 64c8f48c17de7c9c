package command

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tivset/internal/app/catalogue"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/screen"
	"tivset/internal/testing/trial"
)

func (a *app) kitTry() *cobra.Command {
	var on []string
	var keep bool
	c := &cobra.Command{
		Use:   "try DIR",
		Short: "Live the whole life of an app on real servers of this machine",
		Long: "Starts private servers, installs the app and lives its life: sign-in, what an owner does, backup, updates,\n" +
			"one that fails, copy, move, restore, renewal, removal. A line for each; at the end the account as it began.",
		Example: "  tivset kit try ./moorings\n  tivset kit try ./moorings --on mariadb,apache --keep",
		Args:    takes(1, 1, "DIR"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.runTry(cmd.Context(), args[0], on, keep)
		},
	}
	c.Flags().StringSliceVar(&on, "on", nil, "only on these: engines, "+strings.Join(trial.Webs, ", ")+", "+
		strings.Join(trial.Reaches, ", "))
	c.Flags().BoolVar(&keep, "keep", false, "leave what failed as it is, with its servers, until Ctrl-C")
	return c
}

func (a *app) runTry(ctx context.Context, dir string, on []string, keep bool) error {
	full, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	t := &trial.Trial{Kits: catalogue.Folder("tried", filepath.Dir(full)), App: filepath.Base(full),
		Archives: core.Archives(a.machine(), a.world.Now), On: on, Keep: keep, Tell: a.tellTried}
	grounds, err := t.Grounds(ctx)
	if err != nil {
		return err
	}
	failed := 0
	for _, g := range grounds {
		a.streams.Say("On %s:", g.Name())
		logs, err := trial.On(func(s *trial.Stage) error {
			ok, err := t.Live(ctx, s, g)
			if err == nil && !ok {
				failed++
				s.Fail()
				if keep {
					a.streams.Say("What failed is kept, and its servers run until Ctrl-C.")
					<-ctx.Done()
				}
			}
			return err
		})
		a.tellLogged(logs)
		if err != nil {
			return err
		}
	}
	if failed > 0 {
		return fault.New(fault.Failed, fmt.Sprintf("the trial failed on %d of %d grounds", failed, len(grounds)), t.App,
			"See what failed, and look at it with --keep.")
	}
	a.streams.Print("The kit of %s was tried on %d grounds, and all went well.", t.App, len(grounds))
	return nil
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
				a.streams.Say("    %.500s", screen.Clean(l))
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
	a.streams.Say("%s", text)
	if l.Err != nil {
		a.streams.Fault(l.Err)
	}
}
