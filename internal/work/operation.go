package work

import (
	"context"
	"slices"

	"tivset/internal/records/job"
)

// Operation is one thing that can be done with a site.
type Operation struct {
	Name string // in journals, the ledger and messages
	Past string // how a job that came to its end is called
	New  bool   // it makes a site: at the end its credentials are shown

	// Again prepares to do once more what a job of this way was asked for, while
	// what the job began is still there; the function that it returns is called
	// when that was taken back. Done may be nil: then the ledger tells. Nil for a
	// way that is not carried out as a job.
	Again func(ctx context.Context, d *Service, h job.Header) (func(context.Context) (*Done, error), error)
}

// Table is the list of ways.
type Table []Operation

// Of gives the way of a name, and whether there is one.
func (t Table) Of(name string) (Operation, bool) {
	i := slices.IndexFunc(t, func(w Operation) bool { return w.Name == name })
	if i < 0 {
		return Operation{Name: name, Past: name}, false
	}
	return t[i], true
}
