package check

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"tivset/internal/app/archive"
	"tivset/internal/app/release"
	"tivset/internal/fault"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/runtime"
	"tivset/internal/records/ledger"
)

// programEnds are the endings of files that a web server may run.
var programEnds = []string{
	".php",
	".phtml",
	".phar",
	".php3",
	".php4",
	".php5",
	".php7",
	".php8",
	".phps",
	".inc",
	".cgi",
	".pl",
	".py",
	".sh",
	".shtml",
	".jsp",
	".asp",
	".aspx",
}

// What is read of files that are no programs by their names: how much of the
// newest so many; and over a line, where each takes some round trips, of fewer
// that are small.
const (
	mostLookedInto = 400
	mostOverALine  = 100
	smallEnough    = 64 << 10
	lookedInto     = 4 << 10
	mostOfRules    = 1 << 20 // what is longer is taken for a stranger's
)

// runs says whether a web server may run a file, by its name.
func runs(of runtime.Set, name string) bool {
	base := strings.ToLower(path.Base(name))
	return slices.Contains(programEnds, path.Ext(base)) || of.Of(base) != nil
}

// signs are what the beginning of a program holds, whatever it is called.
var signs = [][]byte{[]byte("<?php"), []byte("<?="), []byte("\x7fELF"), []byte("<% ")}

// program says whether a text is one, by how it begins.
func program(text []byte) bool {
	return bytes.HasPrefix(text, []byte("#!")) ||
		slices.ContainsFunc(signs, func(s []byte) bool { return bytes.Contains(text, s) })
}

// strangers finds the programs in a site's folder that neither its release has
// nor its owner vouched for. Of files that are none by name only the newest are
// looked into; not says how many were left.
func (l *looking) strangers(ctx context.Context, of release.Content) (bad []string, not int, err error) {
	var plain []files.Found
	for name, f := range l.there {
		_, known := of.Sums[name]
		switch {
		case f.IsDir() || known || l.site.Edits(name) || archive.Skipped(name, l.site.Kit.Place.Compiled):
		case !f.Mode.IsRegular() && f.Mode&fs.ModeSymlink == 0 && (runs(l.in.Runtimes(), name) || tells(name)):
			bad = append(bad, name) // a pipe, say, of the name of a program: nobody's app has that
		case runs(l.in.Runtimes(), name) || tells(name):
			is, err := l.strange(ctx, name, of)
			if err != nil {
				return nil, 0, err
			}
			if is {
				bad = append(bad, name)
			}
		case f.Size > 0 && f.Mode&fs.ModeSymlink == 0:
			plain = append(plain, f)
		}
	}
	look, not := l.lookedInto(plain)
	err = files.ReadAll(ctx, l.in.Files, look, func(f files.Found, content io.Reader) error {
		begin, err := io.ReadAll(io.LimitReader(content, lookedInto))
		if err != nil || !program(begin) {
			return err
		}
		name := strings.TrimPrefix(f.Path, l.site.Place.Folder+"/")
		is, err := l.strange(ctx, name, of)
		if is {
			bad = append(bad, name)
		}
		return err
	})
	if err != nil {
		return nil, 0, err
	}
	slices.Sort(bad)
	bad, err = l.notMine(ctx, bad)
	return bad, not, err
}

// lookedInto chooses which of some files are read, the newest first, and says how
// many are not.
func (l *looking) lookedInto(plain []files.Found) (look []files.Found, not int) {
	slices.SortFunc(plain, func(a, b files.Found) int {
		return cmp.Or(b.Modified.Compare(a.Modified), strings.Compare(a.Path, b.Path))
	})
	most := mostLookedInto
	if !l.in.Line().OwnMachine {
		most = mostOverALine
	}
	for _, f := range plain {
		if len(look) < most && (l.in.Line().OwnMachine || f.Size <= smallEnough) {
			look = append(look, f)
		}
	}
	return look, len(plain) - len(look)
}

