package team

import (
	"context"
	"database/sql"
	"fmt"
	"io/fs"

	"tivset/internal/records/ledger"
	"tivset/internal/records/trust"
	"tivset/internal/records/vault"
)

// Secrets is where the team's vault lies: each secret sealed for the key of the present epoch.
type Secrets struct{ *Team }

var _ vault.Store = Secrets{}

// Epochs implements vault.Store.
func (s Secrets) Epochs() ([]trust.EpochKey, error) {
	if s.memory == nil {
		return nil, errNotEntered
	}
	c, err := s.memory.chain(context.Background(), s.memory.db)
	if err != nil || c.Charter == nil {
		return nil, err
	}
	return c.Charter.Epochs, nil
}

// Sealed implements vault.Store.
func (s Secrets) Sealed(names []string) (out map[string][]byte, err error) {
	err = s.View(context.Background(), func(ctx context.Context, tx *sql.Tx, w ledger.Word) error {
		out = map[string][]byte{}
		rows, err := tx.QueryContext(ctx, "SELECT name, sealed FROM vault WHERE name = ANY($1)", names)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var name string
			var sealed []byte
			if err := rows.Scan(&name, &sealed); err != nil {
				return err
			}
			out[name] = sealed
		}
		for _, name := range names {
			if err := w.Right(trust.OfSecret, name, out[name]); err != nil {
				return err
			}
		}
		return rows.Err()
	})
	return out, err
}

// Names implements vault.Store.
func (s Secrets) Names(prefix string) (names []string, err error) {
	err = s.View(context.Background(), func(ctx context.Context, tx *sql.Tx, w ledger.Word) (err error) {
		names, err = texts(ctx, tx, "SELECT name FROM vault WHERE starts_with(name, $1) ORDER BY name", prefix)
		if err != nil {
			return err
		}
		return w.Whole(trust.OfSecret, prefix, names)
	})
	return names, err
}

// Put implements vault.Store.
func (s Secrets) Put(seal func(key string) (map[string][]byte, error)) error {
	return s.change(context.Background(), func(ctx context.Context, tx *sql.Tx, w *word) error {
		sealed, err := seal(w.chain.Charter.Epoch())
		if err != nil {
			return err
		}
		return put(ctx, tx, w, sealed)
	})
}

func put(ctx context.Context, tx *sql.Tx, w ledger.Word, sealed map[string][]byte) error {
	for name, text := range sealed {
		if _, err := tx.ExecContext(ctx, "INSERT INTO vault (name, sealed) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET "+
			"sealed = excluded.sealed", name, text); err != nil {
			return err
		}
		if err := w.Note(trust.What{Kind: trust.OfSecret, Key: name, Record: text}); err != nil {
			return err
		}
	}
	return nil
}

// Drop implements vault.Store.
func (s Secrets) Drop(names []string) error {
	return s.change(context.Background(), func(ctx context.Context, tx *sql.Tx, w *word) error {
		for _, name := range names {
			if err := drop(ctx, tx, w, trust.What{Kind: trust.OfSecret, Key: name},
				"DELETE FROM vault WHERE name = $1"); err != nil {
				return err
			}
		}
		return nil
	})
}

// drop forgets a record by its key; none there is fine.
func drop(ctx context.Context, tx *sql.Tx, w *word, what trust.What, statement string) error {
	done, err := tx.ExecContext(ctx, statement, what.Key)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return err
	}
	return w.Note(what)
}

// Accounts are the team's accounts, each as its file.
type Accounts struct{ *Team }

// Names lists the accounts, sorted.
func (a Accounts) Names() (names []string, err error) {
	err = a.View(context.Background(), func(ctx context.Context, tx *sql.Tx, w ledger.Word) (err error) {
		if names, err = texts(ctx, tx, "SELECT name FROM accounts ORDER BY name"); err != nil {
			return err
		}
		return w.Whole(trust.OfAccount, "", names)
	})
	return names, err
}

// Read gives an account's file; fs.ErrNotExist where there is none.
func (a Accounts) Read(name string) (file []byte, err error) {
	err = a.View(context.Background(), func(ctx context.Context, tx *sql.Tx, w ledger.Word) error {
		found, err := texts(ctx, tx, "SELECT file FROM accounts WHERE name = $1", name)
		if err != nil {
			return err
		}
		if file = nil; len(found) > 0 {
			file = []byte(found[0])
		}
		return w.Right(trust.OfAccount, name, file)
	})
	if err == nil && file == nil {
		err = fmt.Errorf("no account %s: %w", name, fs.ErrNotExist)
	}
	return file, err
}

// Write keeps an account's file.
func (a Accounts) Write(name string, file []byte) error {
	return a.change(context.Background(), func(ctx context.Context, tx *sql.Tx, w *word) error {
		return putAccount(ctx, tx, w, name, file)
	})
}

func putAccount(ctx context.Context, tx *sql.Tx, w ledger.Word, name string, file []byte) error {
	if file == nil {
		file = []byte{}
	}
	if _, err := tx.ExecContext(ctx, "INSERT INTO accounts (name, file) VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET "+
		"file = excluded.file", name, string(file)); err != nil {
		return err
	}
	return w.Note(trust.What{Kind: trust.OfAccount, Key: name, Record: file})
}

// Drop forgets an account; none there is fine.
func (a Accounts) Drop(name string) error {
	return a.change(context.Background(), func(ctx context.Context, tx *sql.Tx, w *word) error {
		return drop(ctx, tx, w, trust.What{Kind: trust.OfAccount, Key: name}, "DELETE FROM accounts WHERE name = $1")
	})
}
