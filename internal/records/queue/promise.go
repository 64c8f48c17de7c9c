package queue

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/riverqueue/river/rivertype"

	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/records/trust"
)

// BeginsWithin is for how long an order may wait; later it is not begun any more.
const BeginsWithin = 14 * 24 * time.Hour

// text is what the team's log has the digest of.
func (o Order) text() []byte {
	text, _ := json.Marshal(o) // texts, bytes and times always have a form in JSON
	return text
}

// what is what an order asks for, for people.
func (o Order) what() string { return o.What + " of " + o.At }

// promise notes in the team's log that an order is to be carried out, once.
func (q *Queue) promise(ctx context.Context, o *Order) error {
	return q.team.Change(ctx, func(ctx context.Context, tx *sql.Tx, w ledger.Word) error {
		var now time.Time
		if err := tx.QueryRowContext(ctx, "SELECT now()").Scan(&now); err != nil {
			return err
		}
		o.ID, o.Until = rand.Text(), now.Add(BeginsWithin).UTC().Truncate(time.Second)
		return w.Note(trust.What{Kind: trust.OfRequest, Key: o.ID, Record: o.text(), About: o.At,
			Note: "put on the queue: " + o.what()})
	})
}

// forget notes that an order is not to be carried out.
func (q *Queue) forget(ctx context.Context, o Order) error {
	return q.team.Change(context.WithoutCancel(ctx), func(_ context.Context, _ *sql.Tx, w ledger.Word) error {
		if w.Right(trust.OfRequest, o.ID, o.text()) != nil {
			return nil // it never was
		}
		return w.Note(trust.What{Kind: trust.OfRequest, Key: o.ID, About: o.At, Note: "cancelled: " + o.what()})
	})
}

// taken is what the log says of an order that somebody began, until it has ended.
func taken(id int64) []byte { return fmt.Appendf(nil, "number %d", id) }

// ErrRefused is an order that no worker carries out.
var ErrRefused = errors.New("no worker carries it out")

// Room takes room for an order at what it is counted at, across all workers, until done; full says where there is none.
func (q *Queue) Room(ctx context.Context, who string, at map[string]int) (done func(), full string, err error) {
	return q.team.Slots(ctx, who, at)
}

// take sees that somebody who may put an order on the queue, that it is not carried out already, and not too old; and
// notes that it is begun.
func (q *Queue) take(ctx context.Context, id int64, o Order) error {
	return q.team.Change(ctx, func(ctx context.Context, tx *sql.Tx, w ledger.Word) error {
		if err := w.Right(trust.OfRequest, o.ID, o.text()); err != nil {
			return fault.NewAs(fault.NotBelieved, fault.NeedsConfirmation, "nobody of the team put this request there, "+
				"or it was carried out already", o.At, "It was not carried out. See who can write into the "+
				"database.").Wrap(errors.Join(ErrRefused, err))
		}
		if w.Right(trust.OfResult, o.ID, taken(id)) == nil {
			return nil // it was put back
		}
		if err := w.Right(trust.OfResult, o.ID, nil); err != nil {
			return fault.NewAs(fault.NotBelieved, fault.NeedsConfirmation, "this request is on the queue twice", o.At,
				"It was not carried out. See who can write into the database.").Wrap(errors.Join(ErrRefused, err))
		}
		var late bool
		if err := tx.QueryRowContext(ctx, "SELECT now() > $1", o.Until).Scan(&late); err != nil {
			return err
		}
		if late {
			return fault.New(fault.Failed, "the request waited too long to be begun now", o.At, "Ask for it again.").
				Wrap(ErrRefused)
		}
		return w.Note(trust.What{Kind: trust.OfResult, Key: o.ID, Record: taken(id), About: o.At,
			Note: "begun: " + o.what()})
	})
}

// kept is a result as it lies in the database: its exact text, of which the log has the digest.
type kept struct {
	Text string `json:"text"`
}

func (k kept) result() *Result {
	r := &Result{}
	if json.Unmarshal([]byte(k.Text), r) != nil {
		return nil
	}
	return r
}

