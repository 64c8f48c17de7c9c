package sites

import (
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
)

// Want is what a site wants of its owner first.
type Want struct {
	What string // in a few words
	Call string // what to type
}

// WantOf is what a site wants first; the zero value for nothing.
func WantOf(x ledger.Site) Want {
	often, _ := x.Care.Every()
	switch {
	case x.Gone != "":
		return Want{"its " + x.Gone + " back", fault.Call("restore", x.Address)}
	case x.Health == "bad":
		return Want{"a look", fault.Call("check", x.Address)}
	case x.Urgent:
		return Want{x.Newer + ", urgently", fault.Call("update", x.Address)}
	case x.Tried != nil && x.Newer != "" && x.Due == "":
		return Want{x.Tried.Release + " failed", fault.Call("show", x.Address)}
	case x.Due != "":
		return Want{x.Due + ", is due", fault.Call("update", x.Address)}
	case x.Overdue != "":
		return Want{"a backup, " + x.Overdue + " late", fault.Call("backup", x.Address)}
	case x.LastBackupAt == nil && often == 0:
		return Want{"a backup", fault.Call("backup", x.Address)}
	case x.Newer != "":
		return Want{x.Newer + " is there", fault.Call("update", x.Address, "--rehearse")}
	case x.Health != "good":
		return Want{"a look", fault.Call("check", x.Address)}
	}
	return Want{}
}
