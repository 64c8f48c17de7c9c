package team

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"tivset/internal/records/ledger"
	"tivset/internal/records/trust"
)

// replayed is a log followed from its beginning, without what this machine knows of it.
type replayed struct {
	entries []logged // those that count
	chain   trust.Chain
	bad     error // why those after them do not; nil where there are none
	charter []enacted
	words   map[noteOf][]byte
}

// enacted is a charter, and the key of who signed it.
type enacted struct {
	line int
	by   []byte
}

// replay follows the whole log of the team that this machine accepted. What was written after the point up to which
// this
// machine knows it counts only if it is of somebody who is one of those that are given; nil for whoever was a member
// then.
func (t *Team) replay(ctx context.Context, tx *sql.Tx, of *trust.Charter) (r replayed, err error) {
	all, err := entriesSince(ctx, tx, 0)
	if err != nil {
		return r, err
	}
	if len(all) == 0 || trust.Fingerprint(all[0].Hash()) != t.founded {
		return r, t.anothers()
	}
	r.words = map[noteOf][]byte{}
	known := of != nil
	for _, one := range all {
		if known {
			hash, err := t.memory.hash(ctx, one.n)
			if err != nil {
				return r, err
			}
			known = bytes.Equal(hash, one.Hash())
		}
		if r.bad = r.next(one, of, known); r.bad != nil {
			break
		}
	}
	if r.chain.Charter == nil {
		return r, t.anothers()
	}
	return r, nil
}

// next follows one more entry; an error where it does not count.
func (r *replayed) next(one logged, of *trust.Charter, known bool) error {
	chain := r.chain
	e, err := chain.Follow(one.Sealed)
	if err != nil || one.n != e.N {
		return errors.Join(trust.ErrEntry, err)
	}
	law := r.chain.Charter
	if law == nil {
		law = chain.Charter
	}
	by := law.Member(e.Member).Sign
	if of != nil && !known && of.Signing(by) == nil {
		return fmt.Errorf("%w: number %d: %s is not of the team any more", trust.ErrEntry, e.N, e.Member)
	}
	r.chain, r.entries = chain, append(r.entries, one)
	switch {
	case e.Kind == trust.OfCharter:
		r.charter = append(r.charter, enacted{chain.Charter.Line, by})
	case e.Kind.Record() && e.Digest == nil:
		delete(r.words, noteOf{e.Kind, e.Key})
	case e.Kind.Record():
		r.words[noteOf{e.Kind, e.Key}] = e.Digest
	}
	return nil
}

