package step

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"regexp"
	"tivset/internal/app/archive"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/records/backup"
	"tivset/internal/records/depot"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
)

// BackedUp is a backup that was made.
type BackedUp struct {
	Site ledger.Site
	Kept
	backup.Summary
	MadeAt    time.Time
	Encrypted bool
	Warnings  []string
	Dropped   []string // older ones that were not to be kept
}

// Kept says where a backup is.
type Kept struct {
	File  string `json:"file"`
	Depot string `json:"depot"` // see DepotOf
}

// Why backups are made: because somebody asked, or before a job that could lose
// something.
const (
	Asked        = "asked"
	Regular      = "regular" // by the site's care
	BeforeUpdate = "update"
	BeforeRepair = "repair"
	BeforeUndo   = "undo"
	BeforeRemove = "remove"
	// what a restore found; it is not what the next one brings back by itself
	BeforeRestore = "restore"
)

// BackupName is how a backup of a moment is named, so that names sort by time.
func BackupName(at time.Time, why string, sealed bool) string {
	name := at.Format(nameForm)
	if why != Asked {
		name += "-" + why
	}
	if sealed {
		return name + sealedEnd
	}
	return name + packedEnd
}

// unnamed is what no release has in the name of a backup.
var unnamed = regexp.MustCompile(`[^A-Za-z0-9.+~-]`)

// BeforeUpdateTo is why a backup is made before an update to a release.
func BeforeUpdateTo(release string) string {
	return BeforeUpdate + "-" + unnamed.ReplaceAllString(release, "-")
}

// NamedBackup is what a backup's name says of it.
type NamedBackup struct {
	MadeAt    time.Time `json:"made_at"`
	Why       string    `json:"why"`
	To        string    `json:"to,omitempty"` // with an update: the release that it was to be
	Encrypted bool      `json:"encrypted"`
}

// BackupNamed reads a name of a backup; false for another file's.
func BackupNamed(name string) (n NamedBackup, is bool) {
	stem, is := strings.CutSuffix(strings.TrimSuffix(name, ".age"), packedEnd)
	if !is || len(stem) < len(nameForm) {
		return n, false
	}
	at, err := time.Parse(nameForm, stem[:len(nameForm)])
	n = NamedBackup{MadeAt: at, Why: Asked, Encrypted: strings.HasSuffix(name, sealedEnd)}
	if why := stem[len(nameForm):]; why != "" {
		n.Why = strings.TrimPrefix(why, "-")
		is = why != n.Why
		if to, updates := strings.CutPrefix(n.Why, BeforeUpdate+"-"); updates {
			n.Why, n.To = BeforeUpdate, to
		}
		is = is && slices.Contains([]string{Regular, BeforeUpdate, BeforeRepair, BeforeUndo, BeforeRemove, BeforeRestore},
			n.Why)
	}
	return n, is && err == nil
}

const nameForm, packedEnd, sealedEnd = "20060102-150405", ".tar.zst", ".tar.zst.age"

// BackUp writes a backup of a site: first the database, of one moment, then the
// files, so that no row speaks of a file that is not there. It is read again
// before it counts as made.
type BackUp struct {
	*Tools `json:"-"`
	Kept
	Recipients []string `json:"recipients,omitempty"` // of age; with any, only their keys open it
	Stays      bool     `json:"stays,omitempty"`      // once made it stays, whatever becomes of the job

	// Where the database is kept for an undo, while it is read for the backup; nil for nowhere.
	Also *UndoStore `json:"also,omitempty"`

	Record ledger.Site          `json:"-"` // the site's
	Rest   bool                 `json:"-"` // something of the site may be gone: what is left of it is backed up
	Closed *Close               `json:"-"` // that has closed the site by then; nil for one that is open
	Made   *BackedUp            `json:"-"`
	Named  func(time.Time) Kept `json:"-"` // where a backup of a moment goes; nil where that is settled

	seen   map[string]files.Info // what was listed for it, by part and name below
	seenAt time.Time
}

