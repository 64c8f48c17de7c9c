package team

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/records/trust"
)

// logged is an entry as it lies in the database.
type logged struct {
	n int64
	trust.Sealed
}

// since reads the entries from a number on, that one included.
func entriesSince(ctx context.Context, tx *sql.Tx, n int64) ([]logged, error) {
	rows, err := tx.QueryContext(ctx, "SELECT n, entry, signature FROM log WHERE n >= $1 ORDER BY n", n)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []logged
	for rows.Next() {
		var one logged
		if err := rows.Scan(&one.n, &one.Text, &one.Signature); err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, rows.Err()
}

// errNotEntered is a mistake in this program.
var errNotEntered = errors.New("the team's log was not opened")

// follow sees that the log goes on from where this machine knows it, whose head was read before the transaction began,
// and learns what is new. It gives the number of the last entry that the transaction sees.
func (t *Team) follow(ctx context.Context, tx *sql.Tx, head trust.Head) (last int64, err error) {
	entries, err := entriesSince(ctx, tx, head.N)
	if err != nil {
		return 0, err
	}
	if head.N > 0 {
		if len(entries) == 0 || entries[0].n != head.N || !bytes.Equal(entries[0].Hash(), head.Hash) {
			return t.accepted(ctx, tx, head)
		}
		entries = entries[1:]
	} else if len(entries) == 0 || trust.Fingerprint(entries[0].Hash()) != t.founded {
		return 0, t.anothers()
	}
	if len(entries) == 0 {
		return head.N, nil
	}
	if err := t.memory.learn(ctx, entries); errors.Is(err, trust.ErrEntry) {
		return 0, fault.NewAs(fault.NotBelieved, fault.NeedsConfirmation, "the log of the team is not as its members "+
			"wrote it",
			t.address, "Nothing was opened. See who can write into the database; an admin of the team goes on with what is "+
				"right of it: "+fault.Call("ledger", "accept")).Wrap(err)
	} else if err != nil {
		return 0, err
	}
	return entries[len(entries)-1].n, nil
}

func (t *Team) anothers() error {
	return fault.NewAs(fault.NotBelieved, fault.NeedsConfirmation, "the database has another team's log", t.address,
		"Nothing was opened. Ask your team for its fingerprint, and see who can write into the database.")
}

// putBack says that the log does not contain what this machine knows of it.
func (t *Team) putBack(head trust.Head) error {
	return fault.NewAs(fault.NotBelieved, fault.NeedsConfirmation, fmt.Sprintf("the log of the team does not go on from "+
		"number %d, which this machine has seen: the database was put back, or forged", head.N), t.address,
		"Nothing was opened. An admin of the team who knows why goes on with it: "+fault.Call("ledger", "accept"))
}

// mostLooks is how often one is looked anew for that.
const mostLooks = 50

// View implements ledger.Witness.
func (t *Team) View(ctx context.Context, do func(context.Context, *sql.Tx, ledger.Word) error) error {
	if t.memory == nil {
		return errNotEntered
	}
	for look := 1; ; look++ {
		err := t.do(ctx, func(ctx context.Context) error { return t.looked(ctx, do) })
		if !ledger.Stale(err) || look == mostLooks {
			return err
		}
		time.Sleep(time.Duration(look) * time.Millisecond)
	}
}

// looked does something with one state of the database.
func (t *Team) looked(ctx context.Context, do func(context.Context, *sql.Tx, ledger.Word) error) error {
	head, err := t.memory.head(ctx, t.memory.db)
	if err != nil {
		return err
	}
	tx, err := t.db.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	last, err := t.follow(ctx, tx, head)
	if err != nil {
		return err
	}
	return do(ctx, tx, &word{ctx: ctx, team: t, last: last})
}

// Change implements ledger.Witness. Whoever changes something holds the log's lock until it is done.
func (t *Team) Change(ctx context.Context, do func(context.Context, *sql.Tx, ledger.Word) error) error {
	return t.change(ctx, func(ctx context.Context, tx *sql.Tx, w *word) error { return do(ctx, tx, w) })
}

func (t *Team) change(ctx context.Context, do func(context.Context, *sql.Tx, *word) error) error {
	if t.memory == nil {
		return errNotEntered
	}
	var written []writing
	err := t.inOne(ctx, func(ctx context.Context, tx *sql.Tx) error {
		w, err := t.locked(ctx, tx)
		if err != nil {
			return err
		}
		if err := do(ctx, tx, w); err != nil {
			return err
		}
		written = w.entries
		return w.write(ctx, tx)
	})
	if err == nil && len(written) > 0 {
		// what this machine wrote it knows from now on; where that cannot be kept, it learns it with the next look
		_ = t.memory.learn(ctx, asLogged(written))
	}
	return err
}

func asLogged(entries []writing) (out []logged) {
	for _, e := range entries {
		out = append(out, logged{e.N, e.Sealed})
	}
	return out
}

// locked takes the lock under which alone the log is written, and learns what is new of it.
func (t *Team) locked(ctx context.Context, tx *sql.Tx) (*word, error) {
	w := &word{ctx: ctx, team: t}
	if err := t.lock(ctx, tx, w); err != nil {
		return nil, err
	}
	head, err := t.memory.head(ctx, t.memory.db)
	if err != nil {
		return nil, err
	}
	if w.last, err = t.follow(ctx, tx, head); err != nil {
		return nil, err
	}
	w.chain, err = t.memory.chain(ctx, t.memory.db)
	return w, err
}

// lock takes the lock, and reads the database's clock.
func (t *Team) lock(ctx context.Context, tx *sql.Tx, w *word) error {
	return tx.QueryRowContext(ctx, "SELECT clock_timestamp() FROM pg_advisory_xact_lock(hashtextextended($1, 0))",
		t.schema+" log").Scan(&w.at)
}

// word is the word on records within a transaction.
type word struct {
	ctx   context.Context
	team  *Team
	last  int64 // the last entry that the transaction sees
	asked map[trust.Kind]int
	kinds map[trust.Kind]map[string][]byte // those of which many are read

	// of a transaction that changes something
	chain   trust.Chain
	at      time.Time
	entries []writing
	noted   map[noteOf][]byte // the digests
}

// noteOf is a record of which a note is.
type noteOf struct {
	kind trust.Kind
	key  string
}

// many is from how many records of a kind on the words on all of them are fetched.
const many = 40

// writing is an entry that is to be written.
type writing struct {
	trust.Entry
	trust.Sealed
}

// Right implements ledger.Word.
func (w *word) Right(kind trust.Kind, key string, record []byte) error {
	if kind == "" {
		return nil
	}
	if digest, is := w.noted[noteOf{kind, key}]; is {
		if !same(digest, record) {
			return w.team.forged(kind, key, record)
		}
		return nil
	}
	if w.asked == nil {
		w.asked = map[trust.Kind]int{}
	}
	if w.asked[kind]++; w.asked[kind] == many {
		if err := w.Many(kind); err != nil {
			return err
		}
	}
	if words, is := w.kinds[kind]; is {
		if !same(words[key], record) {
			return w.team.forged(kind, key, record)
		}
		return nil
	}
	digest, at, err := w.team.memory.word(w.ctx, kind, key)
	switch {
	case err != nil:
		return err
	case same(digest, record):
		return nil
	case at > w.last:
		return ledger.ErrStale
	}
	return w.team.forged(kind, key, record)
}

// forged says that a record is not what the team wrote.
func (t *Team) forged(kind trust.Kind, key string, record []byte) error {
	what := "nobody of the team wrote the record of "
	if record == nil {
		what = "somebody who is not of the team took away the record of "
	}
	return fault.NewAs(fault.NotBelieved, fault.NeedsConfirmation, what+string(kind)+" "+key, t.address,
		"It was not used. See who can write into the database, and put it back from a backup; or an admin of the team goes "+
			"on without it: "+fault.Call("ledger", "accept"))
}

// Whole implements ledger.Word.
func (w *word) Whole(kind trust.Kind, prefix string, keys []string) error {
	if kind == "" {
		return nil
	}
	words, at := w.kinds[kind], w.last
	if words == nil || prefix != "" {
		var err error
		if words, at, err = w.team.memory.words(w.ctx, kind, prefix); err != nil {
			return err
		}
	}
	there := make(map[string]bool, len(keys))
	for _, key := range keys {
		if there[key] = true; words[key] == nil && at <= w.last {
			return w.team.forged(kind, key, []byte{})
		}
	}
	for key := range words {
		switch {
		case there[key]:
		case at > w.last:
			return ledger.ErrStale
		default:
			return w.team.forged(kind, key, nil)
		}
	}
	return nil
}

// Many implements ledger.Word: the words on all records of a kind are fetched at once.
func (w *word) Many(kind trust.Kind) error {
	if kind == "" {
		return nil
	}
	words, at, err := w.team.memory.words(w.ctx, kind, "")
	if err == nil && at > w.last {
		err = ledger.ErrStale
	}
	if w.kinds == nil {
		w.kinds = map[trust.Kind]map[string][]byte{}
	}
	w.kinds[kind] = words
	return err
}

// Note implements ledger.Word.
func (w *word) Note(what trust.What) error {
	by, err := w.by()
	if err != nil {
		return err
	}
	s, e, err := w.chain.Note(by, w.at, what)
	if err != nil {
		return w.team.mayNot(err)
	}
	w.entries = append(w.entries, writing{e, s})
	if w.noted == nil {
		w.noted = map[noteOf][]byte{}
	}
	w.noted[noteOf{what.Kind, what.Key}] = e.Digest
	return nil
}

// by is this machine, as the charter in force knows it.
func (w *word) by() (trust.Signer, error) {
	by := w.team.signer
	if w.chain.Charter == nil {
		return by, errNotEntered
	}
	m := w.chain.Charter.Signing(by.Public())
	if m == nil {
		return by, w.team.notOf()
	}
	by.Name = m.Name
	return by, nil
}

// mayNot words why this machine cannot make an entry.
func (t *Team) mayNot(err error) error {
	return fault.NewAs(fault.MayOnlyLook, fault.NeedsConfirmation, "this machine may not do that in the team", t.address,
		"Ask somebody of the team who may: "+fault.Call("team", "list")+". Nothing was touched.").Wrap(err)
}

// enact has another charter in force.
func (w *word) enact(next *trust.Charter, note string) error {
	by, err := w.by()
	if err != nil {
		return err
	}
	s, e, err := w.chain.Enact(by, w.at, next, note)
	if err != nil {
		return w.team.mayNot(err)
	}
	w.entries = append(w.entries, writing{e, s})
	return nil
}

// write writes what was noted, all at once.
func (w *word) write(ctx context.Context, tx *sql.Tx) error {
	if len(w.entries) == 0 {
		return nil
	}
	var n []int64
	var entries, kinds, keys, about, members []string
	var signatures [][]byte
	for _, e := range w.entries {
		n, entries, signatures = append(n, e.N), append(entries, string(e.Text)), append(signatures, e.Signature)
		kinds, keys, about, members = append(kinds, string(e.Kind)), append(keys, e.Key), append(about, e.About),
			append(members,
				e.Member)
	}
	_, err := tx.ExecContext(ctx, "INSERT INTO log (n, entry, signature, kind, key, about, member) SELECT * FROM "+
		"unnest($1::bigint[], $2::text[], $3::bytea[], $4::text[], $5::text[], $6::text[], $7::text[])", n, entries,
		signatures,
		kinds, keys, about, members)
	return err
}

// Entry is an entry of the log, as people read it.
type Entry struct {
	N      int64      `json:"number"`
	At     time.Time  `json:"at"`
	Member string     `json:"member"`
	Kind   trust.Kind `json:"kind"`
	Key    string     `json:"of"`
	Gone   bool       `json:"gone,omitempty"`
	About  string     `json:"about,omitempty"`
	Note   string     `json:"note,omitempty"`
}

// HistoryOf says which entries are asked for; all of them when it is empty.
type HistoryOf struct {
	Of     string // a site's address, an account's name or a job's id, with the secrets that belong to it
	Member string
	Most   int // the newest
}

// History reads the log, the newest first: who did what. Each entry is compared with what this machine knows of it.
func (t *Team) History(ctx context.Context, of HistoryOf) (out []Entry, err error) {
	where, args := []string{"true"}, []any{of.Most}
	if of.Of != "" {
		args = append(args, of.Of, "sites/"+of.Of+"/", of.Of+"/")
		where = append(where, fmt.Sprintf("(key = $%[1]d OR about = $%[1]d OR starts_with(key, $%[2]d) OR kind = 'secret' "+
			"AND "+
			"starts_with(key, $%[3]d))", len(args)-2, len(args)-1, len(args)))
	}
	if of.Member != "" {
		args = append(args, of.Member)
		where = append(where, fmt.Sprintf("member = $%d", len(args)))
	}
	err = t.View(ctx, func(ctx context.Context, tx *sql.Tx, _ ledger.Word) error {
		rows, err := tx.QueryContext(ctx, "SELECT n, entry, signature FROM log WHERE "+strings.Join(where, " AND ")+
			" ORDER BY n DESC LIMIT $1", args...)
		if err != nil {
			return err
		}
		defer rows.Close()
		out = []Entry{}
		for rows.Next() {
			var one logged
			if err := rows.Scan(&one.n, &one.Text, &one.Signature); err != nil {
				return err
			}
			e, err := t.known(ctx, one)
			if err != nil {
				return err
			}
			out = append(out, e)
		}
		return rows.Err()
	})
	return out, err
}

// known reads an entry that this machine has followed before.
func (t *Team) known(ctx context.Context, one logged) (Entry, error) {
	hash, err := t.memory.hash(ctx, one.n)
	if err != nil {
		return Entry{}, err
	}
	if !bytes.Equal(hash, one.Hash()) {
		return Entry{}, t.putBack(trust.Head{N: one.n})
	}
	e, err := one.Read()
	return Entry{e.N, e.At, e.Member, e.Kind, e.Key, e.Kind.Record() && e.Digest == nil, e.About,
		e.Note}, err
}

// Did notes something that somebody did and that changes no record, such as having a password shown.
func (t *Team) Did(ctx context.Context, what trust.What) error {
	return t.change(ctx, func(_ context.Context, _ *sql.Tx, w *word) error {
		return w.Note(what)
	})
}

// Founded is the fingerprint of the team in the database, and who founded it: the fingerprint is to be compared
// before any of it is believed.
func (t *Team) Founded(ctx context.Context) (fingerprint, by string, err error) {
	err = t.do(ctx, func(ctx context.Context) error {
		var one logged
		if err := t.pool.QueryRow(ctx, "SELECT entry, signature FROM log WHERE n = 1").Scan(&one.Text,
			&one.Signature); errors.Is(err, pgx.ErrNoRows) {
			return fault.NewAs(fault.NotBelieved, fault.NeedsConfirmation, "the ledger in the database has no log", t.address,
				"Ask your team which address is right.")
		} else if err != nil {
			return err
		}
		e, err := one.Read()
		fingerprint, by = trust.Fingerprint(one.Hash()), e.Member
		return err
	})
	return fingerprint, by, err
}
