// Package mirror is a Debian archive for tests: signed indexes, and packages that
// are made up.
package mirror

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"
)

// long has keys and signatures be of long before.
var long = &packet.Config{Time: func() time.Time { return time.Date(2025, 1, 1, 8, 0, 0, 0, time.UTC) }}

// File is an entry of a package: a folder ends with a slash, a link has where it
// leads to.
type File struct{ Name, Text, Link string }

// PackageOf makes a package (deb(5)).
func PackageOf(t *testing.T, all ...File) []byte {
	t.Helper()
	var data bytes.Buffer
	z := gzip.NewWriter(&data)
	w := tar.NewWriter(z)
	for _, f := range all {
		h := &tar.Header{Name: "./" + f.Name, Mode: 0o644, Size: int64(len(f.Text)), Typeflag: tar.TypeReg}
		if strings.HasSuffix(f.Name, "/") {
			h.Typeflag, h.Mode = tar.TypeDir, 0o755
		}
		if f.Link != "" {
			h.Typeflag, h.Linkname = tar.TypeSymlink, f.Link
		}
		require.NoError(t, w.WriteHeader(h))
		_, err := io.WriteString(w, f.Text)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	require.NoError(t, z.Close())
	var control bytes.Buffer
	z = gzip.NewWriter(&control)
	w = tar.NewWriter(z)
	text := "Package: tidebook\nVersion: 1.0-1\nArchitecture: all\nMaintainer: Tern <tern@lockside.localhost>\n" +
		"Depends: libjs-tides (>= 1), php-common | php\nDescription: tides and their times\n"
	require.NoError(t, w.WriteHeader(&tar.Header{Name: "./control", Mode: 0o644, Size: int64(len(text))}))
	_, err := io.WriteString(w, text)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	require.NoError(t, z.Close())
	out := bytes.NewBufferString("!<arch>\n")
	for _, part := range []struct {
		name string
		text []byte
	}{{"debian-binary", []byte("2.0\n")}, {"control.tar.gz", control.Bytes()}, {"data.tar.gz", data.Bytes()}} {
		fmt.Fprintf(out, "%-16s%-12d%-6d%-6d%-8s%-10d`\n", part.name, 0, 0, 0, "100644", len(part.text))
		out.Write(part.text)
		if len(part.text)%2 == 1 {
			out.WriteByte('\n')
		}
	}
	return out.Bytes()
}

// Mirror is a Debian archive of the test's.
type Mirror struct {
	URL     string
	Key     *openpgp.Entity
	Keyring string            // a file with it
	Files   map[string][]byte // by their addresses' paths
	Asked   []string
	Cut     int  // packages end after so many bytes, 0 for never
	Deaf    bool // nobody answers

	t *testing.T
}

// New starts an empty archive that is signed by a key of its own.
func New(t *testing.T) *Mirror {
	t.Helper()
	m := &Mirror{t: t, Files: map[string][]byte{}, Key: NewKey(t, "Archive")}
	var ring bytes.Buffer
	require.NoError(t, m.Key.Serialize(&ring))
	m.Keyring = filepath.Join(t.TempDir(), "debian-archive.gpg")
	require.NoError(t, os.WriteFile(m.Keyring, ring.Bytes(), 0o644))
	s := httptest.NewServer(m)
	t.Cleanup(s.Close)
	m.URL = s.URL
	return m
}

// NewKey makes a key.
func NewKey(t *testing.T, name string) *openpgp.Entity {
	t.Helper()
	key, err := openpgp.NewEntity(name, "", "archive@lockside.localhost", long)
	require.NoError(t, err)
	return key
}

// ServeHTTP implements http.Handler.
func (m *Mirror) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	m.Asked = append(m.Asked, r.URL.Path)
	text, there := m.Files[r.URL.Path]
	if m.Deaf {
		panic(http.ErrAbortHandler)
	}
	if !there {
		http.NotFound(w, r)
		return
	}
	if m.Cut > 0 && strings.HasSuffix(r.URL.Path, ".deb") {
		var from int
		_, _ = fmt.Sscanf(r.Header.Get("Range"), "bytes=%d-", &from)
		w.Header().Set("Content-Length", fmt.Sprint(len(text)-from))
		if from > 0 {
			w.WriteHeader(http.StatusPartialContent)
		}
		_, _ = w.Write(text[from:min(len(text), from+m.Cut)])
		return
	}
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(text))
}

// Release publishes a suite with packages.
func (m *Mirror) Release(at, suite string, date, until time.Time, packages ...string) {
	m.t.Helper()
	var list bytes.Buffer
	x, err := xz.NewWriter(&list)
	require.NoError(m.t, err)
	_, err = io.WriteString(x, strings.Join(packages, "\n"))
	require.NoError(m.t, err)
	require.NoError(m.t, x.Close())
	m.Files[at+"/dists/"+suite+"/main/binary-amd64/Packages.xz"] = list.Bytes()
	sum := sha256.Sum256(list.Bytes())
	text := fmt.Sprintf("Origin: Debian\nSuite: %s\nCodename: %s\nDate: %s\nValid-Until: %s\nSHA256:\n %x %d "+
		"main/binary-amd64/Packages.xz\n", suite, suite, date.Format(time.RFC1123), until.Format(time.RFC1123), sum,
		list.Len())
	var signed bytes.Buffer
	w, err := clearsign.Encode(&signed, m.Key.PrivateKey, long)
	require.NoError(m.t, err)
	_, err = io.WriteString(w, text)
	require.NoError(m.t, err)
	require.NoError(m.t, w.Close())
	m.Files[at+"/dists/"+suite+"/InRelease"] = signed.Bytes()
}

// Publish puts a package into the pool, and gives its stanza.
func (m *Mirror) Publish(at, name, version string, text []byte) string {
	file := "pool/main/" + name + "_" + version + "_all.deb"
	m.Files[at+"/"+file] = text
	sum := sha256.Sum256(text)
	return fmt.Sprintf(
		"Package: %s\nArchitecture: all\nVersion: %s\nFilename: %s\nSize: %d\nSHA256: %s\nHomepage: https://x.example\n",
		name,
		version,
		file,
		len(text),
		hex.EncodeToString(sum[:]),
	)
}
