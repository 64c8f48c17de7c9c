package adopt

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
	"time"

	"tivset/internal/answer"
	"tivset/internal/answer/care"
	"tivset/internal/app/catalogue"
	"tivset/internal/app/config"
	"tivset/internal/app/fill"
	"tivset/internal/app/release"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/place"
	"tivset/internal/question"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
	"tivset/internal/site"
	"tivset/internal/work"
)

// mark is a kit whose marks are in a folder, and the release that they tell.
type mark struct {
	kit     catalogue.Entry
	release string
}

// recognised finds the kit, of some, whose marks are in a folder; nil where there is none.
func recognised(ctx context.Context, kits *catalogue.Catalogue, archives *release.Archives, f files.FS, folder string,
	among []catalogue.Card) (*mark, error) {
	for _, card := range among {
		if card.Known == nil {
			continue
		}
		text, err := files.Read(ctx, f, path.Join(folder, card.Known.File), 1<<20)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		pattern, err := regexp.Compile(card.Known.Pattern)
		if err != nil {
			continue // of a kit that was published with a mistake
		}
		m := pattern.FindSubmatch(text)
		if m == nil {
			continue
		}
		k, err := kits.Find(card.App)
		if err != nil {
			return nil, err
		}
		if err := archives.LookUp(ctx, k.Kit); err != nil {
			return nil, err
		}
		if configured, err := hasConfig(ctx, f, k, folder); err != nil || configured {
			return &mark{k, string(m[1])}, err
		}
	}
	return nil, nil
}

// recognise finds the kit whose marks are in a folder, and the release.
func recognise(ctx context.Context, kits *catalogue.Catalogue, archives *release.Archives, f files.FS,
	folder string) (catalogue.Entry, string, error) {
	all, _, err := kits.Cards()
	if err != nil {
		return catalogue.Entry{}, "", err
	}
	m, err := recognised(ctx, kits, archives, f, folder, all)
	if err != nil {
		return catalogue.Entry{}, "", err
	}
	if m == nil {
		return catalogue.Entry{}, "", fault.New(fault.Usage, "no app that a kit knows is there", folder,
			"See what can be recognised with: "+fault.Call("browse"))
	}
	known := m.kit.Find(m.release)
	if known == nil {
		return m.kit, "", fault.New(fault.Usage, fmt.Sprintf("it is %s %s, a release that the kit does not know",
			m.kit.Title, m.release), folder, "The kit knows "+strings.Join(m.kit.Versions(), ", ")+".")
	}
	return m.kit, known.Release, nil
}

