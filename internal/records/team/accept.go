package team

import (
	"context"
	"database/sql"
	"errors"
	"slices"

	"tivset/internal/records/ledger"
	"tivset/internal/records/trust"
)

// replayed is a log followed from its beginning, without what this machine knows of it.
type replayed struct {
	entries []logged // those that were made by somebody who may
	chain   trust.Chain
	bad     error // why the one after them was not; nil where there is none
	charter []enacted
	words   map[noteOf][]byte
}

// enacted is a charter, and the key of who signed it.
type enacted struct {
	line int
	by   []byte
}

// replay follows the whole log of the team that this machine accepted.
func (t *Team) replay(ctx context.Context, tx *sql.Tx) (r replayed, err error) {
	all, err := entriesSince(ctx, tx, 0)
	if err != nil {
		return r, err
	}
	if len(all) == 0 || trust.Fingerprint(all[0].Hash()) != t.founded {
		return r, t.anothers()
	}
	r.words = map[noteOf][]byte{}
	for _, one := range all {
		before := r.chain.Charter
		e, err := r.chain.Follow(one.Sealed)
		if err != nil || one.n != e.N {
			r.bad = errors.Join(trust.ErrEntry, err)
			return r, nil
		}
		r.entries = append(r.entries, one)
		switch {
		case e.Kind == trust.OfCharter:
			law := before
			if law == nil {
				law = r.chain.Charter
			}
			r.charter = append(r.charter, enacted{r.chain.Charter.Line, law.Member(e.Member).Sign})
		case e.Kind.Record() && e.Digest == nil:
			delete(r.words, noteOf{e.Kind, e.Key})
		case e.Kind.Record():
			r.words[noteOf{e.Kind, e.Key}] = e.Digest
		}
	}
	return r, nil
}

// accepted follows a log that does not go on from where this machine knows it, if an admin whom this machine knows as
// one said so. It gives the number of its last entry.
func (t *Team) accepted(ctx context.Context, tx *sql.Tx, head trust.Head) (int64, error) {
	r, err := t.replay(ctx, tx)
	if err != nil {
		return 0, err
	}
	mine, err := t.memory.chain(ctx, t.memory.db)
	if err != nil {
		return 0, err
	}
	if mine.Head.N != head.N {
		return 0, ledger.ErrStale // another program of this machine went on meanwhile
	}
	if r.bad == nil && slices.ContainsFunc(r.charter, func(e enacted) bool {
		m := mine.Charter.Signing(e.by)
		return e.line > mine.Charter.Line && m != nil && m.May == trust.Admin
	}) {
		return r.chain.Head.N, t.memory.relearn(ctx, r.entries)
	}
	return 0, t.putBack(head)
}

// Difference is how the log in the database differs from what this machine has seen.
type Difference struct {
	Seen    int64    `json:"seen"`              // the last entry that this machine knows
	There   int64    `json:"there"`             // the last one in the database that a member made
	Bad     int      `json:"bad"`               // entries after that
	Lost    []string `json:"lost"`              // records that are not there, or not as they were last
	Back    []string `json:"back,omitempty"`    // members whom it would bring back
	Missing []string `json:"missing,omitempty"` // members whom it does not know
}

// Differs says how the log in the database differs from what this machine has seen; nil for not at all.
func (t *Team) Differs(ctx context.Context) (d *Difference, err error) {
	err = t.inOne(ctx, func(ctx context.Context, tx *sql.Tx) error {
		r, mine, err := t.both(ctx, tx)
		if err != nil {
			return err
		}
		d, err = t.difference(ctx, r, mine)
		return err
	})
	return d, err
}

func (t *Team) both(ctx context.Context, tx *sql.Tx) (r replayed, mine trust.Chain, err error) {
	if r, err = t.replay(ctx, tx); err == nil {
		mine, err = t.memory.chain(ctx, t.memory.db)
	}
	return r, mine, err
}

func (t *Team) difference(ctx context.Context, r replayed, mine trust.Chain) (*Difference, error) {
	d := &Difference{Seen: mine.Head.N, There: r.chain.Head.N, Lost: []string{}}
	if r.bad != nil {
		d.Bad = 1
	}
	goesOn := mine.Head.N <= r.chain.Head.N && slices.Equal(r.entries[mine.Head.N-1].Hash(), mine.Head.Hash)
	if goesOn && r.bad == nil {
		return nil, nil
	}
	if goesOn {
		return d, nil
	}
	for _, kind := range trust.Records() {
		words, _, err := t.memory.words(ctx, kind, "")
		if err != nil {
			return nil, err
		}
		for key, digest := range words {
			if !slices.Equal(r.words[noteOf{kind, key}], digest) {
				d.Lost = append(d.Lost, string(kind)+" "+key)
			}
		}
	}
	slices.Sort(d.Lost)
	for _, m := range r.chain.Charter.Members {
		if mine.Charter.Signing(m.Sign) == nil {
			d.Back = append(d.Back, m.Name)
		}
	}
	for _, m := range mine.Charter.Members {
		if r.chain.Charter.Signing(m.Sign) == nil {
			d.Missing = append(d.Missing, m.Name)
		}
	}
	return d, nil
}

// Accept has the team go on with what is right of the log in the database, with those for members whom this machine
// knows as such. Machines that know this one as an admin's follow.
func (t *Team) Accept(ctx context.Context) error {
	return t.inOne(ctx, func(ctx context.Context, tx *sql.Tx) error {
		w := &word{ctx: ctx, team: t}
		if err := t.lock(ctx, tx, w); err != nil {
			return err
		}
		r, mine, err := t.both(ctx, tx)
		if err != nil {
			return err
		}
		if mine.Charter == nil {
			return errNotEntered
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM log WHERE n > $1", r.chain.Head.N); err != nil {
			return err
		}
		next := mine.Charter.Next()
		next.Version = max(mine.Charter.Version, r.chain.Charter.Version) + 1
		next.Line = max(mine.Charter.Line, r.chain.Charter.Line) + 1
		w.chain = r.chain
		if err := w.enact(next, "accepted as it is in the database"); err != nil {
			return err
		}
		return w.write(ctx, tx)
	})
}
