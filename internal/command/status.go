package command

import (
	"slices"

	"github.com/spf13/cobra"

	"tivset/internal/records/ledger"
)

// status is tivset alone: where things stand and what makes sense next.
func (a *app) status(c *cobra.Command, _ []string) error {
	s, done, err := a.core(c.Context())
	if err != nil {
		return err
	}
	defer done()
	accounts, err := s.Book.Home.Accounts()
	if err != nil {
		return err
	}
	sites, err := s.Book.All(c.Context())
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
	case len(sites) == 0:
		next = append(next, "tivset browse", "tivset install APP --at ADDRESS")
	default:
		next = append(next, wanting(sites)...)
	}
	if a.json {
		return a.streams.WriteJSON(map[string]any{"accounts": accounts, "sites": len(sites), "unfinished": unfinished,
			"next": next})
	}
	a.streams.Print("Accounts: %d   Sites: %d", len(accounts), len(sites))
	for _, j := range unfinished {
		a.streams.Print("Left half done: %s of %s at %s", j.What, j.App, j.Address)
	}
	a.streams.Print("\nNext:")
	for _, n := range next {
		a.streams.Print("  %s", n)
	}
	return nil
}

// wanting names what makes sense with the sites that there are.
func wanting(sites []ledger.Site) []string {
	next := []string{"tivset sites"}
	if slices.ContainsFunc(sites, func(x ledger.Site) bool { return x.Health != "good" }) {
		next = append(next, "tivset check")
	}
	if slices.ContainsFunc(sites, func(x ledger.Site) bool { return x.Due != "" }) {
		next = append(next, "tivset update --due --dry-run")
	}
	return next
}
