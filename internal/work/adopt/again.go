package adopt

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/place"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
	"tivset/internal/site"
	"tivset/internal/work"
)

// Before is what was once on record of a site whose record is lost.
type Before struct {
	Record  *ledger.Site // nil for nothing but what the vault has
	Secrets map[string]secret.Text
}

// ErrNotThere means that nothing of an app is at a place.
var ErrNotThere = errors.New("nothing of it is there")

// unknown is the admin's name while it has to be read from the site.
const unknown = "?"

// Again records a site whose record was lost: as it is there now, completed by what
// was once on record. It is recorded whatever its checks come to; they are told.
func Again(ctx context.Context, d *work.Service, in *hosting.Account, at place.Place, b Before) (check.Examined,
	error) {
	if _, err := in.Files.List(ctx, at.Folder()); errors.Is(err, fs.ErrNotExist) {
		return check.Examined{}, ErrNotThere
	}
	if there, err := b.anything(ctx, in); err != nil || !there {
		return check.Examined{}, cmp.Or(err, ErrNotThere)
	}
	x, secrets, told, err := b.asItIs(ctx, d, in, at)
	if err != nil {
		return check.Examined{}, err
	}
	if x.Job == "" {
		token, err := d.Maker.Token(4)
		if err != nil {
			return check.Examined{}, err
		}
		x.Job = job.NewID(d.Now(), token)
	}
	if err := d.Book.KeepMissing(x.Address, secrets); err != nil {
		return check.Examined{}, err
	}
	if now := secrets[site.DataPassword]; told && !now.Empty() { // the vault's may be of another time
		kept := map[string]secret.Text{site.VaultName(x.Address, site.DataPassword): now}
		if err := d.Book.Vault.Set(kept); err != nil {
			return check.Examined{}, err
		}
	}
	if x.Admin.Name == unknown {
		if d.Examiner.ReadAgain(ctx, in, &x); x.Admin.Name == unknown {
			return check.Examined{}, needed(x.URL)
		}
	}
	before := x.Entries
	done, err := examine(ctx, d, in, &x)
	if err != nil {
		return done, err
	}
	if b.Record != nil { // what was recorded of it, and is there
		there := func(name string) bool {
			is, err := files.Exists(ctx, in.Files, path.Join(x.Folder, name))
			return err == nil && is
		}
		x.Entries = slices.DeleteFunc(slices.Clone(before), func(name string) bool { return !there(name) })
	}
	return done, d.Book.Ledger.PutSite(ctx, x)
}

// anything says whether any of what was on record is there: of a site that was taken
// out of a document root the folder is. Where nothing was on record nobody knows.
func (b Before) anything(ctx context.Context, in *hosting.Account) (bool, error) {
	if b.Record == nil {
		return true, nil
	}
	for _, name := range b.Record.Entries {
		if there, err := files.Exists(ctx, in.Files, path.Join(b.Record.Folder, name)); err != nil || there {
			return there, err
		}
	}
	return false, nil
}

// asItIs is the site's record as far as the account tells: which app and release
// is there, and where its data is; told says whether the site's own files told. The
// rest is as it was on record.
func (b Before) asItIs(ctx context.Context, d *work.Service, in *hosting.Account, at place.Place) (x ledger.Site,
	secrets map[string]secret.Text, told bool, err error) {
	f, err := read(ctx, d, in, at)
	if err != nil && (b.Record == nil || b.recognisable(d)) {
		return x, nil, false, err
	}
	if f == nil || err != nil { // a kit that does not say how to know its app again
		return *b.Record, b.Secrets, false, nil
	}
	name := unknown
	if b.Record != nil {
		name = b.Record.Admin.Name
	}
	now, secrets, err := f.record(d.Now(), answer.Given{answer.AdminName: name,
		answer.AdminPassword: b.Secrets[site.AdminPassword].Reveal()})
	if err != nil {
		return now, nil, false, err
	}
	if b.Record == nil {
		return now, secrets, true, nil
	}
	if now.App != b.Record.App {
		return now, nil, false, fault.New(fault.Usage,
			"there is another app than there was: "+now.App+", not "+b.Record.App, now.URL,
			"Manage it with: "+fault.Call("adopt", now.Address))
	}
	x = *b.Record
	if x.AdminURL = now.AdminURL; b.Record.URL != now.URL || x.AdminURL == "" {
		x.AdminURL = now.URL + strings.TrimPrefix(b.Record.AdminURL, b.Record.URL)
	}
	if x.Release != now.Release {
		x.Archive = now.Archive
	}
	x.Address, x.URL, x.Account, x.Folder, x.Release = now.Address, now.URL, now.Account, now.Folder, now.Release
	if now.Database != nil && (x.Database == nil || x.Database.Name != now.Database.Name) {
		x.Database = now.Database
	}
	all := maps.Clone(b.Secrets)
	maps.Copy(all, secrets) // what the configuration has is what the site uses
	return x, all, true, nil
}

// recognisable says whether the app of the record is known by its kit's marks.
func (b Before) recognisable(d *work.Service) bool {
	k, err := d.Book.Catalogue.Find(b.Record.App)
	return err == nil && k.Known != nil
}

func needed(url string) error {
	return &fault.Error{Kind: fault.Usage,
		What: "the admin's name and password are needed, to see that they work", Where: url,
		Missing: []string{answer.AdminName, answer.AdminPassword},
		Remedy:  "Give them with -a admin.name=… -a admin.password=@FILE. Nothing was touched."}
}
