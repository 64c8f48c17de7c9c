package helperpage_test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/archive"
	"tivset/internal/demo"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/files/local"
	"tivset/internal/hosting/helperpage"
	"tivset/internal/hosting/web"
	"tivset/internal/secret"
	"tivset/internal/trial/servers"
)

var ctx = context.Background()

// hosting is an account with real PHP behind a real web server.
type hosting struct {
	root    string
	files   files.FS
	visitor *web.Visitor
	place   helperpage.Place
}

func newHosting(t *testing.T) *hosting {
	t.Helper()
	h := &hosting{root: servers.AccountFolder(t)}
	f, err := local.Open(h.root)
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	h.files = f
	_, err = files.MkdirAll(ctx, f, "web/lockside", 0o755)
	require.NoError(t, err)
	require.NoError(t, f.Mkdir(ctx, ".tivset", 0o700))
	address := servers.PHPWeb(t, []servers.Site{{Name: "lockside.localhost",
		Root: filepath.Join(h.root, "web/lockside")}})
	_, port, _ := strings.Cut(address, ":")
	h.visitor = web.NewVisitor(web.Connections{"lockside.localhost:" + port: address})
	h.place = helperpage.Place{Root: "web/lockside", URL: "http://lockside.localhost:" + port, Name: "tivset-t0k3n.php",
		Store: ".tivset"}
	return h
}

func (h *hosting) send(t *testing.T, now time.Time) *helperpage.Page {
	t.Helper()
	c, err := helperpage.Send(ctx, h.files, h.visitor, h.place, now)
	require.NoError(t, err)
	return c
}

func TestLooksAndUnpacks(t *testing.T) {
	h := newHosting(t)
	c := h.send(t, time.Now())
	found, err := c.Look(ctx, []string{"ini_set", "no_such"}, []string{"memory_limit"})
	require.NoError(t, err)
	assert.Regexp(t, `^\d+\.\d+\.\d+`, found.Version)
	assert.Contains(t, found.Extensions, "json")
	assert.Equal(t, map[string]bool{"ini_set": true, "no_such": false}, found.Functions)
	assert.NotEmpty(t, found.Settings["memory_limit"])
	assert.True(t, found.Owner)
	assert.True(t, found.Unpacks)
	assert.Equal(t, h.root, found.Top)
	assert.Positive(t, found.Free)

	catalogue := t.TempDir()
	require.NoError(t, demo.WriteCatalogue(catalogue))
	packed, err := os.Open(filepath.Join(catalogue, "towline/towline-2.0.1.tar.gz"))
	require.NoError(t, err)
	defer packed.Close()
	trees := map[string]string{}
	for name, to := range map[string]files.FS{"here": struct{ files.FS }{h.files}, "there": c.Files()} {
		require.NoError(t, h.files.Mkdir(ctx, name, 0o755))
		require.NoError(t, archive.Unpack(ctx, packed, "towline-2.0.1", nil, to, name, nil))
		var out strings.Builder
		require.NoError(t, demo.Tree(&out, filepath.Join(h.root, name)))
		trees[name] = out.String()
	}
	assert.Equal(t, trees["here"], trees["there"])
	require.NoError(t, c.End(ctx))
	require.NoError(t, helperpage.Dismiss(ctx, h.files, h.place), "twice is fine")
	left, err := os.ReadDir(filepath.Join(h.root, ".tivset"))
	require.NoError(t, err)
	assert.Empty(t, left)
	assert.NoFileExists(t, filepath.Join(h.root, h.place.File()))
	assert.NoFileExists(t, filepath.Join(h.root, h.place.State()))
}

