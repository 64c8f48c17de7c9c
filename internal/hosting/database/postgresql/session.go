package postgresql

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"tivset/internal/hosting/database"
)

// Run implements database.Session. Rows after COPY … FROM stdin are streamed.
func (s *Session) Run(ctx context.Context, script io.Reader, options database.ScriptOptions) (int, error) {
	count := 0
	err := database.Statements(script, database.PostgreSQL.Syntax, options, func(statement database.Statement) error {
		err := s.use(ctx, replyTime, func(ctx context.Context, c *pgx.Conn) error {
			if statement.Data != nil {
				_, err := c.PgConn().CopyFrom(ctx, statement.Data, statement.Text)
				return err
			}
			_, err := c.PgConn().Exec(ctx, statement.Text).ReadAll()
			return err
		})
		if err != nil {
			return fmt.Errorf("line %d: %w", statement.Line, err)
		}
		count++
		return nil
	})
	return count, err
}

func positional(statement string, values map[string]string) (string, []any, error) {
	return database.Positional(statement, database.PostgreSQL.Syntax, values, func(n int) string {
		return "$" + strconv.Itoa(n)
	})
}

// Exec implements database.Session.
func (s *Session) Exec(ctx context.Context, statement string, values map[string]string) error {
	text, args, err := positional(statement, values)
	if err != nil {
		return err
	}
	return s.exec(ctx, replyTime, text, args...)
}

// Value implements database.Session.
func (s *Session) Value(ctx context.Context, query string, values map[string]string) (string, error) {
	text, args, err := positional(query, values)
	if err != nil {
		return "", err
	}
	return s.one(ctx, text, args...)
}

// Tables implements database.Session: those that names without a schema mean.
func (s *Session) Tables(ctx context.Context) ([]string, error) {
	return s.column(ctx, adminTime, `SELECT c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r', 'p', 'v', 'm') AND n.nspname = current_schema() ORDER BY c.relname COLLATE "C"`)
}

// DropTables implements database.Session.
func (s *Session) DropTables(ctx context.Context, names []string) error {
	for _, name := range names {
		kind, err := s.one(ctx,
			"SELECT relkind FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = current_schema() "+
				"AND c.relname = $1", name)
		if err == database.ErrNoRow {
			continue
		}
		if err != nil {
			return err
		}
		what := map[string]string{"v": "VIEW", "m": "MATERIALIZED VIEW"}[kind]
		if what == "" {
			what = "TABLE"
		}
		if err := s.exec(ctx, replyTime, "DROP "+what+" IF EXISTS "+quote(name)+" CASCADE"); err != nil {
			return err
		}
	}
	return nil
}

// Lacking implements database.Session: what the user may do in the schema that
// names without one mean.
func (s *Session) Lacking(ctx context.Context) ([]string, error) {
	has, err := s.one(ctx,
		"SELECT concat(coalesce(has_schema_privilege(current_schema(), 'CREATE'), false), ' ', "+
			"coalesce(has_schema_privilege(current_schema(), 'USAGE'), false))")
	if err != nil {
		return nil, err
	}
	var out []string
	for i, right := range strings.Fields(has) {
		if right != "t" {
			out = append(out, []string{"CREATE on its schema", "USAGE of its schema"}[i])
		}
	}
	return out, nil
}
