package site

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tivset/internal/app/archive"
	"tivset/internal/fault"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/records/backup"
	"tivset/internal/records/ledger"
)

// backUp writes a backup of a site: first the database, of one moment, then the
// files, so that no row speaks of a file that is not there. It is read again
// before it counts as made.
type backUp struct {
	*env `json:"-"`
	Kept
	Recipients []string `json:"recipients,omitempty"` // of age; with any, only their keys open it

	site  ledger.Site
	made  *BackedUp
	named func(time.Time) Kept // where a backup of a moment goes; nil where that is settled
}

// Kept says where a backup is.
type Kept struct {
	File string `json:"file"`           // in the account, or on this machine
	Here bool   `json:"here,omitempty"` // on this machine
}

func (*backUp) Kind() string  { return "back-up" }
func (*backUp) Title() string { return "Back the site up" }

// Prepare finds a moment of which there is no backup yet: they are named by the
// second, and none is ever written over, or taken away by an undo.
func (b *backUp) Prepare(ctx context.Context) error {
	if b.named == nil {
		return nil
	}
	for ; ; b.made.MadeAt = b.made.MadeAt.Add(time.Second) {
		b.Kept = b.named(b.made.MadeAt)
		taken, err := b.taken(ctx, b.File)
		if err == nil && !taken {
			taken, err = b.taken(ctx, b.part())
		}
		if err != nil || !taken {
			return err
		}
	}
}

