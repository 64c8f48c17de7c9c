package site

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/courier"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
)

// env is what the steps of one job share. In a recovery plan is nil: an undo
// needs only what is in the journal.
type env struct {
	*Service
	account *account.Account
	files   files.FS
	plan    *Plan
	job     string
	checks  []Checked
	entries []string         // what was put in place
	once    bool             // checks are tried once: a wrong password sent again and again locks people out
	made    []string         // folders that were made for it, innermost first
	courier *courier.Courier // one that works in the account, or nil
	carries bool             // it can unpack there
	count   func(count, total int64, unit string)
}

// kinds makes an empty step of each kind.
var kinds = map[string]func(*env) job.Step{
	"claim":           func(e *env) job.Step { return &claim{env: e} },
	"keep-secrets":    func(e *env) job.Step { return &keepSecrets{env: e} },
	"make-database":   func(e *env) job.Step { return &makeDatabase{env: e} },
	"make-user":       func(e *env) job.Step { return &makeUser{env: e} },
	"prove-domain":    func(e *env) job.Step { return &proveDomain{env: e} },
	"set-timers":      func(e *env) job.Step { return &setTimers{env: e} },
	"send-courier":    func(e *env) job.Step { return &sendCourier{env: e} },
	"dismiss-courier": func(e *env) job.Step { return &dismissCourier{env: e} },
	"use-database":    func(e *env) job.Step { return &useDatabase{env: e} },
	"make-folder":     func(e *env) job.Step { return &makeFolder{env: e} },
	"set-aside":       func(e *env) job.Step { return &setAside{env: e} },
	"unpack":          func(e *env) job.Step { return &unpack{env: e} },
	"set-up":          func(e *env) job.Step { return &setUp{env: e} },
	"put-in-place":    func(e *env) job.Step { return &putInPlace{env: e} },
	"check":           func(e *env) job.Step { return &checkSite{env: e} },
	"record":          func(e *env) job.Step { return &recordSite{env: e} },
	"tidy":            func(e *env) job.Step { return &tidy{env: e} },
	"back-up":         func(e *env) job.Step { return &backUp{env: e} },
	"save-site":       func(e *env) job.Step { return &saveSite{env: e} },
	"drop-files":      func(e *env) job.Step { return &dropFiles{env: e} },
	"keep-data":       func(e *env) job.Step { return &keepData{env: e} },
	"load-data":       func(e *env) job.Step { return &loadData{env: e} },
	"unpack-backup":   func(e *env) job.Step { return &unpackBackup{env: e} },
	"swap":            func(e *env) job.Step { return &swap{env: e} },
	"prepare":         func(e *env) job.Step { return &prepared{env: e} },
	"unclaim":         func(e *env) job.Step { return &unclaim{env: e} },
	"drop-here":       func(*env) job.Step { return &dropHere{} },
	"remove-old":      func(e *env) job.Step { return &removal{env: e} },
	"set-password":    func(e *env) job.Step { return &setPassword{env: e} },
	"swap-secrets":    func(e *env) job.Step { return &swapSecrets{env: e} },
}

// decoder makes steps from a journal.
func (e *env) decoder() job.Decode {
	return func(kind string, fields json.RawMessage) (job.Step, error) {
		empty, known := kinds[kind]
		if !known {
			return nil, fmt.Errorf("the journal has a step %q, which this release does not know", kind)
		}
		s := empty(e)
		return s, json.Unmarshal(fields, s)
	}
}

// remembered are the answers that configuration may hold and that a site's
// record has no field for.
func (p *Plan) remembered() map[string]*string {
	return map[string]*string{"tagline": &p.Site.Tagline, "admin.first-name": &p.Admin.First, "admin.last-name": &p.Admin.Last, "support.email": &p.Admin.Support}
}

// claim marks the place as being worked on, in the account itself, where
// somebody on another machine sees it too.
type claim struct {
	*env    `json:"-"`
	Marker  string `json:"marker"`
	Address string `json:"address"`
	Store   string `json:"store"`

	site *ledger.Site // the site that is to be there, as it was looked at; nil for none
}

// marker is the content of the file, docs/formats.md.
type marker struct {
	Job     string    `json:"job"`
	Address string    `json:"address"`
	Who     string    `json:"who"`
	Since   time.Time `json:"since"`
}

func (*claim) Kind() string  { return "claim" }
func (*claim) Title() string { return "Claim the place" }

