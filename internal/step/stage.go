package step

import (
	"context"
	"errors"
	"os"
	"path"
	"strings"

	"io"
	"slices"
	"tivset/internal/app/archive"
	"tivset/internal/app/kit"
	"tivset/internal/app/setup"
	"tivset/internal/fault"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/helperpage"
	"tivset/internal/records/backup"
)

// Stage is where an app is set up before it is put in place.
type Stage struct {
	Folder  string
	Base    string // the address of its pages
	Top     string // the folder of stages, or ""
	Veil    string // the folder around it, or "" …
	Address string // … and the veil's
}

// StageFor chooses a stage: in the store, which the web cannot see; or, for a
// set-up by the app's own pages, below the document root under a name that nobody
// can guess, in a folder that shows nothing of it.
func StageFor(t *Tools, forms bool) (Stage, error) {
	if !forms {
		return Stage{Folder: t.Store().Stage(t.Job), Base: t.Site.Place.URL, Top: t.Store().Stages()}, nil
	}
	name, err := t.Maker.Token(32)
	if err != nil {
		return Stage{}, err
	}
	name = "stage-" + name
	domain := t.Site.At.Domain
	veil, address := path.Join(domain.Folder, "tivset-"+t.Job), domain.URL+"/tivset-"+t.Job+"/"
	return Stage{Folder: path.Join(veil, name), Base: address + name + "/", Veil: veil, Address: address}, nil
}

// Archived is a release's archive that is to be unpacked.
type Archived struct {
	File    string // on this machine
	Files   int    // how many are in it
	Configs [][]byte
}

// Unpack unpacks the archive into the stage and writes the configuration.
type Unpack struct {
	*Tools `json:"-"`
	Stage  string `json:"stage"`
	Top    string `json:"top,omitempty"`  // the folder of stages, taken away when it is empty
	Veil   string `json:"veil,omitempty"` // the folder around a stage that the web can see

	By *helperpage.Place `json:"by,omitempty"` // the helper page that unpacks, which may go on when its line is cut

	Address string   `json:"-"` // of the veil
	From    Archived `json:"-"`
	// writes the configuration, where that is not a new site's
	Settings func(ctx context.Context, staged *Unpack) error `json:"-"`
}

// UnpackInto unpacks into a stage.
func UnpackInto(t *Tools, s Stage, from Archived) *Unpack {
	return &Unpack{Tools: t, Stage: s.Folder, Top: s.Top, Veil: s.Veil, Address: s.Address, From: from}
}

// Kind and Title implement job.Step.
func (*Unpack) Kind() string  { return "unpack" }
func (*Unpack) Title() string { return "Unpack and configure" }

// Prepare notes who unpacks.
func (u *Unpack) Prepare(context.Context) error {
	u.By = u.In.Unpacker()
	return nil
}

// Do unpacks, by a helper page where one is at work.
func (u *Unpack) Do(ctx context.Context) error {
	if u.Veil != "" {
		if err := u.veil(ctx); err != nil {
			return err
		}
	}
	if _, err := files.MkdirAll(ctx, u.In.Files, u.Stage, 0o755); err != nil {
		return err
	}
	archived, err := os.Open(u.From.File)
	if err != nil {
		return err
	}
	defer archived.Close()
	total := int64(u.From.Files)
	err = archive.Unpack(ctx, archived, u.Site.Of.Archive.Top, u.Site.Leaves(), u.In.Carrier(), u.Stage,
		func(n int, _ int64) {
			u.Count(int64(n), total, "files")
		})
	if err != nil {
		return err
	}
	if err := u.renameAdmin(ctx); err != nil {
		return err
	}
	if u.Settings != nil {
		return u.Settings(ctx, u)
	}
	if err := u.configure(ctx); err != nil {
		return err
	}
	return u.PHPSettings(ctx, u.Stage)
}

// veiled is the page of the folder around a stage: with it, a server that
// lists folders shows neither the stage nor its name.
const veiled = "<!doctype html><meta name=\"robots\" content=\"noindex\"><title>Nothing to see</title>\n"

// veil makes the folder around the stage, and sees that it shows nothing of it.
func (u *Unpack) veil(ctx context.Context) error {
	if err := u.In.Files.Mkdir(ctx, u.Veil, 0o755); err != nil {
		return err
	}
	if err := files.Write(ctx, u.In.Files, path.Join(u.Veil, "index.html"), []byte(veiled), 0o644); err != nil {
		return err
	}
	if err := u.In.Files.Mkdir(ctx, u.Stage, 0o755); err != nil {
		return err
	}
	page, err := u.In.Visitor().Get(ctx, u.Address)
	if err != nil {
		return fault.NewAs(fault.NoAnswer, fault.Failed, "the domain does not answer", u.Address,
			"Look at its name and its address in the account.").Wrap(err)
	}
	if strings.Contains(string(page.Body), path.Base(u.Stage)) {
		return fault.New(fault.Failed,
			"the web server lists folders to everybody: a stranger could reach the app's set-up before you", u.Address,
			"Ask the host to switch listings of folders off for this domain.")
	}
	return nil
}

