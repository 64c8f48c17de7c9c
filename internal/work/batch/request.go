package batch

import (
	"context"
	"fmt"

	"tivset/internal/answer/table"
	"tivset/internal/hosting/account"
	"tivset/internal/work"
)

// Request is what is asked of one site. It is a value, and the same whether it was typed, stands in a
// table, or lies on a queue.
type Request interface {
	// Kind is how it is called: install, update …
	Kind() string

	// Where is the site that it is about, by what is on record alone: no account is opened.
	Where(ctx context.Context, d *work.Service) (Where, error)

	// Plan looks at what it comes to. It changes nothing; who asks closes the plan.
	Plan(ctx context.Context, d *work.Service) (*Plan, error)
}

// Where is the site that a request is about.
type Where struct {
	Address string // where it is, or is going to be
	Account *account.Account
	Folder  string // that is taken, where a site comes to be; else ""
}

// Plan is what a request comes to.
type Plan struct {
	Where
	At     string // how a person reads the address; "" for the address itself
	Server string // the database server, as the account names it; "" for none
	Bytes  int64  // that come to be in the account
	Shown  any    // what is agreed to, and a dry run shows; nil where that needs no yes
	Free   bool   // it is shown, and needs no yes all the same
	Done   Ended  // nothing is to be done, and this is how it stands; else nil

	// Do does what was looked at. It may be called again when something passing was in its way.
	Do func(ctx context.Context, d *work.Service) (Ended, error)
	// Release lets go of what was looked at, done or not. May be nil.
	Release func() error
}

// Close lets go of what was looked at. It may be called twice.
func (p *Plan) Close() (err error) {
	if p != nil && p.Release != nil {
		err, p.Release = p.Release(), nil
	}
	return err
}

// Ended is what came of a request.
type Ended interface {
	// Outcome is that in a word, for programs: installed, updated …
	Outcome() string
	// OK is false where it was done, and told that something is not as it should be.
	OK() bool
}

// Row is one request of a batch.
type Row struct {
	table.Row        // of the table; no line for a site that was named
	Site      string // as it was named; "" where the request is of a site that is to be
	Request   Request

	Plan  *Plan // nil until it was looked at, and where it could not be
	Ended Ended
	Err   error

	at              string // where it is, once that is known
	account, folder string // that it takes, once that is known
}

// At is where the site is or will be, as far as is known.
func (r *Row) At() string {
	if r.at == "" {
		return r.Site
	}
	return r.at
}

// Name is how a row is called: the site, and the line of a table.
func (r *Row) Name() string {
	if r.Line == 0 {
		return r.At()
	}
	return fmt.Sprintf("line %d %s", r.Line, r.At())
}

// ToDo says whether anything is to be done.
func (r *Row) ToDo() bool { return r.Err == nil && r.Plan != nil && r.Plan.Done == nil }

// Value is what a row says in a column, or what is said for all.
func (r *Row) Value(column, all string) string {
	if said := r.Values[column]; said != "" {
		return said
	}
	return all
}

// Batch is all that is asked for at once.
type Batch struct {
	Rows   []*Row
	Strict bool // what is wrong with one keeps all of them back, as in a table
}

// Of is a batch of one.
func Of(r Request) *Batch { return &Batch{Rows: []*Row{{Request: r}}} }

// Close lets go of all that was looked at.
func (b *Batch) Close() {
	for _, r := range b.Rows {
		_ = r.Plan.Close()
	}
}

// One looks at one request and carries it out, for those who agreed to it before.
func One(ctx context.Context, d *work.Service, r Request) (Ended, error) {
	b := Of(r)
	defer b.Close()
	row := b.Rows[0]
	if row.Plan, row.Err = r.Plan(ctx, d); row.Err != nil {
		row.located(ctx, d)
		glance(ctx, d, row.at, row.Err)
		return nil, row.Err
	}
	b.Carry(ctx, d, How{})
	return row.Ended, row.Err
}
