package debian

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"

	"tivset/internal/app/archive"
	"tivset/internal/app/fetch"
	"tivset/internal/app/version"
	"tivset/internal/atomicfile"
)

// Archive is a Debian archive as this machine reaches it.
type Archive struct {
	Client  *http.Client
	Folder  string   // where indexes and packages are kept
	Sources []Source // as the machine or its owner names them
	Keyring string   // trusted for sources that name none
	Now     func() time.Time
}

// Origin is whose archives are read.
const Origin = "Debian"

// fresh is for how long an index that was read is taken as it was.
const fresh = 24 * time.Hour

// The most that is read of an index, and of a list of packages.
const (
	mostOfRelease  = 4 << 20
	mostOfPackages = 200 << 20
)

// ErrNone means that no Debian archive is known to this machine.
var ErrNone = errors.New("no Debian archive is known to this machine")

// Fixes says whether a package fixes a security hole: its suite is one of fixes.
func (p Package) Fixes() bool { return strings.HasSuffix(p.Suite, security) }

// Find looks packages up in a suite and in the one with its security fixes, and
// gives the newest of each, by name. What no suite has is missing there.
func (a *Archive) Find(ctx context.Context, suite string, names ...string) (map[string]Package, error) {
	out := map[string]Package{}
	known := false
	for _, at := range a.places(suite) {
		found, err := a.look(ctx, at, names)
		if errors.Is(err, errNoSuite) {
			continue
		}
		if err != nil {
			return nil, err
		}
		known = true
		for _, p := range found {
			if was, has := out[p.Name]; !has || version.Compare(was.Version, p.Version) < 0 {
				out[p.Name] = p
			}
		}
	}
	if !known {
		return nil, fmt.Errorf("%w that has the suite %s", ErrNone, suite)
	}
	return out, nil
}

// place is a suite at an address.
type place struct {
	uri, suite, keyring string
	stale               bool
}

// key names a place's files here.
func (p place) key() string {
	sum := sha256.Sum256([]byte(p.uri + "\x00" + p.suite))
	return hex.EncodeToString(sum[:12])
}

// security is how suites of fixes are named, and how those that are configured are
// known.
const security = "-security"

// places lists where a suite and its fixes may be: at the addresses that the
// machine's configuration has for suites of that kind.
func (a *Archive) places(suite string) (out []place) {
	for _, s := range a.Sources {
		if !slices.Contains(s.Components, "main") ||
			s.Keyring != "" && !s.Own && !strings.HasPrefix(filepath.Base(s.Keyring), "debian-archive") {
			continue
		}
		fixes := slices.ContainsFunc(s.Suites, func(name string) bool { return strings.HasSuffix(name, security) })
		at := place{s.URI, suite + map[bool]string{true: security}[fixes], cmp.Or(s.Keyring, a.Keyring), s.Stale}
		if !slices.Contains(out, at) {
			out = append(out, at)
		}
	}
	return out
}

var errNoSuite = errors.New("the archive does not have it")

// look looks packages up in one suite.
func (a *Archive) look(ctx context.Context, at place, names []string) ([]Package, error) {
	r, err := a.release(ctx, at)
	if err != nil {
		return nil, fmt.Errorf("%s of %s: %w", at.suite, at.uri, err)
	}
	if r.Origin != Origin {
		return nil, errNoSuite
	}
	const list = "main/binary-amd64/Packages.xz" // which has the packages for every machine too
	l, has := r.files[list]
	if !has {
		return nil, errNoSuite
	}
	kept := filepath.Join(a.Folder, "list-"+at.key()+"-"+l.sum)
	if _, err := os.Stat(kept); err != nil {
		if err := a.readList(ctx, at, at.uri+"dists/"+at.suite+"/"+list, l, kept); err != nil {
			return nil, err
		}
	}
	return fromList(kept, names)
}

// readList fetches a suite's list of packages, and keeps what it says of those for
// every machine, in place of an older one.
func (a *Archive) readList(ctx context.Context, at place, address string, l listed, kept string) error {
	file, err := a.fetch(ctx, address, "Packages-"+l.sum+".xz", l)
	if err != nil {
		return fmt.Errorf("the list of packages of %s: %w", at.suite, err)
	}
	defer os.Remove(file)
	older, err := filepath.Glob(filepath.Join(a.Folder, "list-"+at.key()+"-*"))
	if err != nil {
		return err
	}
	to, err := atomicfile.Create(kept, 0o600)
	if err != nil {
		return err
	}
	defer to.Cancel()
	if err := a.read(file, at.suite, to); err != nil {
		return err
	}
	if err := to.Replace(); err != nil {
		return err
	}
	for _, name := range older {
		_ = os.Remove(name) // it only takes room
	}
	return nil
}

// read reads a list of packages into one of a line a package.
func (a *Archive) read(name, suite string, to io.Writer) error {
	file, err := os.Open(name)
	if err != nil {
		return err
	}
	defer file.Close()
	plain, err := archive.Unpacked(file)
	if err != nil {
		return err
	}
	limited := &io.LimitedReader{R: plain, N: mostOfPackages}
	lines := bufio.NewWriter(to)
	err = readPackages(limited, suite, func(p Package) error {
		text, err := json.Marshal(p)
		if err == nil {
			_, err = lines.Write(append(text, '\n'))
		}
		return err
	})
	if err == nil && limited.N <= 0 {
		err = fmt.Errorf("the list of packages of %s has more than %d bytes", suite, mostOfPackages)
	}
	return errors.Join(err, lines.Flush())
}