// renameAdmin gives the folder of the admin area its own name.
func (u *Unpack) renameAdmin(ctx context.Context) error {
	from, to := u.Site.Kit.Place.AdminFolder, u.Site.Place.AdminFolder
	if from == "" || from == to {
		return nil
	}
	return u.In.Files.Rename(ctx, path.Join(u.Stage, from), path.Join(u.Stage, to))
}

// Undo takes the stage away, once nobody unpacks into it any more.
func (u *Unpack) Undo(ctx context.Context) error {
	if u.By != nil {
		if err := u.In.TakeHelperPage(ctx, *u.By); err != nil {
			return err
		}
	}
	if u.Veil != "" {
		return files.RemoveAll(ctx, u.In.Files, u.Veil)
	}
	if err := files.RemoveAll(ctx, u.In.Files, u.Stage); err != nil {
		return err
	}
	if u.Top == "" {
		return nil
	}
	return files.DropEmpty(ctx, u.In.Files, u.Top)
}

// SetUp carries out one step of the kit's set-up in the stage. What it does
// goes with the stage and the database, so it needs no undo of its own.
type SetUp struct {
	*Tools `json:"-"`
	lasting
	Phase
	N     int    `json:"n"`
	Label string `json:"label"`
	Still bool   `json:"still,omitempty"` // it leaves the data alone

	Step kit.Step      `json:"-"`
	Run  *setup.Runner `json:"-"`
}

// Kind and Title implement job.Step.
func (*SetUp) Kind() string    { return "set-up" }
func (s *SetUp) Title() string { return s.Label }

// Changes implements job.Mutator.
func (s *SetUp) Changes() bool { return !s.Still }

// Do carries the kit's step out.
func (s *SetUp) Do(ctx context.Context) error {
	err := s.Run.Do(ctx, s.Step)
	if s.Site.Data != nil && s.Site.Server.InFiles() {
		err = errors.Join(err, s.Run.Data.Close()) // a file is worked on as a copy; this puts it in place
	}
	return err
}

// FuncStep works on what lies in a stage, and goes with it.
type FuncStep struct {
	lasting
	Phase
	Label string `json:"label"`

	Work func(context.Context) error `json:"-"`
}

// Kind and Title implement job.Step.
func (*FuncStep) Kind() string    { return "prepare" }
func (p *FuncStep) Title() string { return p.Label }

// Do does the work.
func (p *FuncStep) Do(ctx context.Context) error { return p.Work(ctx) }

// UnpackBackup unpacks a backup's files beside the site.
type UnpackBackup struct {
	*Tools `json:"-"`
	Stage  string `json:"stage"`

	From func() *backup.Backup `json:"-"`
	Only []string              `json:"-"` // the files that are wanted of it, from the site's folder; nil for all
}

// Kind and Title implement job.Step.
func (*UnpackBackup) Kind() string  { return "unpack-backup" }
func (*UnpackBackup) Title() string { return "Unpack the backup" }

// Do unpacks both parts: what is in the site's folder, and what is outside.
func (u *UnpackBackup) Do(ctx context.Context) error {
	from := u.From()
	for _, part := range []string{backup.Files, backup.Outside} {
		folder := path.Join(u.Stage, part)
		if _, err := files.MkdirAll(ctx, u.In.Files, folder, 0o755); err != nil {
			return err
		}
		err := archive.Fill(ctx, u.wanted(from.Part(part)), u.In.Files, folder, func(n int, _ int64) {
			u.Count(int64(n), int64(from.Files), "files")
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// wanted is what is wanted of a part of the backup.
func (u *UnpackBackup) wanted(all archive.Source) archive.Source {
	if u.Only == nil {
		return all
	}
	return func(ctx context.Context, each func(archive.Entry, io.Reader) error) error {
		return all(ctx, func(e archive.Entry, content io.Reader) error {
			if !e.Dir && !slices.Contains(u.Only, e.Name) ||
				e.Dir && !slices.ContainsFunc(u.Only, func(name string) bool { return files.Within(name, e.Name) }) {
				return nil
			}
			return each(e, content)
		})
	}
}

// Undo takes the stage away.
func (u *UnpackBackup) Undo(ctx context.Context) error {
	if err := files.RemoveAll(ctx, u.In.Files, u.Stage); err != nil {
		return err
	}
	return files.DropEmpty(ctx, u.In.Files, path.Dir(u.Stage), path.Dir(path.Dir(u.Stage)))
}

// SetPassword carries out the kit's steps that set the admin's password. The
// step before it puts back what they change.
type SetPassword struct {
	*Tools `json:"-"`
	lasting

	Folder string `json:"-"` // where the site's files are
}

// Kind and Title implement job.Step.
func (*SetPassword) Kind() string  { return "set-password" }
func (*SetPassword) Title() string { return "Set the new password" }

// Changes implements job.Mutator.
func (*SetPassword) Changes() bool { return true }

// Do carries the kit's steps out where the site lies.
func (s *SetPassword) Do(ctx context.Context) error {
	return s.Site.CarryOut(ctx, s.In, s.Folder, s.Site.Kit.Renew, s.Now())
}
