package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"

	"tivset/internal/app/archive"
	"tivset/internal/app/config"
	"tivset/internal/app/fill"
	"tivset/internal/app/kit"
	"tivset/internal/app/setup"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/web"
	"tivset/internal/secret"
)

type secretText = secret.Text

func contains(list []string, s string) bool { return slices.Contains(list, s) }

// unpack unpacks the archive into the stage and writes the configuration.
type unpack struct {
	*env  `json:"-"`
	Stage string `json:"stage"`
	Top   string `json:"top,omitempty"`  // the folder of stages, taken away when it is empty
	Veil  string `json:"veil,omitempty"` // the folder around a stage that the web can see

	address  string                      // of the veil
	settings func(context.Context) error // writes the configuration, where that is not the plan's own
}

func (*unpack) Kind() string  { return "unpack" }
func (*unpack) Title() string { return "Unpack and configure" }

func (u *unpack) Do(ctx context.Context) error {
	if u.Veil != "" {
		if err := u.veil(ctx); err != nil {
			return err
		}
	}
	if _, err := files.MkdirAll(ctx, u.files, u.Stage, 0o755); err != nil {
		return err
	}
	archived, err := os.Open(u.plan.archive)
	if err != nil {
		return err
	}
	defer archived.Close()
	total := int64(u.plan.survey.Files)
	to := u.files
	if u.carries && u.courier != nil {
		to = u.courier.Files()
	}
	err = archive.Unpack(ctx, archived, u.plan.release.Archive.Top, u.plan.leaves(), to, u.Stage, func(n int, _ int64) {
		u.count(int64(n), total, "files")
	})
	if err != nil {
		return err
	}
	if err := u.renameAdmin(ctx); err != nil {
		return err
	}
	if u.settings != nil {
		return u.settings(ctx)
	}
	return u.configure(ctx)
}

// veiled is the page of the folder around a stage: with it, a server that
// lists folders shows neither the stage nor its name.
const veiled = "<!doctype html><meta name=\"robots\" content=\"noindex\"><title>Nothing to see</title>\n"

// veil makes the folder around the stage, and sees that it shows nothing of it.
func (u *unpack) veil(ctx context.Context) error {
	if err := u.files.Mkdir(ctx, u.Veil, 0o755); err != nil {
		return err
	}
	if err := files.Write(ctx, u.files, path.Join(u.Veil, "index.html"), []byte(veiled), 0o644); err != nil {
		return err
	}
	if err := u.files.Mkdir(ctx, u.Stage, 0o755); err != nil {
		return err
	}
	page, err := web.NewVisitor(connections(u.account)).Get(ctx, u.address)
	if err != nil {
		return fault.New(fault.Failed, "the domain does not answer", u.address, "Look at its name and its address in the account.").Because(err)
	}
	if strings.Contains(string(page.Body), path.Base(u.Stage)) {
		return fault.New(fault.Failed, "the web server lists folders to everybody: a stranger could reach the app's set-up before you", u.address,
			"Ask the host to switch listings of folders off for this domain.")
	}
	return nil
}

// renameAdmin gives the folder of the admin side its own name.
func (u *unpack) renameAdmin(ctx context.Context) error {
	from, to := u.plan.kit.Place.AdminFolder, u.plan.Place.AdminFolder
	if from == "" || from == to {
		return nil
	}
	return u.files.Rename(ctx, path.Join(u.Stage, from), path.Join(u.Stage, to))
}

func (u *unpack) configure(ctx context.Context) error {
	for i, c := range u.plan.kit.Config {
		if len(c.Constant) > 0 {
			if err := u.setConstants(ctx, c); err != nil {
				return err
			}
			continue
		}
		if err := u.replace(ctx, path.Join(u.Stage, c.Path), u.plan.configs[i], fileMode(c.Mode)); err != nil {
			return err
		}
	}
	return nil
}

// setConstants edits a PHP file of the archive, which keeps its mode.
func (u *unpack) setConstants(ctx context.Context, c kit.Config) error {
	name := path.Join(u.Stage, c.Path)
	info, err := u.files.Stat(ctx, name)
	if err != nil {
		return err
	}
	content, err := files.Read(ctx, u.files, name, 4<<20)
	if err != nil {
		return err
	}
	values, err := u.plan.values(u.Now())
	if err != nil {
		return err
	}
	text := string(content)
	for constant, value := range c.Constant {
		filled, err := fill.Text(value, values)
		if err != nil {
			return err
		}
		if text, err = config.SetConstant(text, constant, filled); err != nil {
			return fmt.Errorf("%s: %w", c.Path, err)
		}
	}
	return u.replace(ctx, name, []byte(text), info.Mode.Perm())
}

