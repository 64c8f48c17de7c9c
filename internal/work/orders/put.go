package orders

import (
	"context"
	"errors"

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

// How is how a request is put on the queue.
type How struct {
	Priority int
	Tell     string // whom to mail how it ended; "" for nobody
	Batch    int64  // the number of all that are put there together; 0 for one alone
}

// Put puts a request on the queue, sealed, and gives its number; of one that is there already too, with the error that
// says so.
func (p *Place) Put(ctx context.Context, r batch.Request, at batch.Where, how How) (int64, error) {
	text, files, err := packed(r)
	if err != nil {
		return 0, err
	}
	defer files.close()
	v := p.Records.Vault
	order := queue.Order{What: r.Kind(), At: at.Address, Account: at.Account.Name, Who: p.As, Tell: how.Tell,
		Batch: how.Batch}
	order.Call, err = v.SealText(text)
	if err != nil {
		return 0, err
	}
	n, err := p.Queue.Put(ctx, order, how.Priority, files.parts(v))
	return n, errors.Join(err, ctx.Err())
}

// open opens an order that the queue has let through.
func (p *Place) open(ctx context.Context, number int64, o queue.Order) (r batch.Request, done func(), err error) {
	text, err := p.Records.Vault.UnsealText(o.Call)
	if err != nil {
		return nil, nil, err
	}
	return unpacked(text, p.Records, p.Queue.Files(ctx, number))
}
