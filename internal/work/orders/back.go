package orders

import (
	"context"
	"errors"
	"strings"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting/backoff"
	"tivset/internal/records/queue"
	"tivset/internal/work"
	"tivset/internal/work/batch"
)

// busyFor is for how long an order is put back when something is in its way that passes by waiting.
const busyFor = 10 * time.Second

// back says whether an error says something of this worker, or of the moment, and nothing of the site: then the order
// goes back on the queue. Nil where it failed.
func back(err error, number int64, account string) *queue.Back {
	f := fault.Of(err)
	why := strings.TrimSpace(f.What + " " + f.Where)
	switch fault.CodeOf(err) {
	case fault.NotOfTeam, fault.MayOnlyLook, fault.NotBelieved, fault.LedgerRefused, fault.OtherRelease:
		return &queue.Back{After: time.Second, Why: why, Useless: err}
	case fault.UnknownServer:
		return &queue.Back{After: time.Second, Why: why, Lacks: queue.Lack{Account: account}}
	case fault.NoKit, fault.NotInstalled:
		return &queue.Back{After: time.Second, Why: why, Lacks: queue.Lack{Number: number}}
	}
	if f.Busy || backoff.Is(err) {
		return &queue.Back{After: busyFor, Why: why}
	}
	return nil
}

// crowdedFor is for how long an order is put back for which there is no room.
const crowdedFor = 3 * time.Second

// room counts an order at its account, its host and its database server, across all workers of the team, until done.
// Back says for what there is no room.
func (c *Carrier) room(ctx context.Context, d *work.Service, r batch.Request) (done func(), back *queue.Back) {
	where, err := r.Where(ctx, d)
	if err != nil || where.Account == nil {
		return func() {}, nil // what is wrong with it is said when it is carried out
	}
	server := ""
	if x, err := d.Book.Ledger.Site(ctx, where.Address); err == nil && x.Database != nil {
		server = x.Database.Server
	} else if len(where.Account.Databases) > 0 {
		server = where.Account.Databases[0].Name
	}
	done, full, err := c.Queue.Room(ctx, c.ID, batch.Usual.Counted(where.Account, server))
	switch {
	case err != nil && !errors.Is(err, context.Canceled):
		return nil, &queue.Back{After: busyFor, Why: fault.Of(err).What}
	case full != "":
		return nil, &queue.Back{After: crowdedFor, Why: "as many as it bears are at work already at the " + full}
	}
	return done, nil
}
