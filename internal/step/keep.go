package step

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"time"

	"tivset/internal/hosting"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/records/backup"
	"tivset/internal/records/depot"
	"tivset/internal/site"
)

// KeepData keeps what is in the site's database before it changes; and puts it
// back.
type KeepData struct {
	*Tools `json:"-"`
	UndoStore
	Data DataPlace   `json:"data"`
	Raw  string      `json:"raw,omitempty"`  // the database is this file of the account, kept as it is
	Mode fs.FileMode `json:"mode,omitempty"` // its mode

	Address string `json:"address,omitempty"` // the site's

	Given bool `json:"-"` // a backup has kept it just now, with the site closed

	unchanged bool // no step of the job had begun to change the database
}

// KeptData keeps the database of the job's site.
func KeptData(t *Tools, data DataPlace) *KeepData {
	return &KeepData{Tools: t, Data: data, UndoStore: t.keptData(), Address: t.Site.Address()}
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
	if k.Given {
		return nil
	}
	return k.pack(ctx, k.In, func(to io.Writer) error { return k.write(ctx, to) })
}

// write writes the database as it is now, in the form in which it is kept.
func (k *KeepData) write(ctx context.Context, to io.Writer) error {
	if k.Raw == "" {
		return k.dump(ctx, to)
	}
	from, err := k.In.Files.Open(ctx, k.Raw)
	if err != nil {
		return err
	}
	_, err = io.Copy(to, from)
	return errors.Join(err, from.Close())
}

func (k *KeepData) dump(ctx context.Context, to io.Writer) error {
	return k.Data.use(ctx, k.Tools, func(s database.Session) error {
		return s.Dump(ctx, to, site.OwnTables(&k.Data.Database))
	})
}

// Unchanged implements job.Snapshotter.
func (k *KeepData) Unchanged() { k.unchanged = true }

// Undo loads what was kept, after what is there by then was kept too. Where
// nothing was kept, where no step had begun to change anything, and where all is
// as it was, it leaves the database alone.
func (k *KeepData) Undo(ctx context.Context) error {
	if err := knownDepot(k.Depot, k.File); err != nil {
		return err
	}
	if err := DepotOf(k.In, k.Depot).Remove(ctx, depot.Half(k.File)); err != nil {
		return err
	}
	if there, err := k.there(ctx, k.Tools); err != nil || !there {
		return err
	}
	if !k.unchanged {
		if err := k.putBack(ctx); err != nil {
			return fmt.Errorf("put the database back from %s: %w", k.File, err)
		}
	}
	return errors.Join(k.drop(ctx, k.In), k.savedMark().drop(ctx, k.In))
}

// kept reads what was kept.
func (k *KeepData) kept(ctx context.Context, use func(io.Reader) error) error {
	return k.unpack(ctx, k.In, use)
}

// putBack saves what is there and loads what was kept.
func (k *KeepData) putBack(ctx context.Context) error {
	same := false
	if err := k.kept(ctx, func(before io.Reader) error {
		now := &sameAs{before: before}
		err := k.write(ctx, now)
		if same = err == nil && now.ended(); errors.Is(err, errOther) || k.Raw != "" && errors.Is(err, fs.ErrNotExist) {
			err = nil
		}
		return err
	}); err != nil || same {
		return err
	}
	if err := k.save(ctx); err != nil {
		return fmt.Errorf("keep what is in the database now: %w", err)
	}
	return k.kept(ctx, func(before io.Reader) error { return k.load(ctx, before) })
}

func (k *KeepData) load(ctx context.Context, before io.Reader) error {
	if k.Raw == "" {
		return k.Data.use(ctx, k.Tools, func(s database.Session) error {
			return reload(ctx, s, &k.Data.Database, before, database.ScriptOptions{})
		})
	}
	if err := files.Drop(ctx, k.In.Files, k.Raw); err != nil {
		return err
	}
	to, err := k.In.Files.Create(ctx, k.Raw, k.Mode)
	if err != nil {
		return err
	}
	_, err = io.Copy(to, before)
	return errors.Join(err, to.Close())
}

// sameAs compares what is written with what was before.
type sameAs struct {
	before io.Reader
	buffer []byte
}

// errOther ends a comparison.
var errOther = errors.New("it is not as it was")

func (s *sameAs) Write(p []byte) (int, error) {
	if len(s.buffer) < len(p) {
		s.buffer = make([]byte, len(p))
	}
	n, err := io.ReadFull(s.before, s.buffer[:len(p)])
	if err != nil || !bytes.Equal(s.buffer[:n], p) {
		return 0, errOther
	}
	return n, nil
}

// ended says whether nothing was before that was not written.
func (s *sameAs) ended() bool {
	n, err := s.before.Read(make([]byte, 1))
	return n == 0 && errors.Is(err, io.EOF)
}

// savedMark is the file that says where this undo has saved what was there. Cut
// off while it loads, it must not save a database that is half its own.
func (k *KeepData) savedMark() UndoStore { return k.beside(".saved") }

// save writes what is in the database into a backup of the data alone, beside
// what was kept, once for all tries of the undo.
func (k *KeepData) save(ctx context.Context) error {
	if name, err := k.savedMark().read(ctx, k.In); err == nil {
		k.Result.Kept = append(k.Result.Kept, string(name))
		return nil
	}
	to, at, err := k.saved(ctx)
	if err != nil {
		return err
	}
	if err := to.fill(ctx, k.In, func(file io.Writer) error { return k.saveTo(ctx, file, at) }); err != nil {
		return err
	}
	if err := k.savedMark().write(ctx, k.In, []byte(to.File)); err != nil {
		return err
	}
	k.Result.Kept = append(k.Result.Kept, to.File)
	return nil
}

// saved names the backup, of a moment of which there is none yet.
func (k *KeepData) saved(ctx context.Context) (to UndoStore, at time.Time, err error) {
	to = UndoStore{Depot: k.Depot}
	for at = k.Now().UTC().Truncate(time.Second); ; at = at.Add(time.Second) {
		name := BackupName(at, BeforeUndo, false)
		if to.File = path.Join(k.Store().Backups(k.Address), name); k.Depot == Here {
			to.File = filepath.Join(k.Book.Home.Backups(), hosting.Slug(k.Address)+"-"+name)
		}
		_, err := to.written(ctx, k.In)
		if errors.Is(err, fs.ErrNotExist) {
			return to, at, nil
		}
		if err != nil {
			return to, at, err
		}
	}
}

func (k *KeepData) saveTo(ctx context.Context, to io.Writer, at time.Time) error {
	x, err := k.Book.Ledger.Site(ctx, k.Address)
	if err != nil {
		return err
	}
	record, err := json.Marshal(x)
	if err != nil {
		return err
	}
	sealed, err := k.Book.Vault.Seal(site.VaultName(x.Address, ""))
	if err != nil {
		return err
	}
	w, err := backup.NewWriter(to, backup.Header{MadeAt: at, Address: x.Address, URL: x.URL, App: x.App,
		Release: x.Release, Engine: k.Data.Engine, Only: backup.OnlyData, Site: record, Secrets: sealed}, nil)
	if err != nil {
		return err
	}
	defer w.Drop()
	w.Key = k.Book.Vault.Key
	script := w.Data()
	if err := errors.Join(k.dump(ctx, script), script.Close()); err != nil {
		return err
	}
	_, err = w.Close()
	return err
}
