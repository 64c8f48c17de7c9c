package screen

import (
	"path"

	"github.com/dustin/go-humanize"

	"tivset/internal/step"
	"tivset/internal/work/backup"
)

// whyMade words why a backup was made, after when.
var whyMade = map[string]string{step.BeforeUpdate: " before an update", step.BeforeRepair: " before a repair",
	step.BeforeUndo: " before an undo", step.BeforeRemove: " before a removal",
	step.BeforeRestore: " before a restore", step.Regular: " by the site's care"}

// WhyMade words why a backup was made; "" for one that somebody asked for.
func WhyMade(b step.NamedBackup) string {
	if b.To != "" {
		return " before the update to " + b.To
	}
	return whyMade[b.Why]
}

// Backups prints a list of backups.
func (s *Streams) Backups(all []backup.Listed) {
	several := false
	for _, l := range all {
		several = several || l.Address != all[0].Address || l.Removed
	}
	head := []string{"Backup", "Why", "Size", "Key"} // the name comes first, and whole: it is what restore --from wants
	if several {
		head = append(head, "Site")
	}
	var rows [][]string
	for _, l := range all {
		row := []string{Clean(path.Base(l.File)), "asked for", humanize.Bytes(uint64(l.Bytes)), "-"}
		if why := WhyMade(l.NamedBackup); why != "" {
			row[1] = why[1:]
		}
		if l.Encrypted {
			row[3] = "encrypted"
		}
		if several {
			row = append(row, Clean(l.Address)+map[bool]string{true: " (not on record)"}[l.Removed])
		}
		rows = append(rows, row)
	}
	s.Table(head, rows)
	if len(all) > 0 && !several {
		s.Say("\nThey lie in %s. To bring one back: tivset restore SITE --from BACKUP", Clean(path.Dir(all[0].File)))
	}
}
