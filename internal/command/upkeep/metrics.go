package upkeep

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tivset/internal/atomicfile"
	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/queue"
	"tivset/internal/records/team"
	"tivset/internal/sites"
)

func (a *app) metrics() *cobra.Command {
	into := ""
	c := &cobra.Command{
		Use: "metrics [--into FILE]", Short: "Say how all sites are, for monitoring (OpenMetrics)", Args: cli.Takes(0, 0, ""),
		Long: "Prints numbers as OpenMetrics has them: sites by health, what is due, the last maintenance run and its\n" +
			"troubles; of a team also its workers and what waits on the queue. With --into the file is there whole at\n" +
			"any moment, for a collector that reads files. Nothing but the records is looked at.",
		Example:     "  tivset metrics\n  tivset metrics --into /var/lib/metrics/tivset.prom",
		Annotations: cli.NoDryRun(),
		RunE: a.Using(func(ctx context.Context, s *core.Core, _ []string) error {
			text, err := a.openMetrics(ctx, s)
			if err != nil {
				return err
			}
			if into == "" {
				a.Streams.Print("%s", strings.TrimRight(text, "\n"))
				return nil
			}
			if err := atomicfile.Write(into, []byte(text), 0o644); err != nil {
				return fault.New(fault.Usage, "the numbers cannot be written", into, "Name a file in a folder that is there.").
					Wrap(err)
			}
			return nil
		}),
	}
	c.Flags().StringVar(&into, "into", "", "the file to write")
	return c
}

// gauge is a number at this moment, or several told apart by a label (OpenMetrics 1.0, "Gauge").
type gauge struct {
	name, help, label string
	of                map[string]float64 // by the label's value; "" where there is no label
}

func (g gauge) text() string {
	var out strings.Builder
	fmt.Fprintf(&out, "# TYPE %s gauge\n# HELP %s %s\n", g.name, g.name, g.help)
	for _, value := range slices.Sorted(maps.Keys(g.of)) {
		of := ""
		if g.label != "" {
			of = fmt.Sprintf("{%s=%q}", g.label, value)
		}
		fmt.Fprintf(&out, "%s%s %v\n", g.name, of, g.of[value])
	}
	return out.String()
}

// openMetrics are all numbers, as text.
func (a *app) openMetrics(ctx context.Context, s *core.Core) (string, error) {
	all, err := s.Book.All(ctx)
	if err != nil {
		return "", err
	}
	health, due := map[string]float64{}, map[string]float64{"urgent": 0, "update": 0, "backup": 0}
	for _, h := range sites.Healths {
		health[h] = 0
	}
	for _, x := range all {
		state := x.Health
		if state == "" {
			state = "unknown"
		}
		health[state]++
		if x.Urgent {
			due["urgent"]++
		}
		if x.Due != "" {
			due["update"]++
		}
		if x.Overdue != "" {
			due["backup"]++
		}
	}
	numbers := []gauge{{"tivset_sites", "Sites on record, by their health.", "health", health},
		{"tivset_due", "Sites at which something is due.", "what", due}}
	of, err := a.roundNumbers(ctx, s)
	if err != nil {
		return "", err
	}
	numbers = append(numbers, of...)
	if t, is := s.Book.Ledger.(*team.Team); is {
		if of, err = queueNumbers(ctx, t); err != nil {
			return "", err
		}
		numbers = append(numbers, of...)
	}
	var out strings.Builder
	for _, g := range numbers {
		out.WriteString(g.text())
	}
	return out.String() + "# EOF\n", nil
}

// roundNumbers are those of maintenance.
func (a *app) roundNumbers(ctx context.Context, s *core.Core) ([]gauge, error) {
	h, err := a.roundsHealth(ctx, s)
	if err != nil {
		return nil, err
	}
	last := 0.0
	if h.last != nil {
		last = float64(h.last.Unix())
	}
	return []gauge{
		{"tivset_maintenance_last_run_timestamp_seconds", "When maintenance ran here last; 0 for never.", "",
			map[string]float64{"": last}},
		{"tivset_maintenance_troubles", "Troubles that the last run met that did anything.", "",
			map[string]float64{"": float64(h.troubles)}},
	}, nil
}

// queueNumbers are those of a team's queue.
func queueNumbers(ctx context.Context, t *team.Team) ([]gauge, error) {
	q, err := queue.Open(ctx, t)
	if err != nil {
		return nil, err
	}
	workers, err := q.Workers(ctx)
	if err != nil {
		return nil, err
	}
	states := map[string]float64{"alive": 0, "lacking": 0}
	for _, w := range workers {
		if w.Alive {
			states["alive"]++
		}
		if w.Alive && len(w.Lacks) > 0 {
			states["lacking"]++
		}
	}
	counts, err := q.Counts(ctx)
	if err != nil {
		return nil, err
	}
	return []gauge{{"tivset_workers", "Workers that give signs of life, and those of them that lack something.",
		"state", states},
		{"tivset_requests", "Requests on the queue.", "state", counts}}, nil
}

// roundsHealth is how it stands with maintenance.
type roundsHealth struct {
	last     *time.Time // the last run of this machine, or of the team
	troubles int        // that the last run met that did anything
}

// lately is within which time a run has to have been made.
const lately = 26 * time.Hour

func (a *app) roundsHealth(ctx context.Context, s *core.Core) (h roundsHealth, err error) {
	kept, err := s.Book.Home.Rounds()
	if err != nil {
		return h, err
	}
	if !kept.At.IsZero() {
		h.last = &kept.At
	}
	did, err := s.Book.Ledger.Rounds(ctx)
	if err != nil || len(did) == 0 {
		return h, err
	}
	if h.last == nil || did[0].At.After(*h.last) {
		h.last = &did[0].At
	}
	for _, line := range did[0].Lines {
		if line.What == "trouble" {
			h.troubles++
		}
	}
	return h, nil
}