func hasConfig(ctx context.Context, f files.FS, k catalogue.Entry, folder string) (bool, error) {
	for _, c := range k.Config {
		there, err := files.Exists(ctx, f, path.Join(folder, c.Path))
		if err != nil || !there && !c.Optional {
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
		if errors.Is(err, fs.ErrNotExist) && c.Optional {
			continue
		}
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
		found[x.Answer()] = cmp.Or(strings.Join(chosen, ", "), map[bool]string{true: "no",
			false: "none"}[x.Kind == "yes-no" ||
			x.Kind == ""])
	}
	return nil
}

// found is an app that was recognised, and what its configuration holds.
type found struct {
	account *account.Account
	at      place.Place
	kit     catalogue.Entry
	release string
	values  fill.Values
}

// read recognises the app at a place and reads its configuration.
func read(ctx context.Context, d *work.Service, in *hosting.Account, at place.Place) (*found, error) {
	k, known, err := recognise(ctx, d.Book.Catalogue, d.Archives, in.Files, at.Folder())
	if err != nil {
		return nil, err
	}
	values, err := readConfig(ctx, in.Files, k, at.Folder())
	if err != nil {
		return nil, err
	}
	return &found{in.Account, at, k, known, values}, partsThere(ctx, in.Files, k, at.Folder(), values)
}

// record describes what was found as a site, with its secrets. Given are what
// the owner says of it.
func (f *found) record(now time.Time, given answer.Given) (ledger.Site, map[string]secret.Text, error) {
	now = now.UTC()
	a, at, k, version, found := f.account, f.at, f.kit, f.release, f.values
	name, password := cmp.Or(given[answer.AdminName], found[answer.AdminName]), given[answer.AdminPassword]
	if name == "" || password == "" {
		return ledger.Site{}, nil, needed(at.URL())
	}
	url := at.URL()
	x := ledger.Site{Address: at.Address(), URL: url, App: k.App, Release: version, Account: a.Name, Folder: at.Folder(),
		Title: cmp.Or(given["title"], found["title"], k.Title), Language: cmp.Or(found["language"], append(k.Languages,
			"en")[0]),
		Admin: ledger.Admin{Name: name, Email: cmp.Or(given[answer.AdminEmail], found[answer.AdminEmail])}, InstalledAt: now,
		UpdatedAt: now, CheckedAt: &now, Adopted: true,
		Care: care.Care{Accepts: "nothing", After: care.Usual.After, Between: care.Usual.Between,
			Rehearse: care.Usual.Rehearse, Backups: "none", Notify: care.Usual.Notify}}
	admin, err := fill.Text(k.Admin, fill.Values{answer.AdminFolder: found[answer.AdminFolder]})
	if err != nil {
		return x, nil, err
	}
	x.AdminURL = url + strings.TrimPrefix(admin, "/")
	if outside, ok := strings.CutPrefix(found["data.folder"], filepath.ToSlash(a.ServerTop())+"/"); ok &&
		k.Place.DataFolder {
		x.DataFolder = outside
	}
	secrets := map[string]secret.Text{site.AdminPassword: secret.Of(password)}
	for _, n := range k.VaultNames() {
		if v := found[n]; v != "" {
			secrets[n] = secret.Of(v)
		}
	}
	for n, v := range found {
		v = answered(k, n, v)
		id := strings.TrimPrefix(n, "answer.")
		if q := k.Question(id); q != nil && strings.HasPrefix(n, "answer.") && !q.Secret {
			x.Chosen = append(x.Chosen, ledger.Choice{ID: id, Answer: v})
		} else if strings.HasPrefix(n, "extra.") || slices.Contains([]string{answer.Subtitle, answer.AdminFirstName,
			answer.AdminLastName,
			"support.email"}, n) {
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
	secrets[site.DataPassword] = secret.Of(found[answer.DataPassword])
	return x, secrets, nil
}

// answered is what a configuration says of a question as its owner answered it.
func answered(k catalogue.Entry, name, value string) string {
	kind := ""
	if q := k.Question(strings.TrimPrefix(name, "answer.")); q != nil {
		kind = q.Kind
	}
	for _, x := range k.Extras {
		if x.Answer() == name {
			kind = cmp.Or(x.Kind, "yes-no")
		}
	}
	if yesNo := map[string]string{"true": "yes", "false": "no"}[value]; kind == "yes-no" && yesNo != "" {
		return yesNo
	}
	return value
}

// foundDatabase finds the account's server that a configuration names.
func foundDatabase(a *account.Account, k catalogue.Entry, found fill.Values) (*ledger.Database, error) {
	for i := range a.Databases {
		d := &a.Databases[i]
		host, port := d.HostAndPort()
		if d.InFiles() {
			file := found["data.file"]
			name := strings.TrimSuffix(path.Base(file), ".sqlite")
			if file != "" && strings.HasSuffix(file, database.File(d.Server, name)) {
				return &ledger.Database{Engine: d.Engine, Server: d.Name, Name: name, Tables: found["tables"],
					From: question.DataExisting}, nil
			}
			continue
		}
		same := found[answer.DataServer] == d.ForSites || found["data.host"] == host &&
			(found["data.port"] == port || found["data.port"] == "")
		if same && found[answer.DataName] != "" {
			return &ledger.Database{Engine: d.Engine, Server: d.Name, Name: found[answer.DataName], User: found[answer.DataUser],
				Tables: found["tables"], From: question.DataExisting}, nil
		}
	}
	return nil, fault.New(fault.Usage, "its database server is not one of the account's",
		cmp.Or(found[answer.DataServer], found["data.host"], "not told by the configuration"),
		"Add the server to the account, with for-sites: as the configuration has it.")
}
