package ledger

import (
	"context"
	"database/sql"
	"errors"

	"tivset/internal/records/trust"
)

// Witness stands by where a database is not believed: in a log of its own is noted what is written, and what is read
// is compared with that.
type Witness interface {
	// View does something with one state of the database, and again where it has to be looked at anew.
	View(ctx context.Context, do func(ctx context.Context, tx *sql.Tx, w Word) error) error

	// Change does something in one transaction, in which it may note; nobody else does meanwhile.
	Change(ctx context.Context, do func(ctx context.Context, tx *sql.Tx, w Word) error) error
}

// Word is what is known of records within one transaction.
type Word interface {
	// Right says whether that is the last word on a record: an error where nobody wrote it. A record that is nil is
	// none.
	Right(kind trust.Kind, key string, record []byte) error

	// Many says that many records of a kind are read.
	Many(kind trust.Kind) error

	// Whole says whether these are all that there are of a kind, of those whose keys begin with a prefix.
	Whole(kind trust.Kind, prefix string, keys []string) error

	// Note notes what is written.
	Note(what trust.What) error
}

// ErrStale is that of a Word who knows more than its transaction sees: the witness looks again.
var ErrStale = errors.New("the log went on meanwhile")

// Stale says whether it is that.
func Stale(err error) bool { return errors.Is(err, ErrStale) }

// believed is the word on a file of this machine, which nobody else writes.
type believed struct{}

func (believed) Right(trust.Kind, string, []byte) error   { return nil }
func (believed) Many(trust.Kind) error                    { return nil }
func (believed) Whole(trust.Kind, string, []string) error { return nil }
func (believed) Note(trust.What) error                    { return nil }

// Watched is the same ledger with a witness.
func (l *SQL) Watched(w Witness) *SQL {
	l.witness = w
	return l
}

// hand is what reads and writes within one transaction, or call.
type hand struct {
	runner
	Word
}

// view does something with one state of the database.
func (l *SQL) view(ctx context.Context, do func(context.Context, hand) error) error {
	if l.tx == nil && l.witness != nil {
		return l.witness.View(ctx, func(ctx context.Context, tx *sql.Tx, w Word) error { return do(ctx, hand{tx, w}) })
	}
	return l.try(ctx, func(ctx context.Context) error { return do(ctx, hand{l.runner(), l.word()}) })
}

// inOne does something in one transaction.
func (l *SQL) inOne(ctx context.Context, do func(context.Context, hand) error) error {
	switch {
	case l.tx != nil:
		return do(ctx, hand{l.tx, l.word()})
	case l.witness != nil:
		return l.witness.Change(ctx, func(ctx context.Context, tx *sql.Tx, w Word) error { return do(ctx, hand{tx, w}) })
	}
	return l.try(ctx, func(ctx context.Context) error {
		tx, err := l.db.BeginTx(ctx, nil)
		if err != nil {
			return err
		}
		defer func() { _ = tx.Rollback() }()
		if err := do(ctx, hand{tx, believed{}}); err != nil {
			return err
		}
		return tx.Commit()
	})
}

func (l *SQL) word() Word {
	if l.said != nil {
		return l.said
	}
	return believed{}
}
