package site

import (
	"context"
	"strings"

	"tivset/internal/hosting"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/helperpage"
	"tivset/internal/question"
	"tivset/internal/records/ledger"
)

// Login is how the site signs in to its database.
func (s *Site) Login() database.Login {
	return database.Login{Server: s.Server.Server, User: s.Data.User, Password: s.Secrets[DataPassword],
		Database: s.Data.Name}
}

// HelperPagePlace is where a helper page for the site can go.
func (s *Site) HelperPagePlace() helperpage.Place {
	return helperpage.Place{Root: s.At.Domain.Folder, URL: s.At.Domain.URL, Store: s.In.Store}
}

// OpenData signs in to the site's database as the site does.
func (s *Site) OpenData(ctx context.Context, in *hosting.Account) (database.Session, error) {
	return in.SignIn(ctx, s.Server, s.Login(), s.HelperPagePlace())
}

// WithData signs in to the site's database for one use.
func (s *Site) WithData(ctx context.Context, in *hosting.Account, use func(database.Session) error) error {
	data, err := s.OpenData(ctx, in)
	if err != nil {
		return err
	}
	err = use(data)
	if closed := data.Close(); err == nil {
		err = closed
	}
	return err
}

// Recorded is the site's database as the ledger has it; nil without one.
func (s *Site) Recorded() *ledger.Database {
	d := s.Data
	if d == nil {
		return nil
	}
	return &ledger.Database{Engine: d.Engine, Server: d.Server, Name: d.Name, User: d.User, Tables: d.Tables, From: d.From}
}

// OwnTables says of a table whether it is a site's; nil when the whole database
// is.
func OwnTables(d *ledger.Database) func(table string) bool {
	if d.From == question.DataNew || d.Tables == "" {
		return nil
	}
	return func(table string) bool {
		return strings.HasPrefix(strings.ToLower(table), strings.ToLower(d.Tables))
	}
}

// bareTable is a table's name without the site's prefix.
func bareTable(d *ledger.Database, table string) string {
	if len(table) > len(d.Tables) && strings.EqualFold(table[:len(d.Tables)], d.Tables) {
		return table[len(d.Tables):]
	}
	return table
}
