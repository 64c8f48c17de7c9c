package screen

import (
	"fmt"
	"strings"

	"tivset/internal/records/ledger"
	"tivset/internal/sites"
)

// mostStates is how many sites that want something are named: all of it is to fit on one screen.
const mostStates = 8

// State says in one screen how all sites are: how many are well, and what the others want.
func (s *Streams) State(accounts int, all []ledger.Site) {
	text := fmt.Sprintf("Accounts: %d   Sites: %d", accounts, len(all))
	var counts []string
	for _, health := range sites.Healths {
		n := 0
		for _, x := range all {
			if x.Health == health || x.Health == "" && health == "unknown" {
				n++
			}
		}
		if n > 0 {
			counts = append(counts, fmt.Sprintf("%d %s", n, health))
		}
	}
	if len(counts) > 0 {
		text += ", " + strings.Join(counts, ", ")
	}
	s.Print("%s", text)
	shown, more := 0, 0
	for _, x := range all {
		want := sites.WantOf(x)
		if want.What == "" {
			continue
		}
		if shown == mostStates {
			more++
			continue
		}
		shown++
		mark := "·"
		if x.Health == "bad" || x.Gone != "" || x.Urgent {
			mark = s.paint(bad, "✗")
		}
		s.Print("  %s %s", mark, strings.ReplaceAll(s.fold(Clean(x.Address)+" wants "+want.What, 4), "\n", "\n    "))
	}
	if more > 0 {
		s.Print("  and %d more: tivset sites", more)
	}
}
