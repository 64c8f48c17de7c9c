// Package requests has what can be asked of a site as values: one type a kind, with a version. The command
// line makes them of what was typed, and a team's queue keeps them; a worker carries out the same value.
package requests

import (
	"context"
	"encoding/json"
	"fmt"

	"tivset/internal/fault"
	"tivset/internal/site"
	"tivset/internal/work"
	"tivset/internal/work/batch"
)

// kind is one kind of request. Its version grows with each change after which an older release would do
// something else than was asked for.
type kind struct {
	version int
	make    func() batch.Request
}

var kinds = map[string]kind{
	"install":  {1, func() batch.Request { return &Install{} }},
	"update":   {1, func() batch.Request { return &Update{} }},
	"backup":   {1, func() batch.Request { return &Backup{} }},
	"restore":  {1, func() batch.Request { return &Restore{} }},
	"copy":     {1, func() batch.Request { return &Place{} }},
	"move":     {1, func() batch.Request { r := &Place{}; r.Move = true; return r }},
	"remove":   {1, func() batch.Request { return &Remove{} }},
	"adopt":    {1, func() batch.Request { return &Adopt{} }},
	"check":    {1, func() batch.Request { return &Check{} }},
	"repair":   {1, func() batch.Request { return &Repair{} }},
	"maintain": {1, func() batch.Request { return &Rounds{} }},
}

// Written is a request in JSON.
type Written struct {
	Kind    string          `json:"kind"`
	Version int             `json:"version"`
	Request json.RawMessage `json:"request"`
}

// Write gives a request as it can be kept.
func Write(r batch.Request) (Written, error) {
	k, is := kinds[r.Kind()]
	if !is {
		return Written{}, fmt.Errorf("no kind of request: %s", r.Kind())
	}
	text, err := json.Marshal(r)
	return Written{r.Kind(), k.version, text}, err
}

// Read reads a request. One of a kind or a version that this release does not know is refused, as is one with fields
// that it does not know: whatever they ask for would not be done.
func (w Written) Read() (batch.Request, error) {
	k, is := kinds[w.Kind]
	if !is || w.Version != k.version {
		return nil, fault.NewAs(fault.OtherRelease, fault.Failed,
			fmt.Sprintf("this release of Tivset does not know the request %s, "+
				"version %d", w.Kind, w.Version), "", "Use the same release on all machines of the team; then ask for it again.")
	}
	r := k.make()
	if err := strictly(w.Request, r); err != nil {
		return nil, fault.New(fault.Failed, "the request cannot be read", w.Kind, "Ask for it again.").Wrap(err)
	}
	return r, nil
}

// File is a place in a request where a file of this machine may be named, which is read when the request is
// carried out.
type File struct {
	Name *string
	May  bool // it may name something else too, where no such file is
}

// Files are the places in a request where files may be named, of a kind always the same.
func Files(r batch.Request) []File {
	if with, has := r.(interface{ files() []File }); has {
		return with.files()
	}
	return nil
}

// recorded is where a site is that is on record.
func recorded(ctx context.Context, d *work.Service, word string) (batch.Where, error) {
	x, err := d.Book.Find(ctx, word)
	if err != nil {
		return batch.Where{}, err
	}
	a, err := d.Book.Home.Account(x.Account)
	return batch.Where{Address: x.Address, Account: a}, err
}

// placed is where a site is going to be.
func placed(d *work.Service, account, at string) (batch.Where, error) {
	if at == "" {
		return batch.Where{}, fault.Join("", "", []fault.Problem{{ID: "at", What: fault.Needed, Remedy: "Fill it in."}})
	}
	a, err := d.Book.Account(account, at)
	if err != nil {
		return batch.Where{}, err
	}
	p, err := site.Resolve(at, a.Domains)
	if err != nil {
		return batch.Where{}, err
	}
	return batch.Where{Address: p.Address(), Account: a, Folder: p.Folder()}, nil
}

// of begins the plan of a site that is on record.
func of(ctx context.Context, d *work.Service, word string) (*batch.Plan, error) {
	x, err := d.Book.Find(ctx, word)
	if err != nil {
		return nil, err
	}
	p := &batch.Plan{Where: batch.Where{Address: x.Address}}
	if x.Database != nil {
		p.Server = x.Database.Server
	}
	p.Account, err = d.Book.Home.Account(x.Account)
	return p, err
}
