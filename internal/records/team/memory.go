package team

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"

	"tivset/internal/records/ledger"
	"tivset/internal/records/trust"
)

// memory is what this machine has seen of a team's log, in a file of its own: the last word on every record, the
// hash of every entry, and every charter. A database that says something else was put back, or forged.
type memory struct{ db *sql.DB }

const memoryTables = `
CREATE TABLE IF NOT EXISTS entries (n INTEGER PRIMARY KEY, hash BLOB NOT NULL) STRICT;
CREATE TABLE IF NOT EXISTS words (kind TEXT, key TEXT, digest BLOB NOT NULL, PRIMARY KEY (kind, key)) STRICT,
	WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS charters (n INTEGER PRIMARY KEY, version INTEGER NOT NULL, charter TEXT NOT NULL) STRICT;`

// remember opens the memory in a file, and makes it when it is not there.
func remember(ctx context.Context, file string) (*memory, error) {
	// another program of this machine that stands still in the middle of learning is waited for
	db, err := ledger.Private(file, "_pragma=busy_timeout(60000)&_pragma=journal_mode(wal)&_pragma=synchronous(normal)")
	if err != nil {
		return nil, err
	}
	var there int
	err = db.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_schema WHERE name = 'charters'").Scan(&there)
	if err == nil && there == 0 {
		_, err = db.ExecContext(ctx, memoryTables)
	}
	if err != nil {
		_ = db.Close()
		return nil, err
	}
	return &memory{db}, nil
}

func (m *memory) close() error { return m.db.Close() }

// querier reads, within a transaction or without.
type querier interface {
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

// head is how far the log is known.
func (m *memory) head(ctx context.Context, in querier) (h trust.Head, err error) {
	err = in.QueryRowContext(ctx, "SELECT n, hash FROM entries ORDER BY n DESC LIMIT 1").Scan(&h.N, &h.Hash)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return h, err
}

// chain is the log as far as it is known, with the charter that is in force.
func (m *memory) chain(ctx context.Context, in querier) (c trust.Chain, err error) {
	if c.Head, err = m.head(ctx, in); err != nil || c.Head.N == 0 {
		return c, err
	}
	var text []byte
	if err = in.QueryRowContext(ctx, "SELECT charter FROM charters ORDER BY n DESC LIMIT 1").Scan(&text); err == nil {
		err = json.Unmarshal(text, &c.Charter)
	}
	return c, err
}

// learn follows the entries that are new to this machine.
func (m *memory) learn(ctx context.Context, entries []logged) error {
	tx, err := m.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	if err := m.learnIn(ctx, tx, entries); err != nil && !errors.Is(err, trust.ErrEntry) {
		return err
	} else if err != nil {
		return errors.Join(err, tx.Commit()) // what is known until there stays known
	}
	return tx.Commit()
}

func (m *memory) learnIn(ctx context.Context, tx *sql.Tx, entries []logged) error {
	c, err := m.chain(ctx, tx)
	if err != nil {
		return err
	}
	for _, one := range entries {
		if one.n <= c.Head.N {
			continue // another program of this machine was faster
		}
		e, err := c.Follow(one.Sealed)
		if err != nil {
			return err
		}
		if err := m.take(ctx, tx, e, c.Head.Hash); err != nil {
			return err
		}
	}
	return nil
}

// relearn forgets all, and follows another log of the same team.
func (m *memory) relearn(ctx context.Context, entries []logged) error {
	tx, err := m.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	for _, table := range []string{"entries", "words", "charters"} {
		if _, err := tx.ExecContext(ctx, "DELETE FROM "+table); err != nil {
			return err
		}
	}
	if err := m.learnIn(ctx, tx, entries); err != nil {
		return err
	}
	return tx.Commit()
}

// take keeps what an entry says.
func (m *memory) take(ctx context.Context, tx *sql.Tx, e trust.Entry, hash []byte) error {
	_, err := tx.ExecContext(ctx, "INSERT INTO entries (n, hash) VALUES (?, ?)", e.N, hash)
	switch {
	case err != nil:
	case e.Kind == trust.OfCharter:
		var c trust.Charter
		if err = json.Unmarshal(e.Charter, &c); err == nil {
			_, err = tx.ExecContext(ctx, "INSERT INTO charters (n, version, charter) VALUES (?, ?, ?)", e.N, c.Version,
				string(e.Charter))
		}
	case !e.Kind.Record():
	case e.Digest == nil:
		_, err = tx.ExecContext(ctx, "DELETE FROM words WHERE kind = ? AND key = ?", string(e.Kind), e.Key)
	default:
		_, err = tx.ExecContext(ctx, "INSERT INTO words (kind, key, digest) VALUES (?, ?, ?) ON CONFLICT (kind, key) DO "+
			"UPDATE SET digest = excluded.digest", string(e.Kind), e.Key, e.Digest)
	}
	return err
}

// hash is that of an entry; nil where it is not known.
func (m *memory) hash(ctx context.Context, n int64) (hash []byte, err error) {
	err = m.db.QueryRowContext(ctx, "SELECT hash FROM entries WHERE n = ?", n).Scan(&hash)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return hash, err
}

// words are the last words on records of a kind whose keys begin with a prefix, and how far the log is known.
func (m *memory) words(ctx context.Context, kind trust.Kind, prefix string) (words map[string][]byte, at int64,
	err error) {
	tx, err := m.db.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return nil, 0, err
	}
	defer func() { _ = tx.Rollback() }()
	head, err := m.head(ctx, tx)
	if err != nil {
		return nil, 0, err
	}
	// all that begin with the prefix sort from it on, before what follows its last possible character
	rows, err := tx.QueryContext(ctx, "SELECT key, digest FROM words WHERE kind = ? AND key >= ? AND key < ?",
		string(kind), prefix, prefix+"\U0010FFFF")
	if err != nil {
		return nil, 0, err
	}
	defer rows.Close()
	words = map[string][]byte{}
	for rows.Next() {
		var key string
		var digest []byte
		if err := rows.Scan(&key, &digest); err != nil {
			return nil, 0, err
		}
		words[key] = digest
	}
	return words, head.N, rows.Err()
}

// word is the last one on a record, nil for none, and how far the log is known.
func (m *memory) word(ctx context.Context, kind trust.Kind, key string) (digest []byte, at int64, err error) {
	err = m.db.QueryRowContext(ctx, "SELECT (SELECT digest FROM words WHERE kind = ? AND key = ?), "+
		"coalesce((SELECT max(n) FROM entries), 0)", string(kind), key).Scan(&digest, &at)
	return digest, at, err
}

// same says whether a digest is that of a record.
func same(digest, record []byte) bool { return bytes.Equal(digest, trust.Digest(record)) }