// BackUpOf backs up the job's site, whose record is given, and says why. Into is a
// folder of this machine, "" for the account's store; made is filled in.
func BackUpOf(t *Tools, x ledger.Site, why, into string, recipients []string, made *BackedUp) (*BackUp, error) {
	made.MadeAt = t.Now().UTC().Truncate(time.Second)
	folder := ""
	if into != "" {
		var err error
		if folder, err = filepath.Abs(into); err != nil {
			return nil, err
		}
	}
	b := &BackUp{Tools: t, Record: x, Made: made, Recipients: recipients, Named: func(at time.Time) Kept {
		name := BackupName(at, why, len(recipients) > 0)
		if folder != "" {
			return Kept{filepath.Join(folder, hosting.Slug(x.Address)+"-"+name), Here}
		}
		return Kept{path.Join(t.Store().Backups(x.Address), name), InAccount}
	}}
	b.Kept = b.Named(made.MadeAt)
	return b, nil
}

// KeepsFor has the database kept too, while it is read for the backup.
func (b *BackUp) KeepsFor(k *KeepData) { b.Also, k.Given = &k.UndoStore, true }

// depot is where the backup goes.
func (b *BackUp) depot() depot.Depot { return DepotOf(b.In, b.Depot) }

// Kind and Title implement job.Step.
func (*BackUp) Kind() string  { return "back-up" }
func (*BackUp) Title() string { return "Back the site up" }

// Prepare finds a moment of which there is no backup yet: they are named by the
// second, and none is ever written over, or taken away by an undo.
func (b *BackUp) Prepare(ctx context.Context) error {
	if b.Named == nil {
		return nil
	}
	b.Kept = b.Named(b.Made.MadeAt)
	there, err := b.depot().List(ctx, path.Dir(filepath.ToSlash(b.File)))
	if err != nil {
		return err
	}
	moment := func() string {
		name := filepath.Base(b.File)
		return name[:strings.Index(name, b.Made.MadeAt.Format(nameForm))+len(nameForm)]
	}
	for slices.ContainsFunc(there, func(e depot.Entry) bool { return strings.HasPrefix(e.Name, moment()) }) {
		b.Made.MadeAt = b.Made.MadeAt.Add(time.Second)
		b.Kept = b.Named(b.Made.MadeAt)
	}
	return nil
}

// Do writes the backup, reads it again, and only then gives it its name.
func (b *BackUp) Do(ctx context.Context) error {
	to, err := b.depot().Create(ctx, b.File)
	if err != nil {
		return err
	}
	sum, err := b.write(ctx, to)
	if err == nil {
		err = b.readAgain(ctx, to, sum)
	}
	if err == nil {
		err = to.Commit(ctx)
	}
	if err != nil {
		return errors.Join(err, to.Drop(context.WithoutCancel(ctx)))
	}
	if b.Stays {
		b.Result.Backup = b.File
	}
	*b.Made = BackedUp{Site: b.Record, Kept: b.Kept, Summary: sum, Warnings: b.Made.Warnings, MadeAt: b.Made.MadeAt,
		Encrypted: len(b.Recipients) > 0}
	return nil
}

// Lasts implements job.Lasting: of one that stays, only what is half written goes.
func (b *BackUp) Lasts() bool { return b.Stays }

// Undo takes the backup away, whole or half written; a whole one that is to stay
// is left.
func (b *BackUp) Undo(ctx context.Context) error {
	if err := knownDepot(b.Depot, b.File); err != nil {
		return err
	}
	if b.Also != nil {
		if err := b.Also.clear(ctx, b.In); err != nil {
			return err
		}
	}
	names := []string{depot.Half(b.File), b.File}
	if b.Stays {
		names = names[:1]
	}
	for _, name := range names {
		if err := b.depot().Remove(ctx, name); err != nil {
			return err
		}
	}
	return nil
}

func (b *BackUp) write(ctx context.Context, to io.Writer) (backup.Summary, error) {
	var none backup.Summary
	b.seenAt = b.Now()
	groups, err := b.list(ctx)
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
	w.Key = b.Book.Vault.Key
	if b.Site.Data != nil {
		if err := b.dump(ctx, w.Data()); err != nil {
			return none, err
		}
	}
	done, total := 0, 0
	for _, g := range groups {
		total += len(g.list)
	}
	b.remember(groups)
	for _, g := range groups {
		if err := b.add(ctx, w, g, done, total); err != nil {
			return none, err
		}
		done += len(g.list)
	}
	return w.Close()
}

