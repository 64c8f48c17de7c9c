package site

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/app/catalogue"
	"tivset/internal/app/config"
	"tivset/internal/app/fill"
	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/place"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
)

// AdoptRequest is an app that was installed by other means.
type AdoptRequest struct {
	At      string
	Account string
	Answers answer.Given // admin.name, admin.password, admin.email, title
}

// Adopt takes charge of an app that is there: it is found by its kit's marks,
// its configuration is read, and nothing of it is changed. It is recorded only
// when the admin can sign in.
func (s *Service) Adopt(ctx context.Context, r AdoptRequest) (Examined, error) {
	a, err := s.account(r.Account, r.At)
	if err != nil {
		return Examined{}, err
	}
	at, err := resolve(r.At, a.Domains)
	if err != nil {
		return Examined{}, err
	}
	if _, err := s.Ledger.Site(ctx, at.Address()); err == nil {
		return Examined{}, fault.New(fault.Usage, "this site is known already", at.Address(), "Look at it with: tivset show "+at.Address())
	}
	fsys, err := s.OpenFiles(ctx, a)
	if err != nil {
		return Examined{}, unreachable(a, err)
	}
	defer fsys.Close()
	k, version, err := s.recognise(ctx, fsys, at.Folder())
	if err != nil {
		return Examined{}, err
	}
	found, err := readConfig(ctx, fsys, k, at.Folder())
	if err != nil {
		return Examined{}, err
	}
	if err := partsThere(ctx, fsys, k, at.Folder(), found); err != nil {
		return Examined{}, err
	}
	x, secrets, err := s.adopted(a, at, k, version, found, r.Answers)
	if err != nil {
		return Examined{}, err
	}
	return s.takeCharge(ctx, fsys, x, secrets)
}

// takeCharge records a site that passes its checks; of one that does not nothing
// is kept.
func (s *Service) takeCharge(ctx context.Context, fsys files.FS, x ledger.Site, secrets map[string]secret.Text) (Examined, error) {
	named := map[string]secret.Text{}
	for name, v := range secrets {
		named[vaultName(x.Address, name)] = v
	}
	if err := s.Vault.Set(named); err != nil {
		return Examined{}, err
	}
	done, err := s.looked(ctx, fsys, &x)
	for _, c := range done.Checks {
		if err == nil && !c.OK && slices.Contains([]string{frontPage, "sign-in", "database"}, c.Name) {
			err = fault.New(fault.Failed, "the site was found and does not pass the check of the "+c.Name, x.URL, "Nothing was recorded. "+c.Detail)
		}
	}
	if err == nil {
		err = s.Ledger.PutSite(ctx, x)
	}
	if err != nil {
		return done, errors.Join(err, s.Vault.Forget(vaultName(x.Address, "")))
	}
	return done, nil
}

// looked examines a site that is not recorded yet, and completes its record.
func (s *Service) looked(ctx context.Context, fsys files.FS, x *ledger.Site) (Examined, error) {
	done := Examined{Address: x.Address, App: x.App, Checks: []Checked{}}
	p, err := s.planOf(*x)
	if err != nil {
		return done, err
	}
	e := &env{Service: s, account: p.account, files: fsys, plan: p, count: func(int64, int64, string) {}}
	if x.Entries, err = e.entriesOf(ctx, p); err != nil {
		return done, err
	}
	l := &looking{env: e, site: *x}
	if err := l.all(ctx); err != nil {
		return done, err
	}
	done.Checks, done.Compared, done.OK = l.out, l.found, !slices.ContainsFunc(l.out, func(c Checked) bool { return !c.OK })
	l.site.Health = map[bool]string{true: "good", false: "bad"}[done.OK]
	*x = l.site
	return done, nil
}

