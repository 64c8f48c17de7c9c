package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"tivset/internal/fault"
)

// errRecord is a record that is not JSON of its kind.
var errRecord = errors.New("a record of the ledger is damaged")

// told says of an error what to do where it means that the file is damaged
// (SQLite, Result and Error Codes: SQLITE_CORRUPT, SQLITE_NOTADB).
func told(err error) error {
	var e *sqlite.Error
	of := errors.As(err, &e) && (e.Code()&0xff == sqlite3.SQLITE_CORRUPT || e.Code()&0xff == sqlite3.SQLITE_NOTADB)
	if !of && !errors.Is(err, errRecord) {
		return err
	}
	return fault.NewAs(fault.LedgerDamaged, fault.Usage, "the ledger is damaged", "",
		"Have it made again from what the accounts and their backups say: "+fault.Call("sites", "--rebuild")+
			". Nothing was touched.").Wrap(err)
}

// Saved is what could be read of a damaged ledger.
type Saved struct {
	Sites     []Site
	Jobs      []Job
	Redirects []Redirect
}

// Aside looks at the ledger in a file. A damaged one is set aside, by another name
// beside it, with what could be read of it; "" where it is whole or not there.
func Aside(ctx context.Context, file string, now time.Time) (aside string, saved Saved, err error) {
	if _, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) {
		return "", saved, nil
	}
	db, err := sql.Open("sqlite", address(file)+"?mode=ro&_pragma=busy_timeout(10000)")
	if err != nil {
		return "", saved, err
	}
	defer db.Close()
	whole := quickly(ctx, db)
	saved = Saved{some[Site](ctx, db, "sites", &whole), some[Job](ctx, db, "jobs", &whole),
		some[Redirect](ctx, db, "redirects", &whole)}
	if whole || ctx.Err() != nil {
		return "", Saved{}, ctx.Err()
	}
	aside = fmt.Sprintf("%s.damaged-%s", file, now.UTC().Format("20060102-150405"))
	for _, ending := range []string{"", "-journal", "-wal", "-shm"} {
		if err := os.Rename(file+ending, aside+ending); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", saved, err
		}
	}
	return aside, saved, nil
}

// quickly has SQLite look through its file.
func quickly(ctx context.Context, db *sql.DB) bool {
	var said string
	var have int
	err := db.QueryRowContext(ctx, "PRAGMA quick_check(1)").Scan(&said)
	return err == nil && said == "ok" && db.QueryRowContext(ctx, "PRAGMA user_version").Scan(&have) == nil
}

// some reads the records of a table that can be read.
func some[T any](ctx context.Context, db *sql.DB, table string, whole *bool) (out []T) {
	var there int
	err := db.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_schema WHERE name = ?", table).Scan(&there)
	if err != nil || there == 0 {
		*whole = *whole && err == nil
		return nil
	}
	rows, err := db.QueryContext(ctx, "SELECT record FROM "+table)
	if err != nil {
		*whole = false
		return nil
	}
	defer rows.Close()
	for rows.Next() {
		var text string
		var record T
		if err := rows.Scan(&text); err != nil || json.Unmarshal([]byte(text), &record) != nil {
			*whole = false
			continue
		}
		out = append(out, record)
	}
	*whole = *whole && rows.Err() == nil
	return out
}