// dump writes the database into the backup's script, and into what keeps it.
func (b *BackUp) dump(ctx context.Context, script io.WriteCloser) error {
	read := func(to io.Writer) error {
		return b.Site.WithData(ctx, b.In, func(s database.Session) error {
			return s.Dump(ctx, &counting{to, b.Count, 0}, site.OwnTables(b.Record.Database))
		})
	}
	var err error
	if b.Also == nil {
		err = read(script)
	} else {
		err = b.Also.pack(ctx, b.In, func(kept io.Writer) error { return read(io.MultiWriter(script, kept)) })
	}
	return errors.Join(err, script.Close())
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

func (b *BackUp) header() (backup.Header, error) {
	x := b.Record
	record, err := json.Marshal(x)
	if err != nil {
		return backup.Header{}, err
	}
	sealed, err := b.Book.Vault.Seal(site.VaultName(x.Address, ""))
	if err != nil {
		return backup.Header{}, err
	}
	h := backup.Header{MadeAt: b.Made.MadeAt, Address: x.Address, URL: x.URL, App: x.App, Release: x.Release,
		Site: record, Secrets: sealed, Warnings: b.Made.Warnings}
	if x.Database != nil {
		h.Engine = x.Database.Engine
	}
	return h, nil
}

// group is what a part of a backup takes from one folder.
type group struct {
	part, folder string
	list         []files.Found
}

// list lists what belongs into the backup: all that is in the site's folder but
// what belongs to others, and its folder outside of the web. Of a closed site,
// what has left its folder, and beside it what has not.
func (b *BackUp) list(ctx context.Context) ([]group, error) {
	foreign, err := b.Book.Foreign(ctx, b.Site)
	if err != nil {
		return nil, err
	}
	skip := slices.Clone(foreign)
	groups := []group{{part: backup.Files, folder: b.Record.Folder}}
	if c := b.Closed; c != nil && len(c.Moves) > 0 {
		groups = append(groups, group{part: backup.Files, folder: c.ParkedDir})
		for _, name := range c.entries() {
			skip = append(skip, path.Join(c.Folder, name))
		}
	}
	if b.Record.DataFolder != "" {
		groups = append(groups, group{part: backup.Outside, folder: b.Record.DataFolder})
	}
	for i, g := range groups {
		hidden := skip.Has
		if g.folder != b.Record.Folder {
			hidden = nil
		}
		all, err := files.Tree(ctx, b.In.Files, g.folder, hidden)
		if b.Rest && errors.Is(err, fs.ErrNotExist) {
			b.Made.Warnings = append(b.Made.Warnings, g.folder+" was gone, and nothing of it is in the backup")
			continue
		}
		if err != nil {
			return nil, fault.New(fault.Failed, "the site's files cannot be read", g.folder, "").Wrap(err)
		}
		groups[i].list = b.plainOnly(all)
	}
	return groups, nil
}

// plainOnly leaves out what is neither file nor folder, and says so.
func (b *BackUp) plainOnly(list []files.Found) []files.Found {
	return slices.DeleteFunc(list, func(f files.Found) bool {
		if f.Mode.IsRegular() || f.IsDir() {
			return false
		}
		b.Made.Warnings = append(b.Made.Warnings, f.Path+" is a link or the like, and is not in the backup")
		return true
	})
}

// add adds a group's files, by their names below its folder.
func (b *BackUp) add(ctx context.Context, w *backup.Writer, g group, done, total int) error {
	return files.ReadAll(ctx, b.In.Files, g.list, func(f files.Found, content io.Reader) error {
		done++
		b.Count(int64(done), int64(total), "files")
		name := strings.TrimPrefix(f.Path, g.folder+"/")
		if f.IsDir() {
			return w.Folder(g.part, name, f.Mode)
		}
		return w.File(g.part, name, f.Mode, f.Size, content)
	})
}

// readAgain reads what was written: a backup that cannot be read is none. One
// that is encrypted to others cannot be opened here; it is at least what left.
func (b *BackUp) readAgain(ctx context.Context, written depot.Writer, sum backup.Summary) error {
	open := func() (io.ReadCloser, error) { return written.Written(ctx) }
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
