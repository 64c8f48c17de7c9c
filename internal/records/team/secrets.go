package team

import (
	"context"
	"crypto/hmac"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"

	"github.com/jackc/pgx/v5"

	"tivset/internal/records/vault"
)

// Secrets is where the team's vault lies: each secret sealed for the keys of all who may
// open it.
type Secrets struct {
	*Team
	opener *Opener // the vault of which they are the store
}

var _ vault.Store = Secrets{}

// Sealed implements vault.Store.
func (s Secrets) Sealed(names []string) (map[string][]byte, error) {
	type row struct {
		Name   string
		Sealed []byte
	}
	rows, err := list(context.Background(), s.Team, pgx.RowToStructByPos[row],
		"SELECT name, sealed FROM vault WHERE name = ANY($1)", names)
	out := map[string][]byte{}
	for _, r := range rows {
		out[r.Name] = r.Sealed
	}
	return out, err
}

// Names implements vault.Store.
func (s Secrets) Names(prefix string) ([]string, error) {
	return list(context.Background(), s.Team, pgx.RowTo[string],
		"SELECT name FROM vault WHERE starts_with(name, $1) ORDER BY name", prefix)
}

// Put implements vault.Store. Nobody joins or leaves meanwhile: what is sealed is sealed for
// those who are there.
func (s Secrets) Put(seal func(keys []string) (map[string][]byte, error)) error {
	marks, err := (*s.opener).Marks()
	if err != nil {
		return err
	}
	return s.inOne(context.Background(), func(ctx context.Context, tx *sql.Tx) error {
		keys, err := openers(ctx, tx, "SHARE", marks)
		if err != nil {
			return err
		}
		sealed, err := seal(keys)
		if err != nil {
			return err
		}
		return put(ctx, tx, sealed)
	})
}

// openers are the keys of those who may open the vault and were put there by one who may, with
// the list of people locked.
func openers(ctx context.Context, tx *sql.Tx, lock string, marks func([]byte) []byte) (keys []string, err error) {
	if _, err := tx.ExecContext(ctx, "LOCK TABLE people IN "+lock+" MODE"); err != nil {
		return nil, err
	}
	people, err := within(ctx, tx, person, allPeople)
	for _, p := range people {
		if p.May == MayAll && hmac.Equal(p.Mark, marks(p.Marked())) {
			keys = append(keys, p.Key)
		}
	}
	if err == nil && len(keys) == 0 {
		err = ErrLast
	}
	return keys, err
}

func put(ctx context.Context, tx *sql.Tx, sealed map[string][]byte) error {
	for name, text := range sealed {
		if _, err := tx.ExecContext(ctx, "INSERT INTO vault (name, sealed) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET "+
			"sealed = excluded.sealed", name, text); err != nil {
			return err
		}
	}
	return nil
}

// Drop implements vault.Store.
func (s Secrets) Drop(names []string) error {
	return s.exec(context.Background(), "DELETE FROM vault WHERE name = ANY($1)", names)
}

// Accounts are the team's accounts, each as its file.
type Accounts struct{ *Team }

// Names lists the accounts, sorted.
func (a Accounts) Names() ([]string, error) {
	return list(context.Background(), a.Team, pgx.RowTo[string], "SELECT name FROM accounts ORDER BY name")
}

// Read gives an account's file; fs.ErrNotExist where there is none.
func (a Accounts) Read(name string) ([]byte, error) {
	found, err := list(context.Background(), a.Team, pgx.RowTo[string], "SELECT file FROM accounts WHERE name = $1", name)
	if err == nil && len(found) == 0 {
		err = fmt.Errorf("no account %s: %w", name, fs.ErrNotExist)
	}
	if err != nil {
		return nil, err
	}
	return []byte(found[0]), nil
}

const putAccount = "INSERT INTO accounts (name, file) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET " +
	"file = excluded.file"

// Write keeps an account's file.
func (a Accounts) Write(name string, file []byte) error {
	return a.exec(context.Background(), putAccount, name, string(file))
}

// Drop forgets an account; none there is fine.
func (a Accounts) Drop(name string) error {
	return a.exec(context.Background(), "DELETE FROM accounts WHERE name = $1", name)
}

// People lists who works with the database, by name.
func (t *Team) People(ctx context.Context) ([]Person, error) {
	return list(ctx, t, pgx.RowToStructByPos[Person], allPeople)
}

const allPeople = "SELECT name, key, may, added, by, mark FROM people ORDER BY name"

// ErrNobody and the like say what cannot be done with people.
var (
	ErrNobody = errors.New("nobody of the team is called so")
	ErrLast   = errors.New("nobody else could open the vault any more")
	ErrKnown  = errors.New("somebody of the team has this name or this key already")
)

// Join adds somebody, and seals every secret for them too, with the vault of somebody who may.
func (t *Team) Join(ctx context.Context, p Person, v Opener) error {
	return t.people(ctx, v, p.May == MayAll, func(ctx context.Context, tx *sql.Tx, marks func([]byte) []byte) error {
		done, err := tx.ExecContext(ctx,
			"INSERT INTO people (name, key, may, added, by, mark) VALUES ($1, $2, $3, $4, $5, $6) "+
				"ON CONFLICT DO NOTHING", p.Name, p.Key, p.May, t.now().UTC(), p.By, marks(p.Marked()))
		if err == nil && none(done) {
			return ErrKnown
		}
		return err
	})
}

// none says whether a statement changed nothing.
func none(done sql.Result) bool {
	n, err := done.RowsAffected()
	return err == nil && n == 0
}

// Leave takes somebody out, and seals every secret anew without them.
func (t *Team) Leave(ctx context.Context, name string, v Opener) error {
	return t.people(ctx, v, true, func(ctx context.Context, tx *sql.Tx, _ func([]byte) []byte) error {
		done, err := tx.ExecContext(ctx, "DELETE FROM people WHERE name = $1", name)
		if err == nil && none(done) {
			return ErrNobody
		}
		return err
	})
}

// people changes who is there, and seals all secrets anew where that changes who may open
// them.
func (t *Team) people(ctx context.Context, v Opener, anew bool, change func(ctx context.Context, tx *sql.Tx,
	marks func([]byte) []byte) error) error {
	marks, err := v.Marks()
	if err != nil {
		return err
	}
	return t.inOne(ctx, func(ctx context.Context, tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "LOCK TABLE people IN ACCESS EXCLUSIVE MODE"); err != nil {
			return err
		}
		if err := change(ctx, tx, marks); err != nil {
			return err
		}
		keys, err := openers(ctx, tx, "ACCESS EXCLUSIVE", marks)
		if err != nil || !anew {
			return err
		}
		return resealAll(ctx, tx, keys, v.Reseal)
	})
}

func resealAll(ctx context.Context, tx *sql.Tx, keys []string, reseal vault.Reseal) error {
	names, err := within(ctx, tx, func(rows *sql.Rows) (name string, err error) {
		return name, rows.Scan(&name)
	}, "SELECT name FROM vault ORDER BY name")
	if err != nil {
		return err
	}
	for _, name := range names {
		var sealed []byte
		if err := tx.QueryRowContext(ctx, "SELECT sealed FROM vault WHERE name = $1", name).Scan(&sealed); err != nil {
			return err
		}
		anew, err := reseal(sealed, keys)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		if _, err := tx.ExecContext(ctx, "UPDATE vault SET sealed = $2 WHERE name = $1", name, anew); err != nil {
			return err
		}
	}
	return nil
}
