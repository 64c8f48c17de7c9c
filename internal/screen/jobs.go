package screen

import (
	"path"
	"strings"

	"tivset/internal/records/ledger"
	"tivset/internal/site"
)

// Jobs lists what ran, how it ended first. On a terminal a problem stands below its job.
// With who it is said who asked for it, and when it began (UTC).
func (s *Streams) Jobs(all []ledger.Job, who bool) {
	head, rows := []string{"Outcome", "What", "Address", "Job"}, [][]string{}
	if who {
		head = append(head, "Who", "Began")
	}
	if !s.OutTerminal {
		head = append(head, "App", "Problem")
	}
	for _, j := range all {
		row := []string{j.Outcome, j.What, shortly(j.Address), j.ID}
		if who {
			row = append(row, Dash(j.Who), j.Started.UTC().Format("2006-01-02 15:04"))
		}
		if !s.OutTerminal {
			row = append(row, j.App, Dash(j.Problem))
		}
		rows = append(rows, row)
	}
	below := func(n int) string {
		if !s.OutTerminal || all[n].Problem == "" {
			return ""
		}
		const indent = "           "
		lines := strings.Split(s.fold(CleanName(all[n].Problem), len(indent)), "\n")
		text := ""
		for _, line := range lines {
			text += indent + s.paint(faint, line) + "\n"
		}
		return text
	}
	s.table(head, rows, below)
}

// shortly leaves out the random part of a rehearsal's address.
func shortly(address string) string {
	if site.IsRehearsal(address) {
		return path.Dir(address) + "/rehearsal"
	}
	return address
}
