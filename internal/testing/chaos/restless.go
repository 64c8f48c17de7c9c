// Package chaos is an app for tests that does what apps do wrong, on real web
// servers: it offers its set-up to anybody as soon as its configuration is not
// there, writes into files and tables on every request, and keeps its own address
// in both. Its release 2.0.0 is fine, the migration of 3.0.0 fails, and 2.5.0 is
// broken where a check finds it.
package chaos

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"tivset/internal/answer"
	"tivset/internal/app/catalogue"
	"tivset/internal/hosting"
	"tivset/internal/plan"
	"tivset/internal/testing/mirror"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
)

//go:embed all:app kit
var embedded embed.FS

// releases are those that there are, newest first.
var releases = []string{"3.0.0", "2.5.0", "2.0.0", "1.0.0"}

// Source writes the app's kit and the archives of its releases.
func Source(t *testing.T) catalogue.Source { return source(t, "") }

// Changed is the same with another text in its kit.
func Changed(t *testing.T, from, to string) catalogue.Source {
	t.Helper()
	s := Source(t)
	text, err := fs.ReadFile(s.Files, "restless/kit.yaml")
	require.NoError(t, err)
	require.Contains(t, string(text), from)
	changed := fstest.MapFS{}
	require.NoError(t, fs.WalkDir(s.Files, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		packed, err := fs.ReadFile(s.Files, name)
		changed[name] = &fstest.MapFile{Data: packed, Mode: 0o644}
		return err
	}))
	changed["restless/kit.yaml"].Data = bytes.Replace(text, []byte(from), []byte(to), 1)
	s.Files = changed
	return s
}

// byAPage is the step of a set-up by the app's own page.
const byAPage = "- request: {get: setup/, expect: {text: set up}}"

func source(t *testing.T, more string) catalogue.Source {
	t.Helper()
	return sourceOf(t, more, func(folder string) string {
		var list strings.Builder
		for _, r := range releases {
			name := "restless-" + r + ".tar.gz"
			packed := archive(t, r)
			require.NoError(t, os.WriteFile(filepath.Join(folder, name), packed, 0o644))
			fmt.Fprintf(&list, "\n  - {release: %s, date: 2026-0%c-0%c, level: features, archive: {from: %s, sha256: %x, "+
				"top: restless-%s}, needs: %s}", r, r[0], r[2]+1, name, sha256.Sum256(packed), r, needs)
		}
		return "releases:" + list.String() + "\n"
	})
}

// Suites are the releases that a Debian archive has, by suite.
var Suites = map[string]string{"1.0.0": "bookworm", "2.0.0": "trixie"}

// Packed is the app whose releases come as packages of a Debian archive.
func Packed(t *testing.T) catalogue.Source {
	t.Helper()
	return sourceOf(t, "", func(string) string {
		return "archive:\n  debian:\n    package: restless\n    suites: [bookworm, trixie]\n    also: [restless-lib]\n" +
			"    take: {usr/share/restless: .}\n    without: [README.Debian]\n" +
			"    change: [{file: write.php, from: /usr/share/restless, to: .}]\n" +
			"    variants: [{releases: \">=2\", without: [NEWS.txt]}]\nneeds: " + needs + "\n"
	})
}

// needs are those of each release.
const needs = "{php: {version: \">=8.0\", extensions: [mysqli]}, database: {mariadb: \">=10.4\"}, space: 1MB}"

// Packages are a release as a distribution packs it, below usr/share/restless, with a
// link into another package, and that one's.
func Packages(t *testing.T, release string) (app, lib []mirror.File) {
	t.Helper()
	z, err := gzip.NewReader(bytes.NewReader(archive(t, release)))
	require.NoError(t, err)
	in := tar.NewReader(z)
	app = []mirror.File{{Name: "usr/share/restless/"}, {Name: "usr/share/restless/README.Debian", Text: "packed"}}
	folders := map[string]bool{}
	for {
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			return app, lib
		}
		require.NoError(t, err)
		text, err := io.ReadAll(in)
		require.NoError(t, err)
		name := strings.TrimPrefix(h.Name, "restless-"+release+"/")
		for dir := path.Dir(name); dir != "." && !folders[dir]; dir = path.Dir(dir) {
			folders[dir] = true
			app = append(app, mirror.File{Name: "usr/share/restless/" + dir + "/"})
		}
		full := "usr/share/restless/" + name
		switch name {
		case "lib/release.php":
			lib = append(lib, mirror.File{Name: "usr/share/restless-lib/release.php", Text: string(text)})
			app = append(app, mirror.File{Name: full, Link: "../../restless-lib/release.php"})
		case "write.php":
			app = append(app, mirror.File{Name: full, Text: string(text) + "\n// of /usr/share/restless\n"})
		default:
			app = append(app, mirror.File{Name: full, Text: string(text)})
		}
	}
}

