package screen

import (
	"path"
	"strings"

	"tivset/internal/records/ledger"
	"tivset/internal/site"
	"tivset/internal/work/ways"
)

// Ended says of a job that was finished what its site is now.
func (s *Streams) Ended(j ledger.Job) { s.Print("Finished: %s is %s.", j.Address, ended(j)) }

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
		row := []string{ended(j), j.What, shortly(j.Address), j.ID}
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

// ended says what became of a job, in a word.
func ended(j ledger.Job) string {
	if j.Outcome != ledger.Done {
		return string(j.Outcome)
	}
	way, _ := ways.Table().Of(j.What)
	return way.Past
}

// shortly leaves out the random part of a rehearsal's address.
func shortly(address string) string {
	if site.IsRehearsal(address) {
		return path.Dir(address) + "/rehearsal"
	}
	return address
}
