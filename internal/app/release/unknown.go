package release

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strings"

	"tivset/internal/app/archive"
	"tivset/internal/app/catalogue"
	"tivset/internal/app/kit"
	"tivset/internal/app/version"
	"tivset/internal/fault"
)

// Given is a release's archive as the owner has it: a file of this machine. Sum is the
// SHA-256 that the owner says is right, though the kit does not know it; empty for none.
type Given struct {
	File, Sum string
}

// Unknown is an archive that the owner fetched and whose checksum the kit does not know.
// It is the cause of the fault that asks the owner.
type Unknown struct {
	Sum  string // SHA-256 of the file
	Says string // the release that it is by its marks; empty where the kit has none
}

// Error says it in one line.
func (u *Unknown) Error() string { return "its checksum is " + u.Sum }

// accepted keeps an archive that the owner fetched, under its own checksum, when the kit
// knows it or the owner accepts it: now, or for another site before.
func (a *Archives) accepted(ctx context.Context, k catalogue.Entry, r *kit.Release, given Given) (string, error) {
	sum, err := sumOf(given.File)
	if err != nil {
		return "", fault.New(fault.Usage, "the archive cannot be read", given.File, "Check its name.").Wrap(err)
	}
	if !strings.EqualFold(sum, r.Archive.SHA256) {
		u := &Unknown{Sum: sum}
		if u.Says, err = says(ctx, k, r, given.File); err != nil {
			return "", err
		}
		before := a.Accepted != nil && a.Accepted(ctx, k.App, sum)
		if !before && !strings.EqualFold(given.Sum, sum) {
			return "", u.ask(k, r, given)
		}
	}
	file, err := os.Open(given.File)
	if err != nil {
		return "", err
	}
	defer file.Close()
	name := filepath.Join(a.Folder, sum)
	return name, keep(file, name, sum)
}

// ask has the owner decide.
func (u *Unknown) ask(k catalogue.Entry, r *kit.Release, given Given) error {
	f := fault.New(fault.NeedsConfirmation, "the kit does not know this archive of "+k.Title+" "+r.Release, given.File,
		"When you have it from the app's own site, and its checksum is the one that stands there: add --accept-archive "+
			u.Sum+". Nothing was touched.").Wrap(u)
	f.Details = []string{"this archive: " + u.Sum, "known: " + r.Archive.SHA256}
	if u.Says != "" {
		f.Details = append(f.Details, "by its marks it is "+u.Says)
	}
	return f
}

// says reads which release an archive is by its marks. One that is another than the
// release that is wanted is refused, whatever its owner accepts.
func says(ctx context.Context, k catalogue.Entry, r *kit.Release, name string) (string, error) {
	if k.Known == nil {
		return "", nil
	}
	file, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer file.Close()
	var text []byte
	err = archive.Walk(ctx, file, r.Archive.Top, limitsOf(r), func(e archive.Entry, content io.Reader) error {
		if path.Clean(e.Name) != path.Clean(k.Known.File) {
			return nil
		}
		text, err = io.ReadAll(io.LimitReader(content, 4<<20))
		return err
	})
	other := "Give the archive of " + r.Release + ", or name another release. The kit knows " +
		strings.Join(k.Versions(), ", ") + ". Nothing was touched."
	if err != nil {
		return "", fault.New(fault.Usage, "that is no archive of "+k.Title+" "+r.Release, name, other).Wrap(err)
	}
	m := regexp.MustCompile(k.Known.Pattern).FindSubmatch(text)
	if m == nil {
		return "", fault.New(fault.Usage, "that is no archive of "+k.Title, name, other).Wrap(
			fmt.Errorf("nothing in %s says which release it is", k.Known.File))
	}
	if found := string(m[1]); found != version.Upstream(r.Release) {
		return "", fault.New(fault.Usage, "the archive is not "+k.Title+" "+r.Release+": by its marks it is "+found, name,
			other)
	}
	return string(m[1]), nil
}

func sumOf(name string) (string, error) {
	file, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer file.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, file); err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}