// replace writes a file of the stage, over one from the archive if need be.
func (u *unpack) replace(ctx context.Context, name string, text []byte, mode fs.FileMode) error {
	if err := u.files.Remove(ctx, name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if _, err := files.MkdirAll(ctx, u.files, path.Dir(name), 0o755); err != nil {
		return err
	}
	return files.Write(ctx, u.files, name, text, mode)
}

func fileMode(text string) fs.FileMode {
	mode, err := strconv.ParseUint(text, 8, 32)
	if err != nil {
		return 0o640
	}
	return fs.FileMode(mode)
}

func (u *unpack) Undo(ctx context.Context) error {
	if u.Veil != "" {
		return files.RemoveAll(ctx, u.files, u.Veil)
	}
	if err := files.RemoveAll(ctx, u.files, u.Stage); err != nil {
		return err
	}
	if u.Top == "" {
		return nil
	}
	return dropEmpty(ctx, u.files, u.Top)
}

// setUp carries out one step of the kit's set-up in the stage. What it does
// goes with the stage and the database, so it needs no undo of its own.
type setUp struct {
	*env  `json:"-"`
	N     int    `json:"n"`
	Label string `json:"label"`
	step  kit.Step
	run   *setup.Runner
}

func (*setUp) Kind() string               { return "set-up" }
func (s *setUp) Title() string            { return s.Label }
func (*setUp) Undo(context.Context) error { return nil }

func (s *setUp) Do(ctx context.Context) error {
	err := s.run.Do(ctx, s.step)
	if d := s.plan.Data; d != nil && d.Engine == account.SQLite {
		err = errors.Join(err, s.run.Data.Close()) // a file is worked on as a copy; this puts it in place
	}
	return err
}

// label words a step of the set-up.
func label(s kit.Step) string {
	switch {
	case s.SQL != nil:
		return "Load " + s.SQL.File
	case s.RunSQL != "":
		return "Set the site up in its database"
	case s.Request != nil && s.Request.Get != "":
		return "Open the app's set-up page"
	case len(s.Command) > 0:
		return "Run the app's own set-up"
	case s.Request != nil:
		return "Send the app's set-up form"
	}
	return "Take away what only the set-up needs"
}

// runner makes the one runner that all set-up steps share: cookies and the
// page got last go from one to the next. The connection to the database is
// made when the first step needs it.
func (e *env) runner(ctx context.Context, folder, base string) (*setup.Runner, error) {
	values, err := e.plan.values(e.Now())
	if err != nil {
		return nil, err
	}
	r := &setup.Runner{
		Files: e.files, Folder: folder, PHP: e.account.Runtime.PHP, Base: base, Values: values, Secrets: e.plan.hidden(),
		Visitor: web.NewVisitor(connections(e.account)),
	}
	if e.plan.Data != nil {
		r.Data = &lazySession{open: e.openData}
	}
	return r, nil
}

// putInPlace moves the stage's entries into the place, one by one. A document
// root itself is never replaced: it may hold other sites, and the server may
// know it by more than its name.
type putInPlace struct {
	*env    `json:"-"`
	Stage   string   `json:"stage"`
	Target  string   `json:"target"`
	Made    bool     `json:"made"` // the target is new: it goes again on undo
	Entries []string `json:"entries"`
}

func (*putInPlace) Kind() string  { return "put-in-place" }
func (*putInPlace) Title() string { return "Put the files in place" }

// Prepare lists what will move, and makes sure that it lands on nothing.
func (p *putInPlace) Prepare(ctx context.Context) error {
	inside, err := p.files.List(ctx, p.Stage)
	if err != nil {
		return err
	}
	there, err := p.files.List(ctx, p.Target)
	p.Made = errors.Is(err, fs.ErrNotExist)
	if err != nil && !p.Made {
		return err
	}
	p.Entries = nil
	for _, i := range inside {
		p.Entries = append(p.Entries, i.Name)
		if slices.ContainsFunc(there, func(t files.Info) bool { return t.Name == i.Name }) {
			return inTheWayFault(p.plan, []string{i.Name + " has come to be there since the install began"})
		}
	}
	return nil
}

func (p *putInPlace) Do(ctx context.Context) error {
	if p.Made {
		if err := p.files.Mkdir(ctx, p.Target, 0o755); err != nil {
			return err
		}
		p.made = append([]string{p.Target}, p.made...)
	}
	for n, name := range p.Entries {
		if err := p.files.Rename(ctx, path.Join(p.Stage, name), path.Join(p.Target, name)); err != nil {
			return err
		}
		p.count(int64(n+1), int64(len(p.Entries)), "entries")
	}
	p.entries = p.Entries
	return nil
}

// Undo takes away exactly the entries that were moved: those still in the
// stage never arrived, and what bears their name in the place is not ours.
func (p *putInPlace) Undo(ctx context.Context) error {
	for _, name := range p.Entries {
		staged, err := files.Exists(ctx, p.files, path.Join(p.Stage, name))
		if err != nil {
			return err
		}
		if staged {
			continue
		}
		if err := files.RemoveAll(ctx, p.files, path.Join(p.Target, name)); err != nil {
			return err
		}
	}
	switch {
	case !p.Made:
		return nil
	case p.plan != nil:
		// The folder is seconds old: what the app has written there goes too.
		return files.RemoveAll(ctx, p.files, p.Target)
	}
	// After a crash the owner may have put something there.
	return dropEmpty(ctx, p.files, p.Target)
}

// tidy takes away the stage and the mark, after the job was settled.
type tidy struct {
	*env   `json:"-"`
	Stage  string   `json:"stage"`
	Marker string   `json:"marker"`
	Drop   []string `json:"drop"` // folders that go when they are empty
}

func (*tidy) Kind() string               { return "tidy" }
func (*tidy) Title() string              { return "Tidy up" }
func (*tidy) Undo(context.Context) error { return nil }

func (t *tidy) Do(ctx context.Context) error {
	if err := files.RemoveAll(ctx, t.files, t.Stage); err != nil {
		return err
	}
	if err := t.forgetKept(t.job); err != nil {
		return err
	}
	return dropMarker(ctx, t.files, t.Marker, t.job, t.Drop...)
}
