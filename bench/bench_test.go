//go:build bench

// Package bench measures what the README states, each ratio in one run on one
// machine. Run it with make bench.
package bench

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/require"

	"tivset/internal/demo"
	"tivset/internal/hosting/account"
	"tivset/internal/records/ledger"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
)

const program = "../bin/tivset"

// median runs f n times and gives the time in the middle.
func median(n int, f func()) time.Duration {
	times := make([]time.Duration, n)
	for i := range times {
		began := time.Now()
		f()
		times[i] = time.Since(began)
	}
	slices.Sort(times)
	return times[n/2]
}

// inTurn runs two functions n times in turn and gives the median of each.
func inTurn(n int, a, b func()) (time.Duration, time.Duration) {
	var as, bs []time.Duration
	for range n {
		as = append(as, median(1, a))
		bs = append(bs, median(1, b))
	}
	slices.Sort(as)
	slices.Sort(bs)
	return as[n/2], bs[n/2]
}

func TestStart(t *testing.T) {
	took := median(31, func() { require.NoError(t, exec.Command(program, "--version").Run()) })
	info, err := os.Stat(program)
	require.NoError(t, err)
	fmt.Printf("start of tivset --version: %.1f ms (limit 25)\n", took.Seconds()*1000)
	fmt.Printf("size of the program: %.1f MB (limit 40)\n", float64(info.Size())/1e6)
	require.Less(t, took, 25*time.Millisecond)
	require.Less(t, info.Size(), int64(40e6))
}

// The first question is there at once, and so is the review.
func TestConversation(t *testing.T) {
	d, err := demo.Start(t.TempDir())
	require.NoError(t, err)
	defer d.Close()
	environment := append(os.Environ(), "TIVSET_HOME="+d.Folder, "TERM=xterm-256color")
	prompt := median(15, func() {
		c := exec.Command(program, "install")
		c.Env = environment
		terminal, err := pty.Start(c)
		require.NoError(t, err)
		var shown []byte
		part := make([]byte, 4096)
		for !bytes.Contains(shown, []byte("App")) || !bytes.HasSuffix(shown, []byte(": ")) {
			n, err := terminal.Read(part)
			require.NoError(t, err)
			shown = append(shown, part[:n]...)
		}
		_ = c.Process.Kill()
		_ = c.Wait()
		_ = terminal.Close()
	})
	review := median(5, func() {
		c := exec.Command(program, "install", "pennywharf", "--at", "chandlery.localhost", "-a", "title=Rope", "-a",
			"admin.email=clerk@chandlery.localhost", "--accept-licence", "--dry-run")
		c.Env = environment
		require.NoError(t, c.Run())
	})
	fmt.Printf("first question of tivset install: %.0f ms (limit 100)\n", prompt.Seconds()*1000)
	fmt.Printf("review of an install, as a dry run: %.0f ms (limit 1000)\n", review.Seconds()*1000)
	require.Less(t, prompt, 100*time.Millisecond)
	require.Less(t, review, time.Second)
}

func TestThousandSites(t *testing.T) {
	listing(t, 1000, 40*time.Millisecond)
	listing(t, 10_000, 150*time.Millisecond)
}

// listing measures how long it takes to list so many sites.
func listing(t *testing.T, sites int, limit time.Duration) {
	ctx := context.Background()
	home := t.TempDir()
	d, err := demo.Start(home)
	require.NoError(t, err)
	defer d.Close()
	l, err := ledger.Open(ctx, d.Home.Ledger())
	require.NoError(t, err)
	for i := range sites {
		require.NoError(t, l.PutSite(ctx, ledger.Site{Address: fmt.Sprintf("s%05d.localhost", i), App: "willowbench",
			Release: "2.3.7", Account: "quillmere", Health: "good",
			Entries: []string{"admin", "config", "index.page", "lib", "parts", "style.css"}}))
	}
	require.NoError(t, l.Close())
	for _, args := range [][]string{{"sites"}, {"sites", "--json"}} {
		took := median(15, func() {
			c := exec.Command(program, args...)
			c.Env = append(os.Environ(), "TIVSET_HOME="+home)
			out, err := c.Output()
			require.NoError(t, err)
			require.Equal(t, sites, bytes.Count(out, []byte(".localhost")))
		})
		over := map[bool]string{true: ": MISSED"}[took > limit]
		fmt.Printf("tivset %s with %d sites: %.0f ms (limit %d%s)\n", strings.Join(args, " "), sites, took.Seconds()*1000,
			limit.Milliseconds(), over)
	}
}