// fromList finds packages in a list that was kept.
func fromList(file string, names []string) ([]Package, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	var out []Package
	for _, name := range names {
		begin, err := json.Marshal(Package{Name: name})
		if err != nil {
			return nil, err
		}
		begin = begin[:bytes.IndexByte(begin, ',')+1]
		for line := range bytes.Lines(text) {
			if !bytes.HasPrefix(line, begin) {
				continue
			}
			var p Package
			if err := json.Unmarshal(line, &p); err != nil {
				return nil, fmt.Errorf("the list of packages that was kept is damaged: %w", errors.Join(err, os.Remove(file)))
			}
			out = append(out, p)
		}
	}
	return out, nil
}

// Since is when a package came into the archive, as its server has it: the date of
// the file there (RFC 9110, 8.8.2). The zero time where it does not say.
func (a *Archive) Since(ctx context.Context, p Package) time.Time {
	for _, at := range a.places(strings.TrimSuffix(p.Suite, security)) {
		if at.suite != p.Suite {
			continue
		}
		r, err := http.NewRequestWithContext(ctx, http.MethodHead, at.uri+p.File, nil)
		if err != nil {
			continue
		}
		answer, err := fetch.Careful(a.Client).Do(r)
		if err != nil {
			continue
		}
		_ = answer.Body.Close()
		if when, err := http.ParseTime(answer.Header.Get("Last-Modified")); err == nil {
			return when
		}
	}
	return time.Time{}
}

// release gives a suite's index: as it was read within a day; else it is asked for.
// Where nobody answers, one that is still valid does.
func (a *Archive) release(ctx context.Context, at place) (*Release, error) {
	keys, err := Keys(at.keyring)
	if err != nil {
		return nil, fmt.Errorf("the keys of the archive cannot be read: %w", err)
	}
	kept := filepath.Join(a.Folder, "InRelease-"+at.key())
	var before *Release
	text, err := os.ReadFile(kept)
	if err == nil {
		before, _ = a.readRelease(text, keys, at, time.Time{})
	}
	if before != nil && a.lately(kept) {
		return before, nil
	}
	if before == nil && a.lately(kept+none) {
		return nil, errNoSuite
	}
	text, err = a.get(ctx, at.uri+"dists/"+at.suite+"/InRelease", mostOfRelease)
	if err != nil {
		return a.silent(kept, before, err)
	}
	var last time.Time
	if before != nil {
		last = before.Date
	}
	r, err := a.readRelease(text, keys, at, last)
	if err != nil {
		return nil, err
	}
	return r, a.keep(kept, text)
}

// readRelease reads an index, which may have expired where the machine says so.
func (a *Archive) readRelease(text []byte, keys openpgp.EntityList, at place, before time.Time) (*Release, error) {
	r, err := ReadRelease(text, keys, a.Now(), before)
	if errors.Is(err, ErrExpired) && at.stale {
		return r, nil
	}
	if err != nil {
		return nil, err
	}
	return r, nil
}

// none ends the name of a note that an address has no such suite.
const none = ".none"

// silent is what is known of a suite whose index cannot be had.
func (a *Archive) silent(kept string, before *Release, err error) (*Release, error) {
	if errors.Is(err, errNoSuite) {
		return nil, errors.Join(err, a.keep(kept+none, nil))
	}
	if before != nil {
		return before, nil
	}
	if _, noted := os.Stat(kept + none); noted == nil {
		return nil, errNoSuite
	}
	return nil, err
}

// keep keeps a file, of the time that it is.
func (a *Archive) keep(name string, text []byte) error {
	if err := os.MkdirAll(a.Folder, 0o700); err != nil {
		return err
	}
	if err := atomicfile.Write(name, text, 0o600); err != nil {
		return err
	}
	return os.Chtimes(name, a.Now(), a.Now())
}

// lately says whether a file was kept within a day.
func (a *Archive) lately(name string) bool {
	info, err := os.Stat(name)
	return err == nil && a.Now().Sub(info.ModTime()) < fresh
}

// get fetches a small file.
func (a *Archive) get(ctx context.Context, address string, most int64) ([]byte, error) {
	answer, err := a.ask(ctx, address, 0)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, most+1))
	if err == nil && int64(len(text)) > most {
		err = fmt.Errorf("it has more than %d bytes", most)
	}
	return text, err
}

// ask asks for a file, from a byte on.
func (a *Archive) ask(ctx context.Context, address string, from int64) (*http.Response, error) {
	answer, err := fetch.At(a.Client, address)(ctx, from)
	var answered *fetch.Answered
	if errors.As(err, &answered) && answered.Code == http.StatusNotFound {
		return nil, errNoSuite
	}
	return answer, err
}

// Get gives a package as a file of this machine, its checksum verified: from the
// cache, or from the archive. Who listens (fetch.Heard) is told.
func (a *Archive) Get(ctx context.Context, p Package) (string, error) {
	var last error
	for _, at := range a.places(strings.TrimSuffix(p.Suite, security)) {
		if at.suite != p.Suite {
			continue
		}
		file, err := a.fetch(ctx, at.uri+p.File, p.Name+"-"+p.SHA256+".deb", listed{p.Size, p.SHA256})
		if err == nil {
			return file, nil
		}
		if last == nil || errors.Is(last, errNoSuite) { // another archive's suite of that name
			last = fmt.Errorf("the package %s %s: %w", p.Name, p.Version, err)
		}
	}
	return "", cmp.Or(last, fmt.Errorf("%w that has the suite %s", ErrNone, p.Suite))
}

// fetch gives a file of a known size and checksum.
func (a *Archive) fetch(ctx context.Context, address, name string, l listed) (string, error) {
	full := filepath.Join(a.Folder, name)
	ask := func(ctx context.Context, from int64) (*http.Response, error) { return a.ask(ctx, address, from) }
	return full, fetch.Whole(ctx, ask, fetch.Wanted{Name: full, SHA256: l.sum, Size: l.size})
}
