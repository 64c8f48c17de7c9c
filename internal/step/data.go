package step

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"

	"tivset/internal/hosting"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/helperpage"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
)

// DataPlace is how a step finds a site's database again, also after a crash.
type DataPlace struct {
	ledger.Database
	Secret     string           `json:"secret"` // the vault's name of the password
	HelperPage helperpage.Place `json:"helper"` // where a helper page can go
}

// DataOf is the database of a site, as its record has it.
func DataOf(s *site.Site, address string) DataPlace {
	return DataPlace{*s.Recorded(), site.VaultName(address, site.DataPassword), s.HelperPagePlace()}
}

// open signs in as the site does.
func (d DataPlace) open(ctx context.Context, t *Tools) (database.Session, error) {
	server := t.In.Database(d.Server, d.Engine)
	if server == nil {
		return nil, hosting.NoServer(d.Server, d.Name)
	}
	password, err := t.Book.Vault.Get(d.Secret)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	login := database.Login{Server: server.Server, User: d.User, Password: password, Database: d.Name}
	return t.In.SignIn(ctx, server, login, d.HelperPage)
}

func (d DataPlace) use(ctx context.Context, t *Tools, do func(database.Session) error) error {
	session, err := d.open(ctx, t)
	if err != nil {
		return err
	}
	err = do(session)
	if closed := session.Close(); err == nil {
		err = closed
	}
	return err
}

// MakeDatabase makes the site's database.
type MakeDatabase struct {
	*Tools `json:"-"`
	Server string `json:"server"`
	Name   string `json:"name"`
	Taken  bool   `json:"taken,omitempty"` // it was there already: not ours to drop
}

// Kind and Title implement job.Step.
func (*MakeDatabase) Kind() string    { return "make-database" }
func (m *MakeDatabase) Title() string { return "Create the database " + m.Name }

// Do makes it; a name that is taken is an error.
func (m *MakeDatabase) Do(ctx context.Context) error {
	return m.In.WithServer(ctx, m.Server, func(s database.Server) error {
		err := s.CreateDatabase(ctx, m.Name)
		m.Taken = errors.Is(err, database.ErrTaken)
		return err
	})
}

// Undo drops it, unless it was somebody else's.
func (m *MakeDatabase) Undo(ctx context.Context) error {
	if m.Taken {
		return nil
	}
	return m.In.WithServer(ctx, m.Server, func(s database.Server) error { return s.DropDatabase(ctx, m.Name) })
}

// MakeUser makes the site's database user and signs in as it.
type MakeUser struct {
	*Tools   `json:"-"`
	Server   string   `json:"server"`
	Name     string   `json:"name"`
	Clients  []string `json:"clients"`
	Database string   `json:"database"`
	Taken    bool     `json:"taken,omitempty"`
}

// Kind and Title implement job.Step.
func (*MakeUser) Kind() string    { return "make-user" }
func (m *MakeUser) Title() string { return "Create the database user " + m.Name }

func (m *MakeUser) user() database.User {
	return database.User{Name: m.Name, Clients: m.Clients, Database: m.Database}
}

// Do makes the user with every right on the one database.
func (m *MakeUser) Do(ctx context.Context) error {
	u := m.user()
	u.Password = m.Site.Secrets[site.DataPassword]
	err := m.In.WithServer(ctx, m.Server, func(s database.Server) error {
		users, err := s.Users(ctx)
		if err != nil {
			return err
		}
		if m.Taken = slices.Contains(users, m.Name); m.Taken {
			return database.ErrTaken
		}
		return s.CreateUser(ctx, u)
	})
	if err != nil {
		return err
	}
	data, err := m.Site.OpenData(ctx, m.In)
	if err != nil {
		return fmt.Errorf("sign in as the new user: %w", err)
	}
	return data.Close()
}

// Undo takes the user away, unless it was somebody else's.
func (m *MakeUser) Undo(ctx context.Context) error {
	if m.Taken {
		return nil
	}
	return m.In.WithServer(ctx, m.Server, func(s database.Server) error { return s.DropUser(ctx, m.user()) })
}

