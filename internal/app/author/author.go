// Package author helps those who write kits: it begins one from an app that is at hand
// (draft), and adds a release to one that is there.
package author

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tivset/internal/app/archive"
	"tivset/internal/app/catalogue"
	"tivset/internal/app/draft"
	"tivset/internal/app/fetch"
	"tivset/internal/app/kit"
	"tivset/internal/app/release"
	"tivset/internal/fault"
)

// Author writes kits.
type Author struct {
	Archives *release.Archives
	Now      func() time.Time
}

// fetchTime is how long an archive may take.
const fetchTime = 30 * time.Minute

// begun is an app that was unpacked to be looked at.
type begun struct {
	files   fs.FS
	from    draft.Source
	archive string // a file of this machine that becomes one of the kit's, or empty
}

// New writes the draft of a kit into a folder, which must not be there yet: from an
// archive's file, a folder, an https address, or debian:PACKAGE; from nothing, a kit that
// is all questions. Its kit can be read: only what it asks its author is open.
func (a *Author) New(ctx context.Context, folder, from string) (*draft.Draft, error) {
	name := filepath.Base(folder)
	if !kit.IsName(name) {
		return nil, fault.New(fault.Usage, "a kit cannot be called "+name, folder,
			"Use lower case letters, digits and -, beginning with a letter.")
	}
	if _, err := os.Lstat(folder); err == nil {
		return nil, fault.New(fault.Usage, "there is something already", folder, "Take another name, or move it away.")
	}
	scratch, err := os.MkdirTemp("", "tivset-new-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(scratch)
	b, err := a.begin(ctx, scratch, from)
	if err != nil {
		return nil, unread(from, err)
	}
	b.from.App = name
	if b.from.Date == "" {
		b.from.Date = a.Now().Format(time.DateOnly)
	}
	app, err := draft.Open(ctx, b.files)
	if err != nil {
		return nil, unread(from, err)
	}
	d := app.Draft(b.from)
	return d, write(folder, d, b.archive)
}

// unread says that an app could not be read, where its cause has no remedy of its own.
func unread(from string, err error) error {
	var f *fault.Error
	if errors.As(err, &f) {
		return err
	}
	return fault.New(fault.Failed, "the app cannot be read", from, "See that its files can be read, and that none "+
		"of them is a link; or begin from nothing, without --from. Nothing was written.").Wrap(err)
}

// write writes the kit, whole or not at all, once it is seen that it can be read.
func write(folder string, d *draft.Draft, archive string) error {
	made, err := os.MkdirTemp(filepath.Dir(filepath.Clean(folder)), ".new-kit-")
	if err != nil {
		return fault.New(fault.Usage, "the kit cannot be written", folder, "Name a folder in one that you can write.").
			Wrap(err)
	}
	defer os.RemoveAll(made)
	for name, text := range d.Files {
		if err := os.WriteFile(filepath.Join(made, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	if archive != "" {
		if err := copyFile(archive, filepath.Join(made, filepath.Base(archive))); err != nil {
			return err
		}
	}
	if _, err := kit.Read(catalogue.Folder("", made).Files, filepath.Base(folder)); err != nil {
		f := *fault.Of(err)
		f.What = "no kit could be made of it: " + f.What
		f.Remedy = "That is a mistake of Tivset's own. Begin from nothing, without --from."
		return &f
	}
	if err := os.Chmod(made, 0o755); err != nil {
		return err
	}
	return os.Rename(made, folder)
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

// begin unpacks what a kit is begun from.
func (a *Author) begin(ctx context.Context, scratch, from string) (*begun, error) {
	unpacked := filepath.Join(scratch, "app")
	if err := os.Mkdir(unpacked, 0o700); err != nil {
		return nil, err
	}
	if name, is := strings.CutPrefix(from, "debian:"); is {
		return a.fromPackage(ctx, unpacked, name)
	}
	if from == "" {
		return nothing(unpacked)
	}
	info, err := os.Stat(from)
	switch {
	case strings.HasPrefix(from, "https://"):
		return a.fromAddress(ctx, scratch, unpacked, from)
	case err != nil:
		return nil, fault.New(fault.Usage, "nothing is there to begin from", from,
			"Name an archive's file, a folder, an https address, or debian:PACKAGE.").Wrap(err)
	case info.IsDir():
		return fromFolder(ctx, scratch, from)
	}
	b, err := fromFile(ctx, unpacked, from)
	if err == nil {
		b.archive = from
	}
	return b, err
}

// nothing is an app of which nothing is known: its archive is for its author to put in.
func nothing(unpacked string) (*begun, error) {
	return &begun{files: os.DirFS(unpacked), from: draft.Source{Release: "0.0.0",
		Archive: "{name: app-0.0.0.tar.gz, fetch: download it from the app's site, sha256: " + strings.Repeat("0", 64) +
			", top: app-0.0.0}"}}, nil
}

// fromFile unpacks an archive.
func fromFile(ctx context.Context, unpacked, name string) (*begun, error) {
	of, err := inspect(ctx, name)
	if err != nil {
		return nil, err
	}
	file, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	if err := archive.Extract(ctx, file, of.top, archive.DefaultLimits, unpacked); err != nil {
		return nil, err
	}
	released := draft.ReleaseOf(name)
	if released == "" {
		released = draft.ReleaseOf(of.top)
	}
	return &begun{files: os.DirFS(unpacked), from: draft.Source{Release: released, Date: of.date,
		Archive: of.line(filepath.Base(name))}}, nil
}

// inspected is what an archive's file tells by itself.
type inspected struct {
	sum  string // SHA-256, in hexadecimal
	top  string // the one folder at its top that all is in; empty when there is no such
	date string // of its newest file; empty when that says nothing
}

// line is what a kit says of the archive.
func (i inspected) line(from string) string {
	line := "{from: " + draft.YAML(from) + ", sha256: " + i.sum
	if i.top != "" {
		line += ", top: " + draft.YAML(i.top)
	}
	return line + "}"
}

func inspect(ctx context.Context, name string) (i inspected, err error) {
	file, err := os.Open(name)
	if err != nil {
		return i, fault.New(fault.Usage, "the archive cannot be read", name, "Check its name.").Wrap(err)
	}
	defer file.Close()
	hash := sha256.New()
	if _, err := io.Copy(hash, file); err != nil {
		return i, err
	}
	s, err := archive.Look(ctx, file, "", nil, archive.DefaultLimits)
	if err != nil {
		return i, fault.New(fault.Usage, "that is no archive that can be used", name,
			"tar (plain, gzip, bzip2, xz, Zstandard) and zip are read.").Wrap(err)
	}
	if len(s.Entries) == 1 {
		if _, isFile := s.Sizes[s.Entries[0]]; !isFile {
			i.top = s.Entries[0]
		}
	}
	if s.Newest.Year() > 1990 {
		i.date = s.Newest.UTC().Format(time.DateOnly)
	}
	i.sum = hex.EncodeToString(hash.Sum(nil))
	return i, nil
}

func (a *Author) fromAddress(ctx context.Context, scratch, unpacked, address string) (*begun, error) {
	name, err := a.download(ctx, scratch, address)
	if err != nil {
		return nil, err
	}
	b, err := fromFile(ctx, unpacked, name)
	if err == nil {
		of, err := inspect(ctx, name)
		b.from.Archive = of.line(address)
		return b, err
	}
	return b, err
}

// download fetches an archive into a folder.
func (a *Author) download(ctx context.Context, scratch, address string) (string, error) {
	name := filepath.Join(scratch, path.Base(strings.SplitN(address, "?", 2)[0]))
	content, _, err := fetch.Get(ctx, a.Archives.Client, address, "", fetchTime)
	if err != nil {
		return "", fault.New(fault.Failed, "the archive cannot be had", address, "Check the address.").Wrap(err)
	}
	defer content.Close()
	file, err := os.Create(name)
	if err != nil {
		return "", err
	}
	_, err = io.Copy(file, io.LimitReader(content, archive.DefaultLimits.Bytes))
	if err := errors.Join(err, file.Close()); err != nil {
		return "", fault.New(fault.Failed, "the archive cannot be had", address, "Check the connection.").Wrap(err)
	}
	return name, nil
}

// fromFolder packs a folder: its archive becomes a file of the kit.
func fromFolder(ctx context.Context, scratch, folder string) (*begun, error) {
	folder, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	released := draft.ReleaseOf(folder)
	if released == "" {
		app, err := draft.Open(ctx, os.DirFS(folder))
		if err != nil {
			return nil, err
		}
		if marks := app.Marks(""); len(marks) > 0 {
			released = marks[0].Release
		}
	}
	top := filepath.Base(folder)
	name := filepath.Join(scratch, top+".tar.gz")
	if err := pack(name, folder, top); err != nil {
		return nil, err
	}
	of, err := inspect(ctx, name)
	if err != nil {
		return nil, err
	}
	return &begun{os.DirFS(folder), draft.Source{Release: released, Archive: of.line(top + ".tar.gz")}, name}, nil
}

// suites lists the suites that this machine knows, without those that only mend others.
func (a *Author) suites() (out []string) {
	for _, s := range a.Archives.Debian.Sources {
		for _, suite := range s.Suites {
			base, more, _ := strings.Cut(suite, "-")
			if (more == "" || base == suite) && !slices.Contains(out, suite) {
				out = append(out, suite)
			}
		}
	}
	return out
}