// A large archive is unpacked whole, and one that was tampered with is not.
func TestArchives(t *testing.T) {
	h := newHosting(t)
	c := h.send(t, time.Now())
	long := strings.Repeat("very-long-name-é/", 12)
	for name, write := range map[string]func(io.Writer) error{
		"climbing":    tarOf("../out", "x"),
		"long names":  tarOf(long+"a.txt", strings.Repeat("content ", 200_000)),
		"no archive":  func(w io.Writer) error { _, err := w.Write([]byte("nonsense")); return err },
		"from a root": tarOf("/etc/out", "x"),
	} {
		require.NoError(t, files.RemoveAll(ctx, h.files, "to"))
		require.NoError(t, h.files.Mkdir(ctx, "to", 0o755))
		_, err := files.MkdirAll(ctx, h.files, "to/"+long[:len(long)-1], 0o755)
		require.NoError(t, err)
		err = c.Files().(files.PartWriter).WriteParts(ctx, "to", func(open func() (io.WriteCloser, error)) error {
			part, err := open()
			if err != nil {
				return err
			}
			return errors.Join(write(part), part.Close())
		})
		if name != "long names" {
			assert.Error(t, err, name)
			c = renewed(t, h)
			continue
		}
		require.NoError(t, err)
		got, err := os.ReadFile(filepath.Join(h.root, "to", long, "a.txt"))
		require.NoError(t, err)
		assert.Len(t, got, 8*200_000)
	}
	assert.NoFileExists(t, filepath.Join(h.root, "out"))
}

func renewed(t *testing.T, h *hosting) *helperpage.Page {
	t.Helper()
	require.NoError(t, helperpage.Dismiss(ctx, h.files, h.place))
	h.place.Name = strings.Replace(h.place.Name, ".php", "x.php", 1)
	return h.send(t, time.Now())
}

// No stranger can use it: without the key, with another, with a request that
// was seen on the line, or when its time is over.
func TestStrangers(t *testing.T) {
	h := newHosting(t)
	c := h.send(t, time.Now())
	_, err := c.Look(ctx, nil, nil)
	require.NoError(t, err)
	address := h.place.URL + "/" + h.place.Name
	body, err := json.Marshal(map[string]any{"n": 99, "file": h.place.Name, "do": "look", "functions": []string{},
		"settings": []string{}})
	require.NoError(t, err)
	other, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	sum := sha256.Sum256(body)
	signed, err := ecdsa.SignASN1(rand.Reader, other, sum[:])
	require.NoError(t, err)
	for what, signature := range map[string]string{"none": "", "nonsense": "AAAA",
		"another key's": base64.StdEncoding.EncodeToString(signed)} {
		page, err := h.visitor.Send(ctx, address, "X-Tivset", signature, body)
		require.NoError(t, err)
		assert.Equal(t, http.StatusNotFound, page.Status, what)
		assert.Empty(t, page.Body, what)
	}
	page, err := h.visitor.Get(ctx, address)
	require.NoError(t, err)
	assert.Equal(t, http.StatusNotFound, page.Status)
	text, err := os.ReadFile(filepath.Join(h.root, h.place.File()))
	require.NoError(t, err)
	assert.NotContains(t, string(text), "PRIVATE", "what it holds signs nothing")
}

// A request that somebody saw is obeyed once only.
func TestReplay(t *testing.T) {
	h := newHosting(t)
	var body []byte
	var signature string
	spy := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ = io.ReadAll(r.Body)
		signature = r.Header.Get("X-Tivset")
		fmt.Fprint(w, `{"ok": true, "at": -1}`)
	})
	s := newSpy(t, spy)
	real := h.place.URL
	c, err := helperpage.Send(ctx, h.files, web.NewVisitor(nil), helperpage.Place{Root: h.place.Root, URL: s,
		Name:  h.place.Name,
		Store: h.place.Store}, time.Now())
	require.NoError(t, err)
	_, err = c.Look(ctx, nil, nil)
	require.NoError(t, err)
	require.NotEmpty(t, body)
	for n, want := range []int{http.StatusOK, http.StatusNotFound} {
		page, err := h.visitor.Send(ctx, real+"/"+h.place.Name, "X-Tivset", signature, body)
		require.NoError(t, err)
		assert.Equal(t, want, page.Status, "the %d. time", n+1)
	}
	changed := bytes.Replace(body, []byte(`"n":1`), []byte(`"n":2`), 1)
	page, err := h.visitor.Send(ctx, real+"/"+h.place.Name, "X-Tivset", signature, changed)
	require.NoError(t, err)
	assert.Equal(t, http.StatusNotFound, page.Status)
}

// It stops for good after its time, and goes by itself.
func TestTimeIsOver(t *testing.T) {
	h := newHosting(t)
	c := h.send(t, time.Now().Add(-helperpage.Lifetime-time.Second))
	_, err := c.Look(ctx, nil, nil)
	var silent *helperpage.Silent
	require.ErrorAs(t, err, &silent)
	assert.NoFileExists(t, filepath.Join(h.root, h.place.File()))
}