func (c *claim) Do(ctx context.Context) error {
	text, err := json.Marshal(marker{c.job, c.Address, c.Who, c.Now().UTC()})
	if err != nil {
		return err
	}
	// Another job may take the empty store away between these two calls.
	for range 3 {
		if _, err = files.MkdirAll(ctx, c.files, path.Dir(c.Marker), 0o700); err != nil {
			return err
		}
		if err = files.Write(ctx, c.files, c.part(), text, 0o600); !errors.Is(err, fs.ErrNotExist) {
			break
		}
	}
	if err != nil {
		return err
	}
	// The mark appears whole or not at all, and never in another's place.
	if err = c.files.Rename(ctx, c.part(), c.Marker); errors.Is(err, fs.ErrExist) {
		return c.busy(ctx)
	}
	if err != nil {
		return err
	}
	return c.asPlanned(ctx)
}

// asPlanned makes sure that no other job has ended here since the plan was
// made: a site's secrets must not be written over, and a change to one be made
// of what it is now.
func (c *claim) asPlanned(ctx context.Context) error {
	now, err := c.Ledger.Site(ctx, c.Address)
	switch {
	case errors.Is(err, fs.ErrNotExist) && c.site == nil:
		return nil
	case err == nil && c.site == nil:
		return siteIsThere(c.plan)
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return err
	case err == nil && now.LastJob == c.site.LastJob && now.Job == c.site.Job:
		return nil
	}
	return fault.New(fault.Decision, "another job has changed the site meanwhile", c.Address, "Look at it with tivset show "+c.Address+", and run the command again.")
}

// part is the mark while it is written.
func (c *claim) part() string { return path.Join(path.Dir(c.Marker), c.job+".part") }

func (c *claim) Undo(ctx context.Context) error {
	if err := c.files.Remove(ctx, c.part()); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return dropMarker(ctx, c.files, c.Marker, c.job, path.Dir(c.Marker), c.Store)
}

// dropEmpty takes folders away that hold nothing, innermost first.
func dropEmpty(ctx context.Context, f files.FS, folders ...string) error {
	for _, name := range folders {
		inside, err := f.List(ctx, name)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if err == nil && len(inside) == 0 {
			_ = f.Remove(ctx, name) // somebody may have put something in meanwhile
		}
	}
	return nil
}

// keepSecrets puts the site's passwords and keys into the vault.
type keepSecrets struct {
	*env   `json:"-"`
	Prefix string `json:"prefix"`
}

func (*keepSecrets) Kind() string  { return "keep-secrets" }
func (*keepSecrets) Title() string { return "Keep passwords in the vault" }

func (k *keepSecrets) Do(context.Context) error {
	all := k.plan.secrets
	named := make(map[string]secretText, len(all))
	for name, s := range all {
		named[k.Prefix+name] = s
	}
	return k.Vault.Set(named)
}

func (k *keepSecrets) Undo(context.Context) error { return k.Vault.Forget(k.Prefix) }

// makeDatabase makes the site's database.
type makeDatabase struct {
	*env   `json:"-"`
	Server string `json:"server"`
	Name   string `json:"name"`
	Taken  bool   `json:"taken,omitempty"` // it was there already: not ours to drop
}

func (*makeDatabase) Kind() string    { return "make-database" }
func (m *makeDatabase) Title() string { return "Create the database " + m.Name }

func (m *makeDatabase) Do(ctx context.Context) error {
	return m.withServer(ctx, m.Server, func(s database.Server) error {
		err := s.CreateDatabase(ctx, m.Name)
		m.Taken = errors.Is(err, database.ErrTaken)
		return err
	})
}

func (m *makeDatabase) Undo(ctx context.Context) error {
	if m.Taken {
		return nil
	}
	return m.withServer(ctx, m.Server, func(s database.Server) error { return s.DropDatabase(ctx, m.Name) })
}

// makeUser makes the site's database user and signs in as it.
type makeUser struct {
	*env     `json:"-"`
	Server   string   `json:"server"`
	Name     string   `json:"name"`
	Clients  []string `json:"clients"`
	Database string   `json:"database"`
	Taken    bool     `json:"taken,omitempty"`
}

func (*makeUser) Kind() string    { return "make-user" }
func (m *makeUser) Title() string { return "Create the database user " + m.Name }

