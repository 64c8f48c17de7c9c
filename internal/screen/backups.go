package screen

import (
	"github.com/dustin/go-humanize"

	"tivset/internal/step"
	"tivset/internal/work/backup"
)

// whyMade words why a backup was made, after when.
var whyMade = map[string]string{step.BeforeUpdate: " before an update", step.BeforeRepair: " before a repair",
	step.BeforeUndo: " before an undo", step.BeforeRemove: " before a removal",
	step.BeforeRestore: " before a restore"}

// WhyMade words why a backup was made; "" for one that somebody asked for.
func WhyMade(why string) string { return whyMade[why] }

// Backups prints a list of backups.
func (s *Streams) Backups(all []backup.Listed) {
	several := false
	for _, l := range all {
		several = several || l.Address != all[0].Address || l.Removed
	}
	head := []string{"Made", "Why", "Size", "Key", "File"}
	if several {
		head = append([]string{"Site"}, head...)
	}
	var rows [][]string
	for _, l := range all {
		row := []string{l.MadeAt.Format("2006-01-02 15:04:05"), "asked for", humanize.Bytes(uint64(l.Bytes)), "-",
			Clean(l.File)}
		if why := WhyMade(l.Why); why != "" {
			row[1] = why[1:]
		}
		if l.Encrypted {
			row[3] = "encrypted"
		}
		if several {
			row = append([]string{Clean(l.Address) + map[bool]string{true: " (removed)"}[l.Removed]}, row...)
		}
		rows = append(rows, row)
	}
	s.Table(head, rows)
}