// app generates a large app: Inkreach's pages, many files, a schema with rows.
func app(t *testing.T, catalogue string, files, bytesEach int) (archive string, schema []byte) {
	t.Helper()
	random := rand.New(rand.NewSource(1))
	text := make([]byte, bytesEach)
	return appOf(t, catalogue, files, func(int) []byte {
		// Half random, half text: about as compressible as program text with pictures.
		random.Read(text[:bytesEach/3])
		copy(text[bytesEach/3:], bytes.Repeat([]byte("function paddle(gate) { return gate.open(); }\n"), bytesEach/46+1))
		return text
	})
}

// programText gives so many files of what programmers have written: Go's own.
func programText(t *testing.T, n int) [][]byte {
	var out [][]byte
	src := filepath.Join(runtime.GOROOT(), "src")
	require.NoError(t, filepath.WalkDir(src, func(name string, d fs.DirEntry, err error) error {
		if err != nil || len(out) == n || d.IsDir() || !strings.HasSuffix(name, ".go") {
			return err
		}
		text, err := os.ReadFile(name)
		out = append(out, text)
		return err
	}))
	require.Len(t, out, n)
	return out
}

// appOf does so with files of a content.
func appOf(t *testing.T, catalogue string, files int, content func(int) []byte) (archive string, schema []byte) {
	t.Helper()
	folder := filepath.Join(catalogue, "inkreach")
	from, err := os.Open(filepath.Join(folder, "inkreach-1.4.0.tar.gz"))
	require.NoError(t, err)
	defer from.Close()
	unzipped, err := gzip.NewReader(from)
	require.NoError(t, err)
	in := tar.NewReader(unzipped)
	archive = filepath.Join(folder, "inkreach-1.4.0.tar.gz.new")
	file, err := os.Create(archive)
	require.NoError(t, err)
	sum := sha256.New()
	z := gzip.NewWriter(io.MultiWriter(file, sum))
	out := tar.NewWriter(z)
	add := func(name string, text []byte) {
		require.NoError(t, out.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: int64(len(text))}))
		_, err := out.Write(text)
		require.NoError(t, err)
	}
	for {
		h, err := in.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		text, err := io.ReadAll(in)
		require.NoError(t, err)
		if strings.HasSuffix(h.Name, "schema/mariadb.sql") {
			if !bytes.Contains(text, []byte("ink_more0")) {
				text = append(text, rows()...)
			}
			schema = text
		}
		add(h.Name, text)
	}
	for i := range files {
		add(fmt.Sprintf("inkreach-1.4.0/files%d/%02d/%02d/file%d.dat", files, i%30, i%7, i), content(i))
	}
	require.NoError(t, out.Close())
	require.NoError(t, z.Close())
	require.NoError(t, file.Close())
	replaceSum(t, folder, archive, hex.EncodeToString(sum.Sum(nil)))
	return filepath.Join(folder, "inkreach-1.4.0.tar.gz"), schema
}

// rows are 60 tables and 20,000 rows more.
func rows() []byte {
	var b bytes.Buffer
	for n := range 60 {
		fmt.Fprintf(&b, "\nCREATE TABLE ink_more%d (id INT NOT NULL PRIMARY KEY, name VARCHAR(80) NOT NULL, text TEXT, "+
			"KEY by_name (name)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;\n", n)
		for block := range 4 {
			fmt.Fprintf(&b, "INSERT INTO ink_more%d (id, name, text) VALUES ", n)
			for i := range 84 {
				if i > 0 {
					b.WriteString(",")
				}
				fmt.Fprintf(&b, "(%d,'name %d','%s')", block*84+i, i, strings.Repeat("it''s a text; ", 10))
			}
			b.WriteString(";\n")
		}
	}
	return b.Bytes()
}

func replaceSum(t *testing.T, folder, archive, sum string) {
	name := filepath.Join(folder, "inkreach-1.4.0.tar.gz")
	old, err := os.ReadFile(name)
	require.NoError(t, err)
	before := sha256.Sum256(old)
	kit, err := os.ReadFile(filepath.Join(folder, "kit.yaml"))
	require.NoError(t, err)
	kit = bytes.ReplaceAll(kit, []byte(hex.EncodeToString(before[:])), []byte(sum))
	kit = bytes.ReplaceAll(kit, []byte("space: 1MB"), []byte("space: 800MB")) // it is the limit of an archive too
	require.NoError(t, os.WriteFile(filepath.Join(folder, "kit.yaml"), kit, 0o644))
	require.NoError(t, os.Rename(archive, name))
}

