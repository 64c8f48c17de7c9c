package command

import (
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/records/ledger"
	"tivset/internal/records/recovery"
	"tivset/internal/screen"
	"tivset/internal/sites"
)

// status is tivset alone: where things stand and what makes sense next.
func (a *app) status(c *cobra.Command, _ []string) error {
	s, done, err := a.Core(c.Context())
	if err != nil {
		return err
	}
	defer done()
	accounts, err := s.Book.Home.Accounts()
	if err != nil {
		return err
	}
	all, err := s.Book.All(c.Context())
	if err != nil {
		return err
	}
	unfinished, err := s.Desk.Unfinished(c.Context())
	if err != nil {
		return err
	}
	next := []string{}
	for _, j := range unfinished {
		next = append(next, "tivset undo "+j.ID, "tivset resume "+j.ID)
	}
	switch {
	case len(accounts) == 0:
		next = append(next, "tivset demo", "tivset account add NAME")
	case len(all) == 0:
		next = append(next, "tivset browse", "tivset install APP --at ADDRESS")
	default:
		next = append(next, wanting(all)...)
	}
	idle, call := "", ""
	if len(all) > 0 {
		next = append(next, a.unsaved()...)
		if idle, call = a.Upkeep(c.Context(), s); idle != "" {
			next = append(next, screen.Spelled(call))
		}
	}
	if a.JSON {
		return a.Streams.WriteJSON(map[string]any{"accounts": accounts, "sites": len(all), "health": healths(all),
			"unfinished": unfinished, "maintenance": idle, "next": next})
	}
	a.Streams.State(len(accounts), all)
	for _, j := range unfinished {
		a.Streams.Print("Left half done: %s of %s at %s", j.What, j.App, j.Address)
	}
	if idle != "" {
		a.Streams.Print("%s", strings.TrimSuffix(a.Streams.Folded("Backups and updates that sites ask for: "+idle), "\n"))
	}
	a.Streams.Print("\nNext:")
	for _, n := range next {
		a.Streams.Print("  %s", n)
	}
	return nil
}

// healths counts sites by how they are.
func healths(all []ledger.Site) map[string]int {
	out := map[string]int{}
	for _, x := range all {
		out[x.Health]++
	}
	return out
}

// unsaved reminds of the recovery file while there is none that is up to date.
func (a *app) unsaved() []string {
	h := a.World.Home()
	if last, err := recovery.Last(h); err == nil && last != nil && !last.Stale(h) {
		return nil
	}
	return []string{"tivset recovery save FILE"}
}

// wanting names what makes sense with the sites that there are: what each wants first, the
// same call for several only once.
func wanting(all []ledger.Site) []string {
	next := []string{"tivset sites"}
	var calls []string
	due := 0
	for _, x := range all {
		if x.Due != "" {
			due++
			continue
		}
		if want := sites.WantOf(x); want.Call != "" {
			calls = append(calls, screen.Spelled(want.Call))
		}
	}
	if due > 0 {
		next = append(next, "tivset maintain --dry-run")
	}
	if len(calls) > most {
		return append(next, append(calls[:most], "tivset sites --wide")...)
	}
	return append(next, calls...)
}

// most is how many calls are proposed for single sites.
const most = 5
