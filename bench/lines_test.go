//go:build bench

package bench

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tivset/internal/app/archive"
	"tivset/internal/demo"
	"tivset/internal/hosting/certificates"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/database/mariadb"
	"tivset/internal/hosting/database/postgresql"
	"tivset/internal/hosting/files/ftp"
	"tivset/internal/hosting/helperpage"
	"tivset/internal/hosting/web"
	"tivset/internal/secret"
	"tivset/internal/trial/servers"
)

// With a helper page, thousands of files take little longer than their archive on
// a line as people have it. On one that takes everything at once, what is
// measured is how fast this machine makes 3,000 files; that is only told.
func TestHelperPage(t *testing.T) {
	ours, alone := withHelperPage(t, 1, &width{rate: 2_500_000})
	fmt.Printf("3,000 files, 60 MB (20 MB packed) with the helper page, 50 ms round trip, 20 Mbit/s: %.1f s; sending the "+
		"archive alone with lftp: %.1f s; ratio %.2f (limit 1.5)\n", ours.Seconds(), alone.Seconds(),
		ours.Seconds()/alone.Seconds())
	require.Less(t, ours.Seconds(), 1.5*alone.Seconds())
	ours, alone = withHelperPage(t, 3, nil)
	fmt.Printf("the same on a line without a limit: %.1f s and %.1f s; ratio %.2f (not held to 1.5)\n", ours.Seconds(),
		alone.Seconds(), ours.Seconds()/alone.Seconds())
}

func withHelperPage(t *testing.T, times int, w *width) (ours, alone time.Duration) {
	catalogue := t.TempDir()
	require.NoError(t, demo.WriteCatalogue(catalogue))
	packed, _ := app(t, catalogue, 3000, 20_000)
	home := servers.AccountFolder(t)
	_, uid := servers.SiteUser(t)
	for _, dir := range []string{"web", "web/lockside", ".tivset"} {
		require.NoError(t, os.Mkdir(filepath.Join(home, dir), 0o755))
		require.NoError(t, os.Chown(filepath.Join(home, dir), uid, uid))
	}
	s, address := slowFTPOf(t, servers.FTPOptions{Home: home, UID: uid}, w)
	near := servers.PHPWeb(t, []servers.Site{{Name: "lockside.localhost",
		Root: filepath.Join(home, "web/lockside")}})
	away := far(t, near)
	_, port, _ := strings.Cut(near, ":")
	visitor := web.NewVisitor(web.Connections{"lockside.localhost:" + port: away})
	n := 0
	return inTurn(times, func() {
		n++
		ctx := context.Background()
		f, err := ftp.Open(ctx, ftp.Login{Address: address, User: s.User, Password: secret.Of(s.Password)},
			&certificates.Known{Own: os.DevNull}, "/")
		require.NoError(t, err)
		defer f.Close()
		place := helperpage.Place{Root: "web/lockside", URL: "http://lockside.localhost:" + port,
			Name: fmt.Sprintf("tivset-%d.php", n), Store: ".tivset"}
		c, err := helperpage.Send(ctx, f, visitor, place, time.Now())
		require.NoError(t, err)
		_, err = c.Look(ctx, nil, nil)
		require.NoError(t, err)
		to := fmt.Sprintf("unpacked%d", n)
		require.NoError(t, f.Mkdir(ctx, to, 0o755))
		file, err := os.Open(packed)
		require.NoError(t, err)
		defer file.Close()
		require.NoError(t, archive.Unpack(ctx, file, "inkreach-1.4.0", nil, c.Files(), to, nil))
		require.NoError(t, c.End(ctx))
	}, func() { overLFTPWith(t, s, address, "put "+packed+" -o alone.tar.gz") })
}