// Where PHP is not run its text comes back, and says nothing that helps anybody.
func TestNoPHP(t *testing.T) {
	h := newHosting(t)
	s := newSpy(t, http.FileServer(http.Dir(filepath.Join(h.root, "web/lockside"))))
	h.place.URL, h.visitor = s, web.NewVisitor(nil)
	_, err := h.send(t, time.Now()).Look(ctx, nil, nil)
	var silent *helperpage.Silent
	require.ErrorAs(t, err, &silent)
}

func TestDatabasesFromInside(t *testing.T) {
	h := newHosting(t)
	c := h.send(t, time.Now())
	for _, d := range []servers.Database{servers.MariaDB(t), servers.PostgreSQL(t)} {
		t.Run(d.Engine, func(t *testing.T) {
			l := database.Login{Server: d.Address, User: d.User, Password: secret.Of(d.Password),
				Database: map[string]string{"mariadb": "mysql", "postgresql": "postgres"}[d.Engine]}
			create := "CREATE DATABASE quill_in"
			s, err := c.Open(ctx, d.Engine, l)
			require.NoError(t, err)
			require.NoError(t, s.Exec(ctx, create, nil))
			l.Database = "quill_in"
			s, err = c.Open(ctx, d.Engine, l)
			require.NoError(t, err)
			engine, version, err := s.Version(ctx)
			require.NoError(t, err)
			assert.Equal(t, d.Engine, engine)
			assert.Regexp(t, `^\d+\.\d+`, version)
			long := map[string]string{"mariadb": "LONGTEXT", "postgresql": "TEXT"}[d.Engine]
			n, err := s.Run(ctx, strings.NewReader("CREATE TABLE ink_a (id INT PRIMARY KEY, t "+long+
				");\nINSERT INTO ink_a VALUES (1, '"+strings.Repeat("x", 700_000)+"');\nINSERT INTO ink_a VALUES (2, 'it''s');\n"),
				database.ScriptOptions{From: "ink_", To: "t1_"})
			require.NoError(t, err)
			assert.Equal(t, 3, n)
			const awkward = `p'a"s\s $x ${y} %; #é–?:name`
			require.NoError(t, s.Exec(ctx, "INSERT INTO t1_a VALUES (3, :t)", map[string]string{"t": awkward}))
			got, err := s.Value(ctx, "SELECT t FROM t1_a WHERE id = :id", map[string]string{"id": "3"})
			require.NoError(t, err)
			assert.Equal(t, awkward, got)
			_, err = s.Value(ctx, "SELECT t FROM t1_a WHERE id = 9", nil)
			assert.ErrorIs(t, err, database.ErrNoRow)
			tables, err := s.Tables(ctx)
			require.NoError(t, err)
			assert.Equal(t, []string{"t1_a"}, tables)
			n, err = s.Run(ctx, strings.NewReader("SELECT 1;\n\nSELECT nonsense FROM nowhere;\n"), database.ScriptOptions{})
			assert.Equal(t, 1, n)
			assert.ErrorContains(t, err, "line 3")
			require.NoError(t, s.DropTables(ctx, tables))
			tables, err = s.Tables(ctx)
			require.NoError(t, err)
			assert.Empty(t, tables)
			l.Password = secret.Of("wrong")
			_, err = c.Open(ctx, d.Engine, l)
			assert.ErrorContains(t, err, "refused the user or password")
			l.Server = "127.0.0.1:1"
			_, err = c.Open(ctx, d.Engine, l)
			assert.ErrorContains(t, err, "does not answer the account's PHP")
		})
	}
}

func newSpy(t *testing.T, h http.Handler) string {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return s.URL
}

func tarOf(name, content string) func(io.Writer) error {
	return func(w io.Writer) error {
		packed := gzip.NewWriter(w)
		out := tar.NewWriter(packed)
		err := out.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: 0o644, Size: int64(len(content))})
		if err == nil {
			_, err = io.WriteString(out, content)
		}
		return errors.Join(err, out.Close(), packed.Close())
	}
}