// entriesOf lists what in the folder is the app's: what its release has; where
// that cannot be had, all that is nobody else's.
func (e *env) entriesOf(ctx context.Context, p *Plan) ([]string, error) {
	inside, err := e.files.List(ctx, p.Place.Folder)
	if err != nil {
		return nil, err
	}
	others, err := e.foreign(ctx, p)
	if err != nil {
		return nil, err
	}
	_, unknown := e.releaseOf(ctx, p)
	var out []string
	for _, i := range inside {
		theirs := others.has(path.Join(p.Place.Folder, i.Name)) || others.below(path.Join(p.Place.Folder, i.Name))
		own := slices.ContainsFunc(p.kit.Config, func(c kit.Config) bool { return strings.HasPrefix(c.Path+"/", i.Name+"/") })
		if !theirs && (unknown != nil || own || i.Name == p.Place.AdminFolder || contains(p.survey.Entries, i.Name)) {
			out = append(out, i.Name)
		}
	}
	return out, nil
}

// recognise finds the kit whose marks are in a folder, and the release.
func (s *Service) recognise(ctx context.Context, f files.FS, folder string) (catalogue.Entry, string, error) {
	all, err := s.Catalogue.All()
	if err != nil {
		return catalogue.Entry{}, "", err
	}
	for _, k := range all {
		if k.Known == nil {
			continue
		}
		text, err := files.Read(ctx, f, path.Join(folder, k.Known.File), 1<<20)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return k, "", err
		}
		m := regexp.MustCompile(k.Known.Pattern).FindSubmatch(text)
		if m == nil {
			continue
		}
		configured, err := hasConfig(ctx, f, k, folder)
		if err != nil {
			return k, "", err
		}
		if !configured {
			continue
		}
		if k.Find(string(m[1])) == nil {
			return k, "", fault.New(fault.Usage, fmt.Sprintf("it is %s %s, a release that the kit does not know", k.Title, m[1]), folder, "The kit knows "+strings.Join(k.Versions(), ", ")+".")
		}
		return k, string(m[1]), nil
	}
	return catalogue.Entry{}, "", fault.New(fault.Usage, "no app that a kit knows is there", folder, "See what can be recognised with: tivset browse")
}

func hasConfig(ctx context.Context, f files.FS, k catalogue.Entry, folder string) (bool, error) {
	for _, c := range k.Config {
		there, err := files.Exists(ctx, f, path.Join(folder, c.Path))
		if err != nil || !there {
			return false, err
		}
	}
	return true, nil
}

// readConfig reads back what the app's configuration holds.
func readConfig(ctx context.Context, f files.FS, k catalogue.Entry, folder string) (fill.Values, error) {
	found := fill.Values{}
	for _, c := range k.Config {
		if len(c.Constant) > 0 {
			continue
		}
		text, err := files.Read(ctx, f, path.Join(folder, c.Path), 4<<20)
		if err != nil {
			return nil, err
		}
		template, err := fs.ReadFile(k.Files(), c.Template)
		if err != nil {
			return nil, err
		}
		for name, v := range config.Read(c.Format, string(template), string(text)) {
			found[name] = v
		}
	}
	for name, v := range found { // values put together from others
		text, ok := k.Values[strings.TrimPrefix(name, "value.")]
		if !strings.HasPrefix(name, "value.") || !ok {
			continue
		}
		for _, template := range append([]string{text.All}, slices.Collect(maps.Values(text.By))...) {
			if parts, ok := fill.Match(template, v); ok && template != "" {
				for n, part := range parts {
					if found[n] == "" {
						found[n] = part
					}
				}
				break
			}
		}
	}
	return found, nil
}

// partsThere tells from the folder which extras were chosen, where the
// configuration does not say.
func partsThere(ctx context.Context, f files.FS, k catalogue.Entry, folder string, found fill.Values) error {
	for _, x := range k.Extras {
		if len(x.Parts) == 0 || found[x.Answer()] != "" {
			continue
		}
		var chosen []string
		for _, option := range slices.Sorted(maps.Keys(x.Parts)) {
			there := 0
			for _, part := range x.Parts[option] {
				is, err := files.Exists(ctx, f, path.Join(folder, part))
				if err != nil {
					return err
				}
				if is {
					there++
				}
			}
			if there == len(x.Parts[option]) {
				chosen = append(chosen, option)
			}
		}
		found[x.Answer()] = cmp.Or(strings.Join(chosen, ", "), map[bool]string{true: "no", false: "none"}[x.Kind == "yes-no" || x.Kind == ""])
	}
	return nil
}

