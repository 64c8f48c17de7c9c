package step

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"

	"tivset/internal/hosting"
	"tivset/internal/hosting/courier"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
)

// DataPlace is how a step finds a site's database again, also after a crash.
type DataPlace struct {
	ledger.Database
	Secret  string        `json:"secret"`  // the vault's name of the password
	Courier courier.Place `json:"courier"` // where a courier can go
}

// DataOf is the database of a site, as its record has it.
func DataOf(s *site.Site, address string) DataPlace {
	return DataPlace{*s.Recorded(), site.VaultName(address, site.DataPassword), s.CourierPlace()}
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
	return t.In.SignIn(ctx, server, login, d.Courier)
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

	Place courier.Place `json:"place"` // where a courier can go, for a database seen only from inside
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

// KeepData keeps what is in the site's database, on this machine, before it
// changes; and puts it back.
type KeepData struct {
	*Tools `json:"-"`
	Data   DataPlace   `json:"data"`
	File   string      `json:"file"`           // on this machine
	Raw    string      `json:"raw,omitempty"`  // the database is this file of the account, kept as it is
	Mode   fs.FileMode `json:"mode,omitempty"` // its mode
}

// KeptData keeps the database of the job's site.
func KeptData(t *Tools, data DataPlace) *KeepData {
	return &KeepData{Tools: t, Data: data, File: t.keptData()}
}

// Kind and Title implement job.Step.
func (*KeepData) Kind() string  { return "keep-data" }
func (*KeepData) Title() string { return "Keep the database as it is" }

// Prepare finds out whether the database is a file that can be kept as it is:
// one that nobody has open in the middle of a change.
func (k *KeepData) Prepare(ctx context.Context) error {
	server := k.In.Database(k.Data.Server, k.Data.Engine)
	if server == nil || !server.InFiles() {
		return nil
	}
	name := database.File(server.Server, k.Data.Name)
	for _, beside := range []string{"-wal", "-journal"} {
		if info, err := k.In.Files.Stat(ctx, name+beside); err == nil && info.Size > 0 {
			return nil
		}
	}
	info, err := k.In.Files.Stat(ctx, name)
	if err == nil {
		k.Raw, k.Mode = name, info.Mode.Perm()
	}
	return nil
}

// Do writes what is kept, whole or not at all.
func (k *KeepData) Do(ctx context.Context) error {
	if err := os.MkdirAll(filepath.Dir(k.File), 0o700); err != nil {
		return err
	}
	file, err := os.OpenFile(k.File+".part", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	packed, err := zstd.NewWriter(file, zstd.WithEncoderLevel(zstd.SpeedFastest))
	if err == nil {
		err = k.write(ctx, packed)
		err = errors.Join(err, packed.Close(), file.Sync())
	}
	if err := errors.Join(err, file.Close()); err != nil {
		return err
	}
	return os.Rename(k.File+".part", k.File)
}

// write writes what is to be kept.
func (k *KeepData) write(ctx context.Context, to io.Writer) error {
	if k.Raw == "" {
		return k.Data.use(ctx, k.Tools, func(s database.Session) error {
			return s.Dump(ctx, to, site.OwnTables(&k.Data.Database))
		})
	}
	from, err := k.In.Files.Open(ctx, k.Raw)
	if err != nil {
		return err
	}
	_, err = io.Copy(to, from)
	return errors.Join(err, from.Close())
}

// putBack loads what was kept.
func (k *KeepData) putBack(ctx context.Context, from io.Reader) error {
	if k.Raw == "" {
		return k.Data.use(ctx, k.Tools, func(s database.Session) error {
			return reload(ctx, s, &k.Data.Database, from, database.ScriptOptions{})
		})
	}
	if err := files.Drop(ctx, k.In.Files, k.Raw); err != nil {
		return err
	}
	to, err := k.In.Files.Create(ctx, k.Raw, k.Mode)
	if err != nil {
		return err
	}
	_, err = io.Copy(to, from)
	return errors.Join(err, to.Close())
}

// Undo loads what was kept, whatever has become of the database since. Where it
// was not kept yet, nothing has changed.
func (k *KeepData) Undo(ctx context.Context) error {
	if err := os.Remove(k.File + ".part"); err != nil && !os.IsNotExist(err) {
		return err
	}
	file, err := os.Open(k.File)
	if os.IsNotExist(err) {
		return nil
	}
	if err != nil {
		return err
	}
	defer file.Close()
	plain, err := zstd.NewReader(bufio.NewReader(file))
	if err != nil {
		return err
	}
	defer plain.Close()
	if err := k.putBack(ctx, plain); err != nil {
		return fmt.Errorf("put the database back from %s: %w", k.File, err)
	}
	return os.Remove(k.File)
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
	Label  string `json:"label"`

	Data    DataPlace                                    `json:"-"`
	Options database.ScriptOptions                       `json:"-"`
	Script  func(context.Context) (io.ReadCloser, error) `json:"-"`
}

// Kind and Title implement job.Step.
func (*LoadData) Kind() string    { return "load-data" }
func (l *LoadData) Title() string { return l.Label }

// Undo has nothing to do.
func (*LoadData) Undo(context.Context) error { return nil }

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
