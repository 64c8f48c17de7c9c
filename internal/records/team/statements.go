package team

import (
	"context"
	"database/sql"

	"github.com/jackc/pgx/v5"
)

// exec changes something with one statement.
func (t *Team) exec(ctx context.Context, statement string, args ...any) error {
	return t.do(ctx, func(ctx context.Context) error {
		_, err := t.pool.Exec(ctx, statement, args...)
		return err
	})
}

// inOne does something in one transaction, and again where the connection was lost.
func (t *Team) inOne(ctx context.Context, do func(context.Context, *sql.Tx) error) error {
	return t.do(ctx, func(ctx context.Context) error {
		tx, err := t.db.BeginTx(ctx, nil)
		if err != nil {
			return err
		}
		defer func() { _ = tx.Rollback() }()
		if err := do(ctx, tx); err != nil {
			return err
		}
		return tx.Commit()
	})
}

// list reads rows.
func list[T any](ctx context.Context, t *Team, row pgx.RowToFunc[T], query string, args ...any) (out []T, err error) {
	err = t.do(ctx, func(ctx context.Context) error {
		rows, err := t.pool.Query(ctx, query, args...)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, row)
		return err
	})
	return out, err
}

// texts reads rows of one text within a transaction.
func texts(ctx context.Context, tx *sql.Tx, query string, args ...any) (out []string, err error) {
	rows, err := tx.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var one string
		if err := rows.Scan(&one); err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, rows.Err()
}