// strange says whether a program is none that the release has there. A file that
// tells a server what to run is one only when it does.
func (l *looking) strange(ctx context.Context, name string, of release.Content) (bool, error) {
	full := path.Join(l.site.Place.Folder, name)
	if tells(name) {
		text, err := head(ctx, l.in.Files, full, mostOfRules+1)
		if err != nil || len(text) <= mostOfRules && !hasOrders(name, string(text)) {
			return false, err
		}
	}
	want, has := of.Other[name]
	if !has {
		return true, nil
	}
	sum, err := sumOf(ctx, l.in.Files, full)
	return sum != "" && sum != want, err
}

func (l *looking) notMine(ctx context.Context, names []string) ([]string, error) {
	return NotVouched(ctx, l.site.FolderOf(l.in.Files, nil, nil), l.in.Runtimes(), l.there, l.record.Mine, names)
}

// NotVouched leaves out of some names, below a site's folder, those that the owner
// vouched for and that are as they were then. There is what is in the folder.
func NotVouched(ctx context.Context, folder release.Folder, of runtime.Set, there map[string]files.Found,
	mine []ledger.Mine,
	names []string) ([]string, error) {
	for _, m := range mine {
		is := func(name string) bool { return archive.Skipped(name, []string{m.Name}) }
		if !slices.ContainsFunc(names, is) {
			continue
		}
		now, err := vouchedFor(ctx, folder.Files, of, there, m.Name)
		if err != nil {
			return nil, err
		}
		if now == m.Sum {
			names = slices.DeleteFunc(slices.Clone(names), is)
		}
	}
	return names, nil
}

// vouchedFor is the sum of a file, or of a folder's programs with their names; ""
// of what is not there.
func vouchedFor(ctx context.Context, in files.FS, of runtime.Set, there map[string]files.Found, name string) (string,
	error) {
	if f, is := there[name]; !is {
		return "", nil
	} else if !f.IsDir() {
		return sumOf(ctx, in, f.Path)
	}
	sum := sha256.New()
	var inside []string
	for other, f := range there {
		if !f.IsDir() && archive.Skipped(other, []string{name}) && (runs(of, other) || tells(other)) {
			inside = append(inside, other)
		}
	}
	slices.Sort(inside)
	for _, other := range inside {
		one, err := sumOf(ctx, in, there[other].Path)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(sum, "%s\x00%s\n", other, one)
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// Vouch records that programs in a site's folder are the owner's, by the names of
// files or folders below it. They are judged anew when they change.
func (e *Examiner) Vouch(ctx context.Context, x ledger.Site, names []string) (ledger.Site, error) {
	s, in, err := e.open(ctx, x)
	if err != nil {
		return x, err
	}
	defer in.Close()
	others, err := e.Book.Foreign(ctx, s)
	if err != nil {
		return x, err
	}
	l := &looking{Examiner: e, site: s, in: in, record: &x, others: others}
	if err := l.walk(ctx); err != nil {
		return x, err
	}
	for _, name := range names {
		name = path.Clean(strings.TrimSuffix(name, "/"))
		sum, err := vouchedFor(ctx, in.Files, in.Runtimes(), l.there, name)
		if err != nil {
			return x, err
		}
		if sum == "" {
			return x, fault.New(fault.Usage, "the site has no such file or folder", name,
				"Name it as the check does, from the site's folder. Nothing was noted.")
		}
		x.Mine = slices.DeleteFunc(slices.Clone(x.Mine), func(m ledger.Mine) bool {
			return archive.Skipped(m.Name, []string{name})
		})
		x.Mine = append(x.Mine, ledger.Mine{Name: name, Sum: sum})
	}
	return x, e.Record(ctx, x)
}

// head reads how a file begins; nothing of one that has gone.
func head(ctx context.Context, f files.FS, full string, most int64) ([]byte, error) {
	file, err := f.Open(ctx, full)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	content, err := io.ReadAll(io.LimitReader(file, most))
	return content, errors.Join(err, file.Close())
}

// sumOf is the SHA-256 of a file in hexadecimal; "" of one that has gone.
func sumOf(ctx context.Context, f files.FS, full string) (string, error) {
	file, err := f.Open(ctx, full)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	sum := sha256.New()
	_, err = io.Copy(sum, file)
	return hex.EncodeToString(sum.Sum(nil)), errors.Join(err, file.Close())
}