// UseDatabase takes a database that somebody else made. What the set-up puts
// into it goes again on undo; what was there before stays.
type UseDatabase struct {
	*Tools `json:"-"`
	Server string   `json:"server"`
	Engine string   `json:"engine"`
	Name   string   `json:"name"`
	User   string   `json:"user"`
	Tables string   `json:"tables"`
	Secret string   `json:"secret"` // the vault's name of the password
	Before []string `json:"before"` // the tables that were there

	Place helperpage.Place `json:"place"` // where a helper page can go, for a database seen only from inside
}

// Kind and Title implement job.Step.
func (*UseDatabase) Kind() string    { return "use-database" }
func (u *UseDatabase) Title() string { return "Sign in to the database " + u.Name }

// Prepare lists what is there, and looks again that nothing would meet.
func (u *UseDatabase) Prepare(ctx context.Context) error {
	data, err := u.Site.OpenData(ctx, u.In)
	if err != nil {
		return err
	}
	defer data.Close()
	if u.Before, err = data.Tables(ctx); err != nil {
		return err
	}
	return site.Meets(u.Site.Kit.Kit, u.Site.Data, u.Before)
}

// Do has nothing to do: what was prepared is in the journal.
func (*UseDatabase) Do(context.Context) error { return nil }

// Undo drops the tables of the site's that came on top.
func (u *UseDatabase) Undo(ctx context.Context) error {
	if _, err := u.Book.Vault.Get(u.Secret); errors.Is(err, fs.ErrNotExist) {
		return nil // its secrets went in an undo before, and the tables before them
	}
	at := DataPlace{ledger.Database{Server: u.Server, Engine: u.Engine, Name: u.Name, User: u.User}, u.Secret, u.Place}
	return at.use(ctx, u.Tools, func(data database.Session) error {
		now, err := data.Tables(ctx)
		if err != nil {
			return err
		}
		var ours []string
		for _, t := range now {
			if !slices.Contains(u.Before, t) && strings.HasPrefix(strings.ToLower(t), strings.ToLower(u.Tables)) {
				ours = append(ours, t)
			}
		}
		return data.DropTables(ctx, ours)
	})
}

// reload empties a site's database and runs a script in it.
func reload(ctx context.Context, s database.Session, d *ledger.Database, script io.Reader,
	options database.ScriptOptions) error {
	if err := s.Empty(ctx, site.OwnTables(d)); err != nil {
		return err
	}
	_, err := s.Run(ctx, script, options)
	return err
}

// LoadData replaces what is in the site's database. What was there is for the
// step before it to put back.
type LoadData struct {
	*Tools `json:"-"`
	lasting
	Label string `json:"label"`

	Data    DataPlace                                    `json:"-"`
	Options database.ScriptOptions                       `json:"-"`
	Script  func(context.Context) (io.ReadCloser, error) `json:"-"`
}

// Kind and Title implement job.Step.
func (*LoadData) Kind() string    { return "load-data" }
func (l *LoadData) Title() string { return l.Label }

// Changes implements job.Mutator.
func (*LoadData) Changes() bool { return true }

// Do empties the database and runs the script.
func (l *LoadData) Do(ctx context.Context) error {
	script, err := l.Script(ctx)
	if err != nil {
		return err
	}
	defer script.Close()
	return l.Data.use(ctx, l.Tools, func(s database.Session) error {
		return reload(ctx, s, &l.Data.Database, script, l.Options)
	})
}

// Anew loads a script once more into what was loaded, in the place of some tables,
// nil for all.
func (l *LoadData) Anew(ctx context.Context, script io.Reader, only func(string) bool) error {
	return l.Data.use(ctx, l.Tools, func(s database.Session) error {
		if err := s.Empty(ctx, only); err != nil {
			return err
		}
		_, err := s.Run(ctx, script, l.Options)
		return err
	})
}