func sourceOf(t *testing.T, more string, releases func(folder string) string) catalogue.Source {
	t.Helper()
	folder := filepath.Join(t.TempDir(), "restless")
	require.NoError(t, os.MkdirAll(folder, 0o755))
	list := releases(folder)
	require.NoError(t, fs.WalkDir(embedded, "kit", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := embedded.ReadFile(name)
		if err != nil {
			return err
		}
		text = bytes.ReplaceAll(text, []byte("releases: RELEASES-HERE\n"), []byte(list))
		if more != "" {
			text = bytes.ReplaceAll(text, []byte("# BY-A-PAGE"), []byte(more))
		}
		return os.WriteFile(filepath.Join(folder, filepath.Base(name)), text, 0o644)
	}))
	return catalogue.Source{Name: "tests", Files: os.DirFS(filepath.Dir(folder))}
}

// archive packs a release.
func archive(t *testing.T, release string) []byte {
	t.Helper()
	var out bytes.Buffer
	packed := gzip.NewWriter(&out)
	w := tar.NewWriter(packed)
	require.NoError(t, fs.WalkDir(embedded, "app", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := embedded.ReadFile(name)
		if err != nil {
			return err
		}
		text = bytes.ReplaceAll(text, []byte("RELEASE-HERE"), []byte(release))
		if release == "2.5.0" {
			text = bytes.ReplaceAll(text, []byte("entries, release"), []byte("entries of"))
			text = bytes.ReplaceAll(text, []byte("file_put_contents(__DIR__ . '/cache/front.html', 'seen"),
				[]byte("file_put_contents(__DIR__ . '/uploads/readme.txt', 'spoilt"))
		}
		if err := w.WriteHeader(&tar.Header{Name: "restless-" + release + name[len("app"):], Mode: 0o644,
			Size: int64(len(text)), ModTime: time.Unix(1_780_000_000, 0)}); err != nil {
			return err
		}
		_, err = w.Write(text)
		return err
	}))
	require.NoError(t, w.Close())
	require.NoError(t, packed.Close())
	return out.Bytes()
}

// Ground is an account of two domains on real servers.
type Ground struct {
	Root, Web string
	data      servers.Database
	files     map[string]func(*testing.T, *sitetest.World) (reach, login string)
	mail      string // with which its host sends names and passwords
}

// Mail is the mail with which the account's host sends names and passwords.
func (g *Ground) Mail() string { return g.mail }

// Folder is a folder with the app's kit, as a catalogue.
func Folder(t *testing.T) string {
	t.Helper()
	return fmt.Sprint(Source(t).Files) // which is the folder's name (os.DirFS)
}

