package orders

import (
	"context"
	"crypto/hmac"
	"errors"

	"tivset/internal/fault"
	"tivset/internal/records/queue"
	"tivset/internal/records/team"
	"tivset/internal/work/batch"
)

// Place is where a team's orders lie.
type Place struct {
	Queue   *queue.Queue
	Records team.Place
	As      string // what this machine is called in the team
}

// Put puts a request on the queue, sealed and marked, and gives its number; of one that is there already too, with
// the error that says so. Tell is whom to mail how it ended; "" for nobody.
func (p *Place) Put(ctx context.Context, r batch.Request, at batch.Where, priority int, tell string) (int64, error) {
	text, files, err := packed(r)
	if err != nil {
		return 0, err
	}
	defer files.close()
	v := p.Records.Vault
	order := queue.Order{What: r.Kind(), At: at.Address, Account: at.Account.Name, Who: p.As, Tell: tell}
	order.Call, err = v.SealText(text)
	if err == nil {
		order.Mark, err = v.Key(order.Marked())
	}
	if err != nil {
		return 0, err
	}
	n, err := p.Queue.Put(ctx, order, priority, files.parts(v))
	return n, errors.Join(err, ctx.Err())
}

// open opens an order. Whoever can write into the database could put one there: only one
// that is marked was put there by somebody who may do all.
func (p *Place) open(o queue.Order, files queue.Parts) (r batch.Request, done func(), err error) {
	mark, err := p.Records.Vault.Key(o.Marked())
	if err != nil {
		return nil, nil, err
	}
	if !hmac.Equal(mark, o.Mark) {
		return nil, nil, fault.New(fault.NeedsConfirmation, "nobody of the team put this request there", o.At,
			"It was not carried out. See who can write into the database.")
	}
	text, err := p.Records.Vault.UnsealText(o.Call)
	if err != nil {
		return nil, nil, err
	}
	return unpacked(text, p.Records, files)
}
