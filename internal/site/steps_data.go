package site

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/klauspost/compress/zstd"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/courier"
	"tivset/internal/hosting/database"
	"tivset/internal/records/ledger"
)

// dataPlace is how a step finds a site's database again, also after a crash.
type dataPlace struct {
	ledger.Database
	Secret  string        `json:"secret"`  // the vault's name of the password
	Courier courier.Place `json:"courier"` // where a courier can go
}

// dataOf is the database of a site in this job.
func (e *env) dataOf(d *ledger.Database, address string) dataPlace {
	domain := e.plan.place.Domain
	return dataPlace{*d, vaultName(address, dataPassword), courier.Place{Root: domain.Folder, URL: domain.URL, Store: e.account.Store}}
}

// open signs in as the site does.
func (d dataPlace) open(ctx context.Context, e *env) (database.Session, error) {
	server := e.account.Database(d.Server, d.Engine)
	if server == nil {
		return nil, fault.New(fault.Failed, "the account has no database server "+d.Server+" any more", d.Name, "Add it to the account again.")
	}
	password, err := e.Vault.Get(d.Secret)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	return e.signIn(ctx, server, database.Login{Server: server.Server, User: d.User, Password: password, Database: d.Name}, d.Courier)
}

func (d dataPlace) use(ctx context.Context, e *env, do func(database.Session) error) error {
	session, err := d.open(ctx, e)
	if err != nil {
		return err
	}
	err = do(session)
	if closed := session.Close(); err == nil {
		err = closed
	}
	return err
}

// keepData keeps what is in the site's database, on this machine, before it
// changes; and puts it back.
type keepData struct {
	*env `json:"-"`
	Data dataPlace   `json:"data"`
	File string      `json:"file"`           // on this machine
	Raw  string      `json:"raw,omitempty"`  // the database is this file of the account, kept as it is
	Mode fs.FileMode `json:"mode,omitempty"` // its mode
}

func (*keepData) Kind() string  { return "keep-data" }
func (*keepData) Title() string { return "Keep the database as it is" }

// keptData names the file of a job.
func (s *Service) keptData(job string) string {
	return filepath.Join(s.Home.State, "kept", job+".sql.zst")
}

// Prepare finds out whether the database is a file that can be kept as it is:
// one that nobody has open in the middle of a change.
func (k *keepData) Prepare(ctx context.Context) error {
	server := k.account.Database(k.Data.Server, k.Data.Engine)
	if k.Data.Engine != account.SQLite || server == nil {
		return nil
	}
	name := database.File(server.Server, k.Data.Name)
	for _, beside := range []string{"-wal", "-journal"} {
		if info, err := k.files.Stat(ctx, name+beside); err == nil && info.Size > 0 {
			return nil
		}
	}
	info, err := k.files.Stat(ctx, name)
	if err == nil {
		k.Raw, k.Mode = name, info.Mode.Perm()
	}
	return nil
}

func (k *keepData) Do(ctx context.Context) error {
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
	return os.Rename(k.File+".part", k.File) // whole, or not there
}

// write writes what is to be kept.
func (k *keepData) write(ctx context.Context, to io.Writer) error {
	if k.Raw == "" {
		return k.Data.use(ctx, k.env, func(s database.Session) error { return s.Dump(ctx, to, ours(&k.Data.Database)) })
	}
	from, err := k.files.Open(ctx, k.Raw)
	if err != nil {
		return err
	}
	_, err = io.Copy(to, from)
	return errors.Join(err, from.Close())
}

// putBack loads what was kept.
func (k *keepData) putBack(ctx context.Context, from io.Reader) error {
	if k.Raw == "" {
		return k.Data.use(ctx, k.env, func(s database.Session) error {
			return reload(ctx, s, &k.Data.Database, from, database.ScriptOptions{})
		})
	}
	if err := dropFile(ctx, k.files, k.Raw); err != nil {
		return err
	}
	to, err := k.files.Create(ctx, k.Raw, k.Mode)
	if err != nil {
		return err
	}
	_, err = io.Copy(to, from)
	return errors.Join(err, to.Close())
}

// Undo loads what was kept, whatever has become of the database since. Where it
// was not kept yet, nothing has changed.
func (k *keepData) Undo(ctx context.Context) error {
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
func reload(ctx context.Context, s database.Session, d *ledger.Database, script io.Reader, options database.ScriptOptions) error {
	if err := s.Empty(ctx, ours(d)); err != nil {
		return err
	}
	_, err := s.Run(ctx, script, options)
	return err
}

// loadData replaces what is in the site's database. What was there is for the
// step before it to put back.
type loadData struct {
	*env    `json:"-"`
	Label   string `json:"label"`
	data    dataPlace
	options database.ScriptOptions
	script  func(context.Context) (io.ReadCloser, error)
}

func (*loadData) Kind() string               { return "load-data" }
func (l *loadData) Title() string            { return l.Label }
func (*loadData) Undo(context.Context) error { return nil }

func (l *loadData) Do(ctx context.Context) error {
	script, err := l.script(ctx)
	if err != nil {
		return err
	}
	defer script.Close()
	return l.data.use(ctx, l.env, func(s database.Session) error { return reload(ctx, s, &l.data.Database, script, l.options) })
}
