package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"

	"tivset/internal/hosting/database"
)

// Close ends the connection.
func (s *Session) Close() error { return s.pool.Close() }

// Run implements database.Session.
func (s *Session) Run(ctx context.Context, script io.Reader, options database.ScriptOptions) (int, error) {
	count := 0
	err := database.Ahead(script, database.MariaDB.Syntax, options, func(statement database.Statement) error {
		if _, err := s.pool.ExecContext(ctx, statement.Text); err != nil {
			return fmt.Errorf("line %d: %w", statement.Line, explain(err, s.login))
		}
		count++
		return nil
	})
	return count, err
}

// Exec implements database.Session.
func (s *Session) Exec(ctx context.Context, statement string, values map[string]string) error {
	text, args, err := database.Positional(statement, database.MariaDB.Syntax, values, database.Question)
	if err != nil {
		return err
	}
	_, err = s.pool.ExecContext(ctx, text, args...)
	return explain(err, s.login)
}

// Value implements database.Session.
func (s *Session) Value(ctx context.Context, query string, values map[string]string) (string, error) {
	text, args, err := database.Positional(query, database.MariaDB.Syntax, values, database.Question)
	if err != nil {
		return "", err
	}
	var value sql.NullString
	err = s.pool.QueryRowContext(ctx, text, args...).Scan(&value)
	if errors.Is(err, sql.ErrNoRows) {
		return "", database.ErrNoRow
	}
	return value.String, explain(err, s.login)
}

// Tables implements database.Session.
func (s *Session) Tables(ctx context.Context) ([]string, error) {
	names, err := column(ctx, s.pool, "SHOW TABLES")
	return names, explain(err, s.login)
}

// DropTables implements database.Session.
func (s *Session) DropTables(ctx context.Context, names []string) error {
	if len(names) == 0 {
		return nil
	}
	if _, err := s.pool.ExecContext(ctx, "SET foreign_key_checks = 0"); err != nil {
		return explain(err, s.login)
	}
	for _, name := range names {
		if _, err := s.pool.ExecContext(ctx, "DROP TABLE IF EXISTS "+quoteName(name)); err != nil {
			return explain(err, s.login)
		}
	}
	_, err := s.pool.ExecContext(ctx, "SET foreign_key_checks = 1")
	return explain(err, s.login)
}

// Version implements database.Session.
func (s *Session) Version(ctx context.Context) (engine, version string, err error) {
	return versionOf(ctx, s.pool, s.login)
}
