package release

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"tivset/internal/app/archive"
	"tivset/internal/app/catalogue"
	"tivset/internal/app/debian"
	"tivset/internal/app/fetch"
	"tivset/internal/app/kit"
	"tivset/internal/atomicfile"
	"tivset/internal/fault"
)

// Archives are the archives of releases on this machine.
type Archives struct {
	Folder string       // where they are kept, by their checksums
	Client *http.Client // fetches those that are elsewhere

	Told func(Telling) // hears of what is fetched, of several things at a time too; may be nil

	Debian  *debian.Archive // where packages are had from
	Sources string          // the file in which the owner may name one

	// Accepted says whether the owner accepted an archive for a site of the app before;
	// may be nil.
	Accepted func(ctx context.Context, app, sum string) bool

	shared shared
}

// Fetch gives a release's archive as a file of this machine, in a form that is read
// quickly, its checksum verified: from the cache, from the file given, from the kit, or over https. A
// decision is needed for one that the owner has to fetch, and for one that they fetched and
// whose checksum the kit does not know.
func (a *Archives) Fetch(ctx context.Context, k catalogue.Entry, r *kit.Release, given Given) (string, error) {
	if given.File != "" { // which may be another the next time
		return a.have(ctx, k, r, given)
	}
	return a.shared.get(ctx, a.Folder, k, r, func() (string, error) { return a.have(ctx, k, r, given) })
}

func (a *Archives) have(ctx context.Context, k catalogue.Entry, r *kit.Release, given Given) (string, error) {
	if r.Archive.Packages != nil && given.File == "" {
		return a.fromPackages(ctx, k, r)
	}
	if given.File != "" && r.Archive.Name != "" {
		name, err := a.accepted(ctx, k, r, given)
		if err != nil {
			return "", err
		}
		return quick(ctx, name, r), nil
	}
	name := filepath.Join(a.Folder, strings.ToLower(r.Archive.SHA256))
	if verify(name, r.Archive.SHA256) == nil {
		return quick(ctx, name, r), nil
	}
	of := "the archive of " + k.Title + " " + r.Release
	if from := r.Archive.From; given.File == "" && strings.HasPrefix(from, "https://") {
		return a.download(ctx, k, r, name)
	}
	open, where := a.source(k, r, given.File)
	if open == nil {
		return "", fault.New(fault.NeedsConfirmation, of+" has to be fetched by you", r.Archive.Name,
			"Run: "+r.Archive.Fetch+"; then install with --archive FILE")
	}
	content, err := open()
	if err != nil {
		return "", fault.New(fault.Failed, of+" cannot be had", where,
			"Check the connection and try again. Nothing was touched.").Wrap(err)
	}
	defer content.Close()
	if err := keep(content, name, r.Archive.SHA256); err != nil {
		return "", another(of, where, err)
	}
	return quick(ctx, name, r), nil
}

func another(of, where string, err error) error {
	return fault.New(fault.Failed, of+" is not the one that the kit names", where,
		"It may be damaged or exchanged: fetch it again, and tell the kit's author when it stays so. Nothing was "+
			"touched.").Wrap(err)
}

// download fetches an archive over https, and goes on with what came of it before.
func (a *Archives) download(ctx context.Context, k catalogue.Entry, r *kit.Release, name string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, downloadTime)
	defer cancel()
	of := "the archive of " + k.Title + " " + r.Release
	ctx, done := a.telling(ctx, "Fetch "+k.Title+" "+r.Release)
	defer done()
	err := fetch.Whole(ctx, fetch.At(a.Client, r.Archive.From), fetch.Wanted{Name: name, SHA256: r.Archive.SHA256,
		Most: archive.DefaultLimits.Bytes})
	switch {
	case errors.Is(err, fetch.ErrOther):
		return "", another(of, r.Archive.From, err)
	case err != nil:
		return "", fault.New(fault.Failed, of+" cannot be had", r.Archive.From,
			"Check the connection and try again: what came of it is kept. Nothing was touched.").Wrap(err)
	}
	return quick(ctx, name, r), nil
}

// Kept gives an archive that is in the cache, by its checksum, which is verified; ""
// where it is not.
func (a *Archives) Kept(sum string) string {
	if !sumForm(sum) {
		return ""
	}
	name := filepath.Join(a.Folder, sum)
	if verify(name, sum) != nil {
		return ""
	}
	if _, err := os.Stat(name + quickEnd); err == nil {
		return name + quickEnd
	}
	return name
}

// SumOf is the checksum of an archive's file in the cache.
func SumOf(file string) string { return strings.TrimSuffix(filepath.Base(file), quickEnd) }

// quickEnd ends the name of an archive's form that is read quickly.
const quickEnd = ".tar.zst"

// quick gives a form of an archive that is read quickly, made once and kept beside
// it; the archive itself where it is that, or where none can be made.
func quick(ctx context.Context, name string, r *kit.Release) string {
	made := name + quickEnd
	if _, err := os.Stat(made); err == nil {
		return made
	}
	file, err := os.Open(name)
	if err != nil {
		return name
	}
	defer file.Close()
	if slow, err := archive.Slow(file); err != nil || !slow {
		return name
	}
	to, err := atomicfile.Create(made, 0o600)
	if err != nil {
		return name
	}
	defer to.Cancel()
	if archive.Quicken(ctx, file, to, limitsOf(r)) != nil || to.Replace() != nil {
		return name // reading it says what is wrong
	}
	return made
}

type opener func() (io.ReadCloser, error)

// source says where an archive comes from; a nil opener when from nowhere.
func (a *Archives) source(k catalogue.Entry, r *kit.Release, given string) (opener, string) {
	from := r.Archive.From
	switch {
	case given != "":
		return func() (io.ReadCloser, error) { return os.Open(given) }, given
	case from != "":
		return func() (io.ReadCloser, error) { return k.Files().Open(from) }, from
	}
	return nil, ""
}

// downloadTime is how long a download may take in all.
const downloadTime = 30 * time.Minute

// keep stores an archive in the cache, whole and verified or not at all.
func keep(content io.Reader, name, sum string) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	file, err := atomicfile.Create(name, 0o600)
	if err != nil {
		return err
	}
	defer file.Cancel()
	if _, err := io.Copy(file, content); err != nil {
		return err
	}
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	if err := archive.Verify(file, sum); err != nil {
		return err
	}
	return file.Replace()
}

func verify(name, sum string) error {
	file, err := os.Open(name)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return fs.ErrNotExist
		}
		return err
	}
	defer file.Close()
	return archive.Verify(file, sum)
}