func (m *makeUser) user() database.User {
	return database.User{Name: m.Name, Clients: m.Clients, Database: m.Database}
}

func (m *makeUser) Do(ctx context.Context) error {
	u := m.user()
	u.Password = m.plan.secrets[dataPassword]
	err := m.withServer(ctx, m.Server, func(s database.Server) error {
		users, err := s.Users(ctx)
		if err != nil {
			return err
		}
		if m.Taken = contains(users, m.Name); m.Taken {
			return database.ErrTaken
		}
		return s.CreateUser(ctx, u)
	})
	if err != nil {
		return err
	}
	data, err := m.openData(ctx)
	if err != nil {
		return fmt.Errorf("sign in as the new user: %w", err)
	}
	return data.Close()
}

func (m *makeUser) Undo(ctx context.Context) error {
	if m.Taken {
		return nil
	}
	return m.withServer(ctx, m.Server, func(s database.Server) error { return s.DropUser(ctx, m.user()) })
}

// withServer connects for one step: a server that went away and came back is
// found again.
func (e *env) withServer(ctx context.Context, name string, use func(database.Server) error) error {
	d := e.account.Database(name, "")
	if d == nil {
		return fmt.Errorf("the account has no database server %s any more", name)
	}
	server, err := e.connect(ctx, e.account, d)
	if err != nil {
		return err
	}
	return errors.Join(use(server), server.Close())
}

// openData signs in to the site's database as the site does.
func (e *env) openData(ctx context.Context) (database.Session, error) {
	p := e.plan
	d := p.place.Domain
	return e.signIn(ctx, p.server, p.loginOf(p.server), courier.Place{Root: d.Folder, URL: d.URL, Store: e.account.Store})
}

// recordSite writes the site into the ledger, which settles the job.
type recordSite struct {
	*env    `json:"-"`
	Address string `json:"address"`

	as func(*ledger.Site) // what else is to be noted, or nil
}

func (*recordSite) Kind() string  { return "record" }
func (*recordSite) Title() string { return "Record the site" }
func (*recordSite) Settles() bool { return true }

func (r *recordSite) Do(ctx context.Context) error {
	s, err := r.site(ctx)
	if err != nil {
		return err
	}
	if r.as != nil {
		r.as(&s)
	}
	return r.Ledger.PutSite(ctx, s)
}

func (r *recordSite) Undo(ctx context.Context) error { return r.Ledger.DropSite(ctx, r.Address) }

// site describes the plan as the site that it became.
func (e *env) site(ctx context.Context) (ledger.Site, error) {
	p := e.plan
	nested, err := e.others(ctx, p)
	if err != nil {
		return ledger.Site{}, err
	}
	count, bytes, err := files.Count(ctx, e.files, p.Place.Folder, func(name string) bool { return contains(nested, name) })
	if err != nil {
		return ledger.Site{}, err
	}
	now := e.Now().UTC()
	s := ledger.Site{
		Address: p.place.Address(), URL: p.Place.URL, AdminURL: p.adminURL(), App: p.App, Release: p.Release,
		Account: p.Account, Folder: p.Place.Folder, Language: p.Site.Language, Title: p.Site.Title,
		Admin: ledger.Admin{Name: p.Admin.Name, Email: p.Admin.Email}, Files: count, Bytes: bytes,
		InstalledAt: now, UpdatedAt: now, CheckedAt: &now, Care: p.Care, Health: "good", Job: e.job, Entries: e.entries,
		DataFolder: p.Place.DataFolder, SetAside: p.Changes.SetAside, FoldersMade: e.made,
	}
	for id, text := range p.remembered() {
		if *text != "" {
			s.Chosen = append(s.Chosen, ledger.Choice{ID: id, Answer: *text})
		}
	}
	slices.SortFunc(s.Chosen, func(a, b ledger.Choice) int { return strings.Compare(a.ID, b.ID) })
	for _, t := range append(slices.Clone(p.Site.Asked), p.Site.Extras...) {
		if !t.Secret {
			s.Chosen = append(s.Chosen, ledger.Choice{ID: t.ID, Answer: t.Answer})
		}
	}
	if p.Data != nil {
		s.Database = recorded(p)
	}
	if p.kit.Licence.MustAccept {
		s.Licence = &ledger.Accepted{Name: p.kit.Licence.Name, Release: p.Release, At: now}
	}
	return s, nil
}
