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
const Format = 4

// first is the first format whose records are signed.
const first = 4

// What a record says is kept as the text of which the log has the digest. Addresses and times are compared byte by
// byte, as on every machine. Kind, key, subject and member of an entry stand beside it for looking it up.
const tables = `
CREATE TABLE about (format INTEGER NOT NULL, made TIMESTAMPTZ NOT NULL, moved TIMESTAMPTZ);
CREATE TABLE log (n BIGINT PRIMARY KEY, entry TEXT NOT NULL, signature BYTEA NOT NULL, kind TEXT NOT NULL,
	key TEXT COLLATE "C" NOT NULL, about TEXT COLLATE "C" NOT NULL, member TEXT NOT NULL);
CREATE INDEX log_key ON log (key, n); CREATE INDEX log_about ON log (about, n) WHERE about <> '';
CREATE INDEX log_member ON log (member, n);
CREATE TABLE sites (address TEXT COLLATE "C" PRIMARY KEY, account TEXT NOT NULL, record TEXT NOT NULL);
CREATE TABLE jobs (id TEXT COLLATE "C" PRIMARY KEY, started TEXT COLLATE "C" NOT NULL, record TEXT NOT NULL,
	ended TEXT COLLATE "C" NOT NULL, number BIGINT NOT NULL);
CREATE INDEX jobs_started ON jobs (started); CREATE INDEX jobs_ended ON jobs (ended);
CREATE INDEX jobs_number ON jobs (number);
CREATE TABLE redirects (address TEXT COLLATE "C" PRIMARY KEY, record TEXT NOT NULL);
CREATE TABLE measures (address TEXT COLLATE "C", day TEXT COLLATE "C", bytes BIGINT NOT NULL, PRIMARY KEY (address,
	day));
CREATE TABLE accounts (name TEXT COLLATE "C" PRIMARY KEY, file TEXT NOT NULL);
CREATE TABLE vault (name TEXT COLLATE "C" PRIMARY KEY, sealed BYTEA NOT NULL);
CREATE TABLE journals (id TEXT COLLATE "C", n INTEGER, line TEXT NOT NULL, member TEXT NOT NULL,
	signature BYTEA NOT NULL,
	PRIMARY KEY (id, n));
CREATE TABLE rounds (at TEXT COLLATE "C", who TEXT COLLATE "C", record JSONB NOT NULL, PRIMARY KEY (at, who));
CREATE TABLE told (address TEXT COLLATE "C", trouble TEXT COLLATE "C", at TEXT COLLATE "C" NOT NULL,
	PRIMARY KEY (address, trouble));`

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
	case have < first && moved == nil:
		return false, fault.NewAs(fault.OtherRelease, fault.Usage, fmt.Sprintf("the ledger has format %d, whose records "+
			"nobody "+
			"signed", have), t.address, "With the release that made it, bring it to one machine: "+
			fault.Call("ledger", "use", "here")+"; then bring it back with this one.")
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
	_, err := tx.ExecContext(ctx, "INSERT INTO about (format, made) VALUES ($1, $2)", Format, t.now().UTC())
	return err
}

// errThere means that somebody else has begun a ledger meanwhile.
var errThere = errors.New("a ledger has been begun there meanwhile")
