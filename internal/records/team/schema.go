package team

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"

	"tivset/internal/fault"
)

// Format is the version of the tables.
const Format = 3

// What a record says is kept as JSON, so that adding a field needs no change of tables.
// Addresses and times are compared byte by byte, as on every machine.
const tables = `
CREATE TABLE about (format INTEGER NOT NULL, made TIMESTAMPTZ NOT NULL, moved TIMESTAMPTZ);
CREATE TABLE people (name TEXT PRIMARY KEY, key TEXT NOT NULL UNIQUE, may TEXT NOT NULL, added TIMESTAMPTZ NOT NULL,
	by TEXT NOT NULL);
CREATE TABLE sites (address TEXT COLLATE "C" PRIMARY KEY, account TEXT NOT NULL, record JSONB NOT NULL);
CREATE TABLE jobs (id TEXT COLLATE "C" PRIMARY KEY, started TEXT COLLATE "C" NOT NULL, record JSONB NOT NULL);
CREATE INDEX jobs_started ON jobs (started);
CREATE TABLE redirects (address TEXT COLLATE "C" PRIMARY KEY, record JSONB NOT NULL);
CREATE TABLE measures (address TEXT COLLATE "C", day TEXT COLLATE "C", bytes BIGINT NOT NULL, PRIMARY KEY (address, day));
CREATE TABLE accounts (name TEXT COLLATE "C" PRIMARY KEY, file TEXT NOT NULL);
CREATE TABLE vault (name TEXT COLLATE "C" PRIMARY KEY, sealed BYTEA NOT NULL);
CREATE TABLE journals (id TEXT COLLATE "C", n INTEGER, line TEXT NOT NULL, PRIMARY KEY (id, n));`

// since are the tables that came with a format, after those of the first.
var since = map[int]string{
	2: `CREATE TABLE rounds (at TEXT COLLATE "C", who TEXT COLLATE "C", record JSONB NOT NULL, PRIMARY KEY (at, who));
CREATE TABLE told (address TEXT COLLATE "C", trouble TEXT COLLATE "C", at TEXT COLLATE "C" NOT NULL,
	PRIMARY KEY (address, trouble));
ALTER TABLE people ADD COLUMN mark BYTEA NOT NULL DEFAULT '';`,
	3: `ALTER TABLE jobs ADD COLUMN ended TEXT COLLATE "C" NOT NULL DEFAULT '';
ALTER TABLE jobs ADD COLUMN number BIGINT NOT NULL DEFAULT 0;
CREATE INDEX jobs_ended ON jobs (ended); CREATE INDEX jobs_number ON jobs (number);`,
}

// Found says whether a ledger is in the database, and in a form that this program knows.
func (t *Team) Found(ctx context.Context) (bool, error) {
	var have int
	var moved *string
	err := t.do(ctx, func(ctx context.Context) error {
		there := false
		err := t.pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM information_schema.tables WHERE table_schema = $1 AND "+
			"table_name = 'about')", t.schema).Scan(&there)
		if err != nil || !there {
			return err
		}
		return t.pool.QueryRow(ctx, "SELECT format, to_char(moved, 'YYYY-MM-DD') FROM about").Scan(&have, &moved)
	})
	switch {
	case err != nil || have == 0:
		return false, err
	case have < Format && moved == nil:
		t.older.Store(true)
	case have > Format:
		return false, fault.NewAs(fault.OtherRelease, fault.Usage, fmt.Sprintf("the ledger has format %d", have), t.address,
			"A newer release of Tivset made it; use that one.")
	case moved != nil:
		return false, fault.New(fault.Usage, "the ledger was moved away from this database on "+*moved, t.address,
			"Ask who did it where it is now; to begin another one here, name it with ?ledger=NAME.")
	}
	return true, nil
}

// make makes the tables, in a transaction: of several who do so at once, one does.
func (t *Team) make(ctx context.Context, tx *sql.Tx) error {
	if _, err := tx.ExecContext(ctx, "SELECT pg_advisory_xact_lock(hashtextextended($1, 0))",
		"tivset "+t.schema); err != nil {
		return err
	}
	var there bool
	if err := tx.QueryRowContext(ctx, "SELECT to_regclass($1) IS NOT NULL", t.schema+".about").Scan(&there); err != nil {
		return err
	}
	if there {
		return errThere
	}
	if _, err := tx.ExecContext(ctx, "CREATE SCHEMA IF NOT EXISTS "+pgx.Identifier{t.schema}.Sanitize()); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, tables); err != nil {
		return err
	}
	for n := 2; n <= Format; n++ {
		if _, err := tx.ExecContext(ctx, since[n]); err != nil {
			return err
		}
	}
	_, err := tx.ExecContext(ctx, "INSERT INTO about (format, made) VALUES ($1, $2)", Format, t.now().UTC())
	return err
}

// Older says whether the tables that were found are those of an older release, and have to be
// brought to this one's first.
func (t *Team) Older() bool { return t.older.Load() }

// Upgrade does that, with the vault of somebody who may open it. Of several programs one does;
// an older one that is at work is told to make way.
func (t *Team) Upgrade(ctx context.Context, v Opener) error {
	marks, err := v.Marks()
	if err != nil {
		return err
	}
	return t.inOne(ctx, func(ctx context.Context, tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "LOCK TABLE about IN ACCESS EXCLUSIVE MODE"); err != nil {
			return err
		}
		var have int
		if err := tx.QueryRowContext(ctx, "SELECT format FROM about").Scan(&have); err != nil {
			return err
		}
		for have < Format {
			have++
			if _, err := tx.ExecContext(ctx, since[have]); err != nil {
				return err
			}
			if have == 2 { // which has no marks yet
				if err := markAll(ctx, tx, marks); err != nil {
					return err
				}
			}
		}
		if err := t.SQL.Within(tx).FillColumns(ctx); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE about SET format = $1", have); err != nil {
			return err
		}
		t.older.Store(false)
		return nil
	})
}

func markAll(ctx context.Context, tx *sql.Tx, marks func([]byte) []byte) error {
	people, err := within(ctx, tx, person, allPeople)
	if err != nil {
		return err
	}
	for _, p := range people {
		if _, err := tx.ExecContext(ctx, "UPDATE people SET mark = $2 WHERE name = $1", p.Name,
			marks(p.Marked())); err != nil {
			return err
		}
	}
	return nil
}

// errThere means that somebody else has begun a ledger meanwhile.
var errThere = errors.New("a ledger has been begun there meanwhile")