// NewGround starts the servers. Serve is servers.PHPWeb or servers.Apache,
// settings are PHP's.
func NewGround(t *testing.T, serve func(servers.Stage, []servers.Site, ...string) string,
	settings ...string) *Ground {
	t.Helper()
	g := &Ground{Root: servers.AccountFolder(t)}
	name, uid := servers.SiteUser(t)
	var sites []servers.Site
	require.NoError(t, os.Mkdir(filepath.Join(g.Root, "web"), 0o755))
	for _, domain := range []string{"lockside", "chandlery"} {
		root := filepath.Join(g.Root, "web", domain)
		require.NoError(t, os.Mkdir(root, 0o755))
		require.NoError(t, os.Chown(root, uid, uid))
		sites = append(sites, servers.Site{Name: domain + ".localhost", Root: root})
	}
	require.NoError(t, os.Chown(filepath.Join(g.Root, "web"), uid, uid))
	if len(settings) == 0 {
		settings = []string{"opcache.validate_timestamps = 1", "opcache.revalidate_freq = 2"}
	}
	g.Web = serve(t, sites, append(settings, "opcache.enable = 1")...)
	g.data = servers.MariaDB(t)
	sshd := servers.OpenSSHAs(t, name, "ForceCommand internal-sftp\n")
	proftpd := servers.ProFTPD(t, servers.FTPOptions{Home: g.Root, TLS: true, UID: uid})
	clear := servers.ProFTPD(t, servers.FTPOptions{Home: g.Root, UID: uid})
	host, ftps, _ := strings.Cut(proftpd.Address, ":")
	g.mail = "Dear customer,\n\nyour web space is ready, with the domain lockside.localhost, which shows the folder " +
		"web/lockside.\n\nFTPS server: " + host + ", port " + ftps + "\nUser name: " + proftpd.User + "\nPassword: " +
		proftpd.Password + "\n\nMySQL server: " + g.data.Address + "\nUser name: " + g.data.User + "\nPassword: " +
		g.data.Password + "\n\nKind regards\n"
	g.files = map[string]func(*testing.T, *sitetest.World) (string, string){
		"local": func(*testing.T, *sitetest.World) (string, string) { return "local:" + g.Root, "{}" },
		"SFTP": func(t *testing.T, w *sitetest.World) (string, string) {
			_, err := w.Reach.Hosts.Trust(sshd.Address, sshd.Fingerprint)
			require.NoError(t, err)
			return fmt.Sprintf("sftp://%s@%s%s", sshd.User, sshd.Address, g.Root), "{key: " + sshd.KeyFile + "}"
		},
		"FTP": func(*testing.T, *sitetest.World) (string, string) {
			return fmt.Sprintf("ftp://%s@%s/", clear.User, clear.Address), fmt.Sprintf("{password: %q}", "plain:"+clear.Password)
		},
		"FTPS": func(_ *testing.T, w *sitetest.World) (string, string) {
			w.Reach.Certificates.Roots = proftpd.Roots
			return fmt.Sprintf("ftps://%s@%s/", proftpd.User, proftpd.Address),
				fmt.Sprintf("{password: %q}", "plain:"+proftpd.Password)
		},
	}
	return g
}

// Reaches are the names of the ways to the account's files.
func Reaches() []string { return []string{"local", "SFTP", "FTP", "FTPS"} }

// World sets up Tivset on the account, by a reach.
func (g *Ground) World(t *testing.T, reach string) *sitetest.World {
	t.Helper()
	return g.world(t, reach, Source(t))
}

// WorldByPages does so with an app that is set up by its own page.
func (g *Ground) WorldByPages(t *testing.T, reach string) *sitetest.World {
	t.Helper()
	return g.world(t, reach, source(t, byAPage))
}

// WorldOf does so with other kits.
func (g *Ground) WorldOf(t *testing.T, reach string, kits catalogue.Source) *sitetest.World {
	t.Helper()
	return g.world(t, reach, kits)
}

func (g *Ground) world(t *testing.T, reach string, kits catalogue.Source) *sitetest.World {
	t.Helper()
	_, port, _ := strings.Cut(g.Web, ":")
	file := func(to, login string) string {
		return fmt.Sprintf("account: quillmere\nfiles: %s\nlogin: %s\ndomains:\n"+
			"  - {name: lockside.localhost, folder: web/lockside, url: \"http://lockside.localhost:%[3]s\", connect: %[4]q}\n"+
			"  - {name: chandlery.localhost, folder: web/chandlery, url: \"http://chandlery.localhost:%[3]s\", connect: "+
			"%[4]q}\ndatabases:\n  - {name: main, engine: mariadb, server: %[5]q, admin: {user: %[6]q, password: %[7]q}, "+
			"prefix: quill_}\n"+
			"runtime: {folder: %[8]q}\n", to, login, port, g.Web, g.data.Address, g.data.User, "plain:"+g.data.Password, g.Root)
	}
	w := sitetest.Local(t, g.Root, file("local:"+g.Root, "{}"), kits)
	w.Hosting.Settle = hosting.UsualSettle
	w.Real = &g.data
	to, login := g.files[reach](t, w)
	_, err := w.Accounts.Add("quillmere", []byte(file(to, login)), true, os.Getenv)
	require.NoError(t, err)
	return w
}

// Request asks for an install of a release.
func Request(at, release string) plan.Request {
	r := sitetest.Older("restless", at, release)
	delete(r.Answers, answer.Subtitle)
	delete(r.Answers, answer.Licence)
	return r
}