func (b *backUp) taken(ctx context.Context, name string) (bool, error) {
	if !b.Here {
		return files.Exists(ctx, b.files, name)
	}
	_, err := os.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

func (b *backUp) part() string { return b.File + ".part" }

func (b *backUp) Do(ctx context.Context) error {
	to, err := b.create(ctx)
	if err != nil {
		return err
	}
	sum, err := b.write(ctx, to)
	if err := errors.Join(err, to.Close()); err != nil {
		return err
	}
	if err := b.readAgain(ctx, sum); err != nil {
		return err
	}
	if err := b.arrive(ctx); err != nil {
		return err
	}
	*b.made = BackedUp{Site: b.site, Kept: b.Kept, Summary: sum, Warnings: b.made.Warnings, MadeAt: b.made.MadeAt, Encrypted: len(b.Recipients) > 0}
	return nil
}

// create makes the file under a name that no reader takes for a backup.
func (b *backUp) create(ctx context.Context) (io.WriteCloser, error) {
	if b.Here {
		if err := os.MkdirAll(filepath.Dir(b.File), 0o700); err != nil {
			return nil, err
		}
		return os.OpenFile(b.part(), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	}
	if _, err := files.MkdirAll(ctx, b.files, path.Dir(b.File), 0o700); err != nil {
		return nil, err
	}
	return b.files.Create(ctx, b.part(), 0o600)
}

func (b *backUp) arrive(ctx context.Context) error {
	if b.Here {
		return os.Rename(b.part(), b.File)
	}
	return b.files.Rename(ctx, b.part(), b.File)
}

func (b *backUp) open(ctx context.Context, name string) (io.ReadCloser, error) {
	if b.Here {
		return os.Open(name)
	}
	return b.files.Open(ctx, name)
}

func (b *backUp) Undo(ctx context.Context) error {
	for _, name := range []string{b.part(), b.File} {
		var err error
		if b.Here {
			err = os.Remove(name)
		} else {
			err = b.files.Remove(ctx, name)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	if b.Here {
		return nil
	}
	return dropEmpty(ctx, b.files, path.Dir(b.File), path.Dir(path.Dir(b.File)), b.account.Store)
}

func (b *backUp) write(ctx context.Context, to io.Writer) (backup.Summary, error) {
	var none backup.Summary
	list, outside, err := b.list(ctx)
	if err != nil {
		return none, err
	}
	header, err := b.header()
	if err != nil {
		return none, err
	}
	w, err := backup.NewWriter(to, header, b.Recipients)
	if err != nil {
		return none, err
	}
	defer w.Drop()
	if b.plan.Data != nil {
		script := w.Data()
		err := b.withData(ctx, func(s database.Session) error {
			return s.Dump(ctx, &counting{script, b.count, 0}, ours(b.site.Database))
		})
		if err := errors.Join(err, script.Close()); err != nil {
			return none, err
		}
	}
	total := len(list) + len(outside)
	if err := b.add(ctx, w, backup.Files, b.site.Folder, list, 0, total); err != nil {
		return none, err
	}
	if err := b.add(ctx, w, backup.Outside, b.site.DataFolder, outside, len(list), total); err != nil {
		return none, err
	}
	return w.Close()
}

// counting tells how much of a database is read.
type counting struct {
	io.Writer
	count func(int64, int64, string)
	bytes int64
}

func (c *counting) Write(p []byte) (int, error) {
	n, err := c.Writer.Write(p)
	c.bytes += int64(n)
	c.count(c.bytes, 0, "bytes")
	return n, err
}

func (b *backUp) header() (backup.Header, error) {
	x := b.site
	record, err := json.Marshal(x)
	if err != nil {
		return backup.Header{}, err
	}
	sealed, err := b.Vault.Seal(vaultName(x.Address, ""))
	if err != nil {
		return backup.Header{}, err
	}
	h := backup.Header{MadeAt: b.made.MadeAt, Address: x.Address, URL: x.URL, App: x.App, Release: x.Release, Site: record, Secrets: sealed, Warnings: b.made.Warnings}
	if x.Database != nil {
		h.Engine = x.Database.Engine
	}
	return h, nil
}

// list lists what belongs into the backup: all that is in the site's folder but
// what belongs to others, and its folder outside of the web.
func (b *backUp) list(ctx context.Context) (inside, outside []files.Found, err error) {
	foreign, err := b.foreign(ctx, b.plan)
	if err != nil {
		return nil, nil, err
	}
	if inside, err = files.Tree(ctx, b.files, b.site.Folder, foreign.has); err != nil {
		return nil, nil, fault.New(fault.Failed, "the site's files cannot be read", b.site.Folder, "").Because(err)
	}
	if b.site.DataFolder != "" {
		if outside, err = files.Tree(ctx, b.files, b.site.DataFolder, nil); err != nil {
			return nil, nil, fault.New(fault.Failed, "the site's folder outside of the web cannot be read", b.site.DataFolder, "").Because(err)
		}
	}
	return b.plainOnly(inside), b.plainOnly(outside), nil
}

// plainOnly leaves out what is neither file nor folder, and says so.
func (b *backUp) plainOnly(list []files.Found) []files.Found {
	return slices.DeleteFunc(list, func(f files.Found) bool {
		if f.Mode.IsRegular() || f.IsDir() {
			return false
		}
		b.made.Warnings = append(b.made.Warnings, f.Path+" is a link or the like, and is not in the backup")
		return true
	})
}

// add adds files to a part, by their names below a folder.
func (b *backUp) add(ctx context.Context, w *backup.Writer, part, folder string, list []files.Found, done, total int) error {
	return readAll(ctx, b.files, list, func(f files.Found, content io.Reader) error {
		done++
		b.count(int64(done), int64(total), "files")
		name := strings.TrimPrefix(f.Path, folder+"/")
		if f.IsDir() {
			return w.Folder(part, name, f.Mode)
		}
		return w.File(part, name, f.Mode, f.Size, content)
	})
}

// readAgain reads what was written: a backup that cannot be read is none. One
// that is encrypted to others cannot be opened here; it is at least what left.
func (b *backUp) readAgain(ctx context.Context, sum backup.Summary) error {
	open := func() (io.ReadCloser, error) { return b.open(ctx, b.part()) }
	if len(b.Recipients) == 0 {
		return backup.Same(ctx, open, sum)
	}
	r, err := open()
	if err != nil {
		return err
	}
	defer r.Close()
	if err := archive.Verify(r, sum.SHA256); err != nil {
		return fmt.Errorf("%w: %w", backup.ErrDamaged, err)
	}
	return nil
}

// unpackBackup unpacks a backup's files beside the site.
type unpackBackup struct {
	*env  `json:"-"`
	Stage string `json:"stage"`

	from  *backup.Backup
	later func() *backup.Backup // gives it where it is not made yet
}

func (*unpackBackup) Kind() string  { return "unpack-backup" }
func (*unpackBackup) Title() string { return "Unpack the backup" }

func (u *unpackBackup) Do(ctx context.Context) error {
	if u.later != nil {
		u.from = u.later()
	}
	for _, part := range []string{backup.Files, backup.Outside} {
		folder := path.Join(u.Stage, part)
		if _, err := files.MkdirAll(ctx, u.files, folder, 0o755); err != nil {
			return err
		}
		err := archive.Fill(ctx, u.from.Part(part), u.files, folder, func(n int, _ int64) { u.count(int64(n), int64(u.from.Files), "files") })
		if err != nil {
			return err
		}
	}
	return nil
}

func (u *unpackBackup) Undo(ctx context.Context) error {
	if err := files.RemoveAll(ctx, u.files, u.Stage); err != nil {
		return err
	}
	return dropEmpty(ctx, u.files, path.Dir(u.Stage), path.Dir(path.Dir(u.Stage)))
}

// readAll hands over files in their order, the content of small ones read ahead
// by several readers: over a long line each takes some round trips.
func readAll(ctx context.Context, f files.FS, list []files.Found, use func(files.Found, io.Reader) error) error {
	const small = 256 << 10
	readers := 4
	if wide, ok := f.(files.Wide); ok {
		readers = wide.Writers()
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	type read struct {
		content []byte
		err     error
	}
	results, slots := make([]chan read, len(list)), make(chan struct{}, readers)
	queue := make(chan int)
	for i := range results {
		results[i] = make(chan read, 1)
	}
	for range readers {
		go func() {
			for i := range queue {
				content, err := files.Read(ctx, f, list[i].Path, small)
				results[i] <- read{content, err}
			}
		}()
	}
	go func() {
		defer close(queue)
		for i, found := range list {
			if found.IsDir() || found.Size > small {
				continue
			}
			select {
			case slots <- struct{}{}:
				queue <- i
			case <-ctx.Done():
				return
			}
		}
	}()
	for i, found := range list {
		switch {
		case found.IsDir():
			if err := use(found, nil); err != nil {
				return err
			}
			continue
		case found.Size > small:
			if err := streamed(ctx, f, found, use); err != nil {
				return err
			}
			continue
		}
		select {
		case r := <-results[i]:
			results[i] = nil
			if r.err == nil {
				r.err = use(found, bytes.NewReader(r.content))
			}
			if r.err != nil {
				return r.err
			}
			<-slots
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}

func streamed(ctx context.Context, f files.FS, found files.Found, use func(files.Found, io.Reader) error) error {
	r, err := f.Open(ctx, found.Path)
	if err != nil {
		return err
	}
	return errors.Join(use(found, r), r.Close())
}