// end notes what came of an order, which is over with that.
func (q *Queue) end(ctx context.Context, id int64, o Order, r Result) (kept, error) {
	text, err := json.Marshal(r)
	if err != nil {
		return kept{}, err
	}
	note := "done"
	if r.Code != 0 {
		note = "failed"
	}
	err = q.team.Change(context.WithoutCancel(ctx), func(ctx context.Context, tx *sql.Tx,
		w ledger.Word) error {
		// at once with the note: when this worker dies now, the next one finds it
		if _, err := tx.ExecContext(ctx, "UPDATE river_job SET metadata = metadata || jsonb_build_object('output', "+
			"$2::jsonb) WHERE id = $1", id, kept{string(text)}); err != nil {
			return err
		}
		if w.Right(trust.OfRequest, o.ID, o.text()) != nil ||
			w.Right(trust.OfResult, o.ID, taken(id)) != nil && w.Right(trust.OfResult, o.ID, nil) != nil {
			// nobody of the team asked for it, or for it once more, and it was refused
			return w.Note(trust.What{Kind: trust.OfResult, Key: refused(id), Record: text, About: o.At,
				Note: "refused, for nobody of the team put it there: " + o.what()})
		}
		return w.Note(trust.What{Kind: trust.OfResult, Key: o.ID, Record: text, About: o.At, Note: note + ": " + o.what()})
	})
	return kept{string(text)}, err
}

// over is what came of an order whose worker noted it, and died before the library knew; nil for none.
func (q *Queue) over(ctx context.Context, id int64, o Order) (out *kept, err error) {
	err = q.team.View(ctx, func(ctx context.Context, tx *sql.Tx, w ledger.Word) error {
		out = nil
		var text *string
		if err := tx.QueryRowContext(ctx, "SELECT metadata->'output'->>'text' FROM river_job WHERE id = $1", id).
			Scan(&text); err != nil || text == nil {
			return err
		}
		switch err := w.Right(trust.OfResult, o.ID, []byte(*text)); {
		case ledger.Stale(err):
			return err
		case err == nil:
			out = &kept{*text}
		}
		return nil
	})
	return out, err
}

// refused is under which name the log has what came of an order that nobody of the team put there.
func refused(id int64) string { return fmt.Sprintf("number %d", id) }

// forged is the state of an order that nobody of the team put there, or of which nobody of it said what came of it.
const forged = "forged"

// believed are orders as the team's log has them.
func (q *Queue) believed(ctx context.Context, rows []*rivertype.JobRow) (out []Listed, err error) {
	living, err := q.living(ctx)
	if err != nil {
		return nil, err
	}
	err = q.team.View(ctx, func(_ context.Context, _ *sql.Tx, w ledger.Word) error {
		out = []Listed{}
		for _, row := range rows {
			l, o := listed(row)
			if err := known(row, o, l, w); ledger.Stale(err) {
				return err
			} else if err != nil {
				if l.State = forged; w.Right(trust.OfResult, refused(l.Number), output(row)) != nil {
					l.Result = nil
				}
			}
			if l.State == "running" && !living[l.Worker] {
				l.State, l.Why = "waiting", "its worker gives no sign of life; another one takes it over"
			}
			out = append(out, l)
		}
		return nil
	})
	return out, err
}

// living are the workers that give signs of life.
func (q *Queue) living(ctx context.Context) (map[string]bool, error) {
	all, err := q.Workers(ctx)
	out := map[string]bool{}
	for _, w := range all {
		out[w.ID] = w.Alive
	}
	return out, err
}

// known says whether the log knows an order in that state.
func known(row *rivertype.JobRow, o Order, l Listed, w ledger.Word) error {
	if l.Ended != nil && l.Result == nil { // cancelled before it was begun
		return w.Right(trust.OfRequest, o.ID, nil)
	}
	if err := w.Right(trust.OfRequest, o.ID, o.text()); err != nil || l.Ended == nil {
		return err
	}
	return w.Right(trust.OfResult, o.ID, output(row))
}

// output is the exact text of what came of an order; nil where nobody said it.
func output(row *rivertype.JobRow) []byte {
	var of struct{ Output *kept }
	if json.Unmarshal(row.Metadata, &of) != nil || of.Output == nil {
		return nil
	}
	return []byte(of.Output.Text)
}