// accepted follows a log that does not go on from where this machine knows it, if an admin whom this machine knows as
// one said so. It gives the number of its last entry.
func (t *Team) accepted(ctx context.Context, tx *sql.Tx, head trust.Head) (int64, error) {
	r, err := t.replay(ctx, tx, nil)
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

// Difference is how the database differs from what this machine has seen of the team's log.
type Difference struct {
	Seen    int64    `json:"seen"`              // the last entry that this machine knows
	There   int64    `json:"there"`             // the last one in the database that counts
	Bad     bool     `json:"bad"`               // others come after it
	Lost    []string `json:"lost"`              // records that are not there, or not as the team wrote them last
	Foreign []string `json:"foreign"`           // records that nobody of the team wrote
	Back    []string `json:"back,omitempty"`    // members whom it would bring back
	Missing []string `json:"missing,omitempty"` // members whom it does not know
}

// Differs says how the database differs from what this machine has seen; nil for not at all.
func (t *Team) Differs(ctx context.Context) (d *Difference, err error) {
	err = t.inOne(ctx, func(ctx context.Context, tx *sql.Tx) error {
		r, mine, err := t.both(ctx, tx)
		if err != nil {
			return err
		}
		d, err = t.difference(ctx, tx, r, mine)
		return err
	})
	return d, err
}

func (t *Team) both(ctx context.Context, tx *sql.Tx) (r replayed, mine trust.Chain, err error) {
	// to follow the whole of a long log takes a while, in which nothing is asked of the server
	if _, err := tx.ExecContext(ctx, "SET LOCAL idle_in_transaction_session_timeout = '30min'"); err != nil {
		return r, mine, err
	}
	if mine, err = t.memory.chain(ctx, t.memory.db); err != nil {
		return r, mine, err
	}
	if mine.Charter == nil {
		return r, mine, errNotEntered
	}
	r, err = t.replay(ctx, tx, mine.Charter)
	return r, mine, err
}

func (t *Team) difference(ctx context.Context, tx *sql.Tx, r replayed, mine trust.Chain) (*Difference, error) {
	d := &Difference{Seen: mine.Head.N, There: r.chain.Head.N, Bad: r.bad != nil, Lost: []string{}, Foreign: []string{}}
	goesOn := mine.Head.N <= r.chain.Head.N && bytes.Equal(r.entries[mine.Head.N-1].Hash(), mine.Head.Hash)
	there, err := t.rows(ctx, tx)
	if err != nil {
		return nil, err
	}
	for of, digest := range there {
		if r.words[of] == nil {
			d.Foreign = append(d.Foreign, of.words())
		} else if !bytes.Equal(digest, r.words[of]) {
			d.Lost = append(d.Lost, of.words())
		}
	}
	last := r.words // what the team wrote last, as far as this machine knows
	if !goesOn {
		last = map[noteOf][]byte{}
		for _, kind := range trust.Records() {
			words, _, err := t.memory.words(ctx, kind, "")
			if err != nil {
				return nil, err
			}
			for key, digest := range words {
				last[noteOf{kind, key}] = digest
			}
		}
	}
	for of, digest := range last {
		lost := goesOn && hasRow(of.kind) && there[of] == nil || !goesOn && !bytes.Equal(r.words[of], digest)
		if lost && !slices.Contains(d.Lost, of.words()) {
			d.Lost = append(d.Lost, of.words())
		}
	}
	slices.Sort(d.Lost)
	slices.Sort(d.Foreign)
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
	if goesOn && !d.Bad && len(d.Lost)+len(d.Foreign) == 0 {
		return nil, nil
	}
	return d, nil
}

func (n noteOf) words() string { return string(n.kind) + " " + n.key }

// recorded are the tables of records, with the columns of the key and of what the log has the digest of.
var recorded = map[trust.Kind]struct{ table, key, record string }{
	trust.OfSite: {"sites", "address", "record"}, trust.OfJob: {"jobs", "id", "record"},
	trust.OfLeading: {"redirects", "address", "record"}, trust.OfAccount: {"accounts", "name", "file"},
	trust.OfSecret: {"vault", "name", "sealed"},
}

// hasRow says whether a record of a kind has a row that the log has the digest of.
func hasRow(kind trust.Kind) bool {
	_, has := recorded[kind]
	return has
}

// rows are the digests of all rows of records.
func (t *Team) rows(ctx context.Context, tx *sql.Tx) (map[noteOf][]byte, error) {
	out := map[noteOf][]byte{}
	for kind, at := range recorded {
		rows, err := tx.QueryContext(ctx, "SELECT "+at.key+", "+at.record+" FROM "+at.table)
		if err != nil {
			return nil, err
		}
		for rows.Next() {
			var key string
			var record []byte
			if err := rows.Scan(&key, &record); err != nil {
				_ = rows.Close()
				return nil, err
			}
			out[noteOf{kind, key}] = trust.Digest(record)
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Accept has the team go on with what is right in the database, with those for members whom this machine knows as
// such: entries that do not count go, and so do rows that are not as the log has them. Machines that know this one as
// an
// admin's follow.
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
		if err := t.reconcile(ctx, tx, w, r); err != nil {
			return err
		}
		return w.write(ctx, tx)
	})
}

// reconcile takes rows out that are not as the log has them, and has the log say so of those that are not there.
func (t *Team) reconcile(ctx context.Context, tx *sql.Tx, w *word, r replayed) error {
	there, err := t.rows(ctx, tx)
	if err != nil {
		return err
	}
	for of, digest := range there {
		if bytes.Equal(digest, r.words[of]) {
			continue
		}
		at := recorded[of.kind]
		if _, err := tx.ExecContext(ctx, "DELETE FROM "+at.table+" WHERE "+at.key+" = $1", of.key); err != nil {
			return err
		}
		delete(there, of)
	}
	lost := slices.SortedFunc(maps.Keys(r.words), func(a, b noteOf) int { return strings.Compare(a.words(), b.words()) })
	for _, of := range lost {
		if !hasRow(of.kind) || there[of] != nil {
			continue
		}
		if err := w.Note(trust.What{Kind: of.kind, Key: of.key, Note: "lost"}); err != nil {
			return err
		}
	}
	return nil
}
