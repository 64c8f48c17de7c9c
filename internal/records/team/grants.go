package team

import (
	"context"
	"strings"

	"github.com/jackc/pgx/v5"

	"tivset/internal/records/trust"
)

// rights are what PostgreSQL itself lets somebody do with which tables, by what they may do (PostgreSQL manual, GRANT).
// The log is only added to; who may only look reads nothing that is secret.
var rights = []struct {
	least  trust.Role
	rights string
	tables []string
}{
	{trust.Look, "SELECT", []string{"about", "log", "sites", "jobs", "redirects", "measures", "accounts", "rounds", "told",
		"river_job", "river_migration", "workers"}},
	{trust.Request, "INSERT", []string{"log"}},
	{trust.Request, "SELECT, INSERT, UPDATE", []string{"river_job", "order_files"}},
	{trust.Request, "SELECT", []string{"river_queue", "journals"}},
	{trust.Operate, "SELECT, INSERT, UPDATE, DELETE", []string{"sites", "jobs", "redirects", "measures", "accounts",
		"vault", "journals", "rounds", "told", "river_job", "river_leader", "river_queue", "river_client",
		"river_client_queue", "river_notification", "workers", "order_files"}},
	{trust.Operate, "UPDATE", []string{"about"}},
	{trust.Admin, "DELETE", []string{"log"}},
}

// Grants gives the statements with which the owner of the database makes a role for a member, with the rights that fit
// what they may do. The password is for the reader to put in.
func (t *Team) Grants(ctx context.Context, role string, may trust.Role) (string, error) {
	there, err := list(ctx, t, pgx.RowTo[string], "SELECT table_name FROM information_schema.tables WHERE "+
		"table_schema = $1", t.schema)
	if err != nil {
		return "", err
	}
	name, schema := pgx.Identifier{role}.Sanitize(), pgx.Identifier{t.schema}.Sanitize()
	out := []string{"CREATE ROLE " + name + " LOGIN PASSWORD 'PASSWORD';", "GRANT USAGE ON SCHEMA " + schema + " TO " +
		name + ";"}
	for _, r := range rights {
		if !may.May(r.least) {
			continue
		}
		var on []string
		for _, table := range r.tables {
			for _, one := range there {
				if one == table {
					on = append(on, schema+"."+pgx.Identifier{table}.Sanitize())
				}
			}
		}
		if len(on) > 0 {
			out = append(out, "GRANT "+r.rights+" ON "+strings.Join(on, ", ")+" TO "+name+";")
		}
	}
	if may.May(trust.Request) {
		out = append(out, "GRANT USAGE ON ALL SEQUENCES IN SCHEMA "+schema+" TO "+name+";")
	}
	if may.May(trust.Operate) { // a machine ends the connection of one that is gone
		out = append(out, "GRANT pg_signal_backend TO "+name+";")
	}
	return strings.Join(out, "\n") + "\n", nil
}