// On one machine no reach is slower than the tool made for it.
func TestLoopback(t *testing.T) {
	catalogue := t.TempDir()
	require.NoError(t, demo.WriteCatalogue(catalogue))
	packed, _ := app(t, catalogue, 3000, 20_000)
	folder := unpacked(t, packed)
	compare := func(what string, ours, theirs time.Duration) {
		fmt.Printf("3,000 files, 60 MB on loopback, %s: ratio %.2f (%.1f s and %.1f s; limit 1)\n", what,
			ours.Seconds()/theirs.Seconds(), ours.Seconds(), theirs.Seconds())
		require.LessOrEqual(t, ours.Seconds(), theirs.Seconds()*1.05, what) // what the clock's noise is
	}
	shell, bare := here(t, ""), here(t, "ForceCommand internal-sftp\n")
	ours, theirs := inTurn(3, func() { shell.ours(t, packed) }, func() {
		shell.theirs(t, "tar -cz -C "+folder+" . | ssh %s "+shell.User+"@127.0.0.1 tar -xzf - -C "+t.TempDir())
	})
	compare("SSH against tar through ssh", ours, theirs)
	ours, theirs = inTurn(3, func() { bare.ours(t, packed) }, func() {
		batch := filepath.Join(t.TempDir(), "batch")
		require.NoError(t, os.WriteFile(batch, []byte("put -r "+folder+"/inkreach-1.4.0 "+t.TempDir()+"/\n"), 0o600))
		bare.theirs(t, "sftp %s -b "+batch+" "+bare.User+"@127.0.0.1")
	})
	compare("SFTP against sftp", ours, theirs)
	s := servers.ProFTPD(t, servers.FTPOptions{Home: t.TempDir()})
	n := 0
	ours, theirs = inTurn(3, func() { n++; overFTP(t, s, s.Address, packed, fmt.Sprint("ours", n)) }, func() {
		overLFTP(t, s, s.Address, folder+"/inkreach-1.4.0", fmt.Sprint("theirs", n))
	})
	compare("FTP against lftp mirror -R --parallel=8", ours, theirs)
}

// A script of 1 GB is loaded as it is read. The loading runs in a process of
// its own, whose memory the system tells.
func TestLargeScript(t *testing.T) {
	for _, d := range []servers.Database{servers.MariaDB(t), servers.PostgreSQL(t)} {
		c := exec.Command(os.Args[0], "-test.run=TestLoadScript", "-test.v")
		c.Env = append(os.Environ(), "BENCH_LOAD="+d.Engine+"|"+d.Address+"|"+d.User+"|"+d.Password)
		began := time.Now()
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%s", out)
		peak := peakIn(t, out)
		fmt.Printf("1 GB of SQL into %s: %.0f s, peak memory %.1f MB (limit 96)\n", d.Engine, time.Since(began).Seconds(),
			peak)
		require.Less(t, peak, 96.0)
	}
}

// TestLoadScript is the process that TestLargeScript starts.
func TestLoadScript(t *testing.T) {
	given := strings.Split(os.Getenv("BENCH_LOAD"), "|")
	if len(given) != 4 {
		return
	}
	ctx := context.Background()
	l := database.Login{Server: given[1], User: given[2], Password: secret.Of(given[3])}
	var s database.Session
	var err error
	text := script{left: 1 << 30}
	if given[0] == "mariadb" {
		server, err := mariadb.Connect(ctx, l)
		require.NoError(t, err)
		require.NoError(t, server.CreateDatabase(ctx, "quill_large"))
		l.Database = "quill_large"
		s, err = mariadb.Open(ctx, l)
		require.NoError(t, err)
		require.NoError(t, s.Exec(ctx, "CREATE TABLE big (id INT NOT NULL, text VARCHAR(250)) ENGINE=MyISAM", nil))
	} else {
		l.Database = "postgres"
		s, err = postgresql.Open(ctx, l)
		require.NoError(t, err)
		require.NoError(t, s.Exec(ctx, "CREATE UNLOGGED TABLE big (id INT NOT NULL, text VARCHAR(250))", nil))
		text.copy = true
	}
	_, err = s.Run(ctx, bufio.NewReaderSize(&text, 1<<16), database.ScriptOptions{})
	require.NoError(t, err)
	tellPeak(t)
}

// script gives SQL of so many bytes.
type script struct {
	left int64
	copy bool
	text strings.Reader
	next int
}

func (r *script) Read(p []byte) (int, error) {
	if r.text.Len() == 0 {
		if r.left <= 0 {
			return 0, io.EOF
		}
		var b strings.Builder
		if r.copy && r.next == 0 {
			b.WriteString("COPY big (id, text) FROM stdin;\n")
		}
		if !r.copy {
			b.WriteString("INSERT INTO big (id, text) VALUES ")
		}
		for i := range 2000 {
			if r.copy {
				fmt.Fprintf(&b, "%d\t%s\n", r.next, strings.Repeat("x", 200))
			} else {
				fmt.Fprintf(&b, "%s(%d,'%s')", map[bool]string{true: ",\n"}[i > 0], r.next, strings.Repeat("x", 200))
			}
			r.next++
		}
		if !r.copy {
			b.WriteString(";\n")
		}
		r.left -= int64(b.Len())
		if r.copy && r.left <= 0 {
			b.WriteString("\\.\n")
		}
		r.text.Reset(b.String())
	}
	return r.text.Read(p)
}