func TestInstall(t *testing.T) {
	real := servers.MariaDB(t)
	w := sitetest.DemoOn(t, real)
	w.EditAccount(func(a *account.Account) { // straight to the web server, without the tests' proxy
		for i := range a.Domains {
			a.Domains[i].Connect = w.Demo.Standin.Web.Address()
		}
	})
	for _, size := range []struct {
		name         string
		files, bytes int
		factor       bool
	}{{"3,000 files, 60 MB", 3000, 20_000, true}, {"30,000 files, 600 MB", 30_000, 20_000, false}} {
		archive, schema := app(t, filepath.Join(w.Demo.Folder, "demo/catalogue"), size.files, size.bytes)
		var peak int64
		n := 0
		install := func() {
			c := exec.Command(program, "install", "inkreach", "--at", fmt.Sprintf("chandlery.localhost/s%d-%d", size.files, n),
				"-a", "title=T", "-a", "admin.email=w@lockside.localhost", "--yes", "--quiet")
			n++
			c.Env = append(os.Environ(), "TIVSET_HOME="+w.Demo.Folder)
			out, err := c.CombinedOutput()
			require.NoError(t, err, "%s", out)
			peak = max(peak, c.ProcessState.SysUsage().(*syscall.Rusage).Maxrss)
		}
		install() // the archive is in the cache from here on, as it is for tar
		if size.factor {
			// In turn, for the disk has good and bad moments.
			ours, theirs := inTurn(9, install, func() { reference(t, real, archive, schema) })
			ratio := ours.Seconds() / theirs.Seconds()
			fmt.Printf("install of %s: %.2f s; tar and the server's client: %.2f s; ratio %.2f (limit 1.5)\n", size.name,
				ours.Seconds(), theirs.Seconds(), ratio)
			require.Less(t, ratio, 1.5)
		}
		fmt.Printf("peak memory of the install of %s: %.1f MB (limit 64)\n", size.name, float64(peak)/1024)
		require.Less(t, peak, int64(64<<10))
	}
}

// An install of an archive that is packed slowly, against a shell script that does the
// same: unpacks it, loads the schema and asks for the pages that a check asks for.
func TestInstallXZ(t *testing.T) {
	xz := servers.Need(t, "xz")[0]
	real := servers.MariaDB(t)
	w := sitetest.DemoOn(t, real)
	a, at := inFront(t, w.Demo.Standin.Web.Address())
	w.EditAccount(func(acc *account.Account) {
		for i := range acc.Domains {
			acc.Domains[i].Connect = at
		}
	})
	folder := filepath.Join(w.Demo.Folder, "demo/catalogue")
	texts := programText(t, 2900)
	gz, schema := appOf(t, folder, len(texts), func(i int) []byte { return texts[i] })
	packed, err := exec.Command("sh", "-c", "gzip -dc "+gz+" | "+xz+" -6 -c").Output()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(gz+".new", packed, 0o644))
	sum := sha256.Sum256(packed)
	replaceSum(t, filepath.Join(folder, "inkreach"), gz+".new", hex.EncodeToString(sum[:]))
	n := 0
	install := func() {
		a.take()
		c := exec.Command(program, "install", "inkreach", "--at", fmt.Sprintf("chandlery.localhost/x%d", n), "-a", "title=T",
			"-a", "admin.email=w@lockside.localhost", "--yes", "--quiet")
		n++
		c.Env = append(os.Environ(), "TIVSET_HOME="+w.Demo.Folder)
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	first := median(1, install)
	requests := a.take()
	ours, theirs := inTurn(7, install, func() {
		reference(t, real, gz, schema)
		curls(t, requests)
	})
	fmt.Printf(
		"install of 2,900 files in an .xz: the first %.2f s, the next %.2f s; a shell script with its %d requests: "+
			"%.2f s; ratio %.2f and %.2f (limit 1.0)\n",
		first.Seconds(),
		ours.Seconds(),
		len(requests),
		theirs.Seconds(),
		first.Seconds()/theirs.Seconds(),
		ours.Seconds()/theirs.Seconds(),
	)
}

// reference unpacks the archive with tar and loads the schema with the
// server's own client.
func reference(t *testing.T, d servers.Database, archive string, schema []byte) {
	folder := t.TempDir()
	out, err := exec.Command("tar", "-xf", archive, "-C", folder).CombinedOutput()
	require.NoError(t, err, "%s", out)
	client := func(text []byte, more ...string) {
		c := exec.Command("mariadb", append([]string{"--no-defaults", "-uroot", "-S", d.Socket}, more...)...)
		c.Env = append(os.Environ(), "MYSQL_PWD="+d.Password)
		c.Stdin = bytes.NewReader(text)
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	client([]byte("DROP DATABASE IF EXISTS reference; CREATE DATABASE reference;"))
	client(schema, "reference")
}
