// Package ways is the table of all ways. Another way is a folder beside this one
// and a line here.
package ways

import (
	"tivset/internal/work"
	"tivset/internal/work/adopt"
	"tivset/internal/work/backup"
	"tivset/internal/work/install"
	"tivset/internal/work/place"
	"tivset/internal/work/remove"
	"tivset/internal/work/renew"
	"tivset/internal/work/repair"
	"tivset/internal/work/restore"
	"tivset/internal/work/update"
)

// Table lists the ways.
func Table() work.Table {
	return work.Table{
		install.Way(), update.Way(), backup.Way(), restore.Way(), place.Copy(), place.Move(),
		remove.Way(), renew.Way(), repair.Way(), adopt.Way(),
	}
}