// adopted describes what was found as a site.
func (s *Service) adopted(a *account.Account, at place.Place, k catalogue.Entry, version string, found fill.Values, given answer.Given) (ledger.Site, map[string]secret.Text, error) {
	now := s.Now().UTC()
	name, password := cmp.Or(given["admin.name"], found["admin.name"]), given["admin.password"]
	if name == "" || password == "" {
		return ledger.Site{}, nil, &fault.Error{Kind: fault.Usage, What: "the admin's name and password are needed, to see that they work", Where: at.URL(), Missing: []string{"admin.name", "admin.password"},
			Remedy: "Give them with -a admin.name=… -a admin.password=@FILE. Nothing was touched."}
	}
	url := at.URL()
	x := ledger.Site{Address: at.Address(), URL: url, App: k.App, Release: version, Account: a.Name, Folder: at.Folder(),
		Title: cmp.Or(given["title"], found["title"], k.Title), Language: cmp.Or(found["language"], append(k.Languages, "en")[0]),
		Admin: ledger.Admin{Name: name, Email: cmp.Or(given["admin.email"], found["admin.email"])}, InstalledAt: now, UpdatedAt: now, CheckedAt: &now, Adopted: true,
		Care: ledger.Care{Updates: "off", Backup: "before", Extensions: "off", Themes: "off", PutBack: "on", Mails: "failures"}}
	admin, err := fill.Text(k.Admin, fill.Values{"admin.folder": found["admin.folder"]})
	if err != nil {
		return x, nil, err
	}
	x.AdminURL = url + strings.TrimPrefix(admin, "/")
	if outside, ok := strings.CutPrefix(found["data.folder"], filepath.ToSlash(a.ServerTop())+"/"); ok && k.Place.DataFolder {
		x.DataFolder = outside
	}
	secrets := map[string]secret.Text{adminPassword: secret.Of(password)}
	for _, n := range k.VaultNames() {
		if v := found[n]; v != "" {
			secrets[n] = secret.Of(v)
		}
	}
	for n, v := range found {
		id := strings.TrimPrefix(n, "ask.")
		if q := k.Question(id); q != nil && strings.HasPrefix(n, "ask.") && !q.Secret {
			x.Chosen = append(x.Chosen, ledger.Choice{ID: id, Answer: v})
		} else if strings.HasPrefix(n, "extra.") || contains([]string{"tagline", "admin.first-name", "admin.last-name", "support.email"}, n) {
			x.Chosen = append(x.Chosen, ledger.Choice{ID: n, Answer: v})
		}
	}
	slices.SortFunc(x.Chosen, func(a, b ledger.Choice) int { return strings.Compare(a.ID, b.ID) })
	if !k.Find(version).NeedsDatabase() {
		return x, secrets, nil
	}
	if x.Database, err = foundDatabase(a, k, found); err != nil {
		return x, nil, err
	}
	secrets[dataPassword] = secret.Of(found["data.password"])
	return x, secrets, nil
}

// foundDatabase finds the account's server that a configuration names.
func foundDatabase(a *account.Account, k catalogue.Entry, found fill.Values) (*ledger.Database, error) {
	for i := range a.Databases {
		d := &a.Databases[i]
		host, port := hostAndPort(d.ForSites, d.Engine)
		if d.Engine == account.SQLite {
			file := found["data.file"]
			name := strings.TrimSuffix(path.Base(file), ".sqlite")
			if file != "" && strings.HasSuffix(file, database.File(d.Server, name)) {
				return &ledger.Database{Engine: d.Engine, Server: d.Name, Name: name, Tables: found["tables"], From: dataExisting}, nil
			}
			continue
		}
		same := found["data.server"] == d.ForSites || found["data.host"] == host && (found["data.port"] == port || found["data.port"] == "")
		if same && found["data.name"] != "" {
			return &ledger.Database{Engine: d.Engine, Server: d.Name, Name: found["data.name"], User: found["data.user"], Tables: found["tables"], From: dataExisting}, nil
		}
	}
	return nil, fault.New(fault.Usage, "its database server is not one of the account's", cmp.Or(found["data.server"], found["data.host"], "not told by the configuration"), "Add the server to the account, with for-sites: as the configuration has it.")
}
