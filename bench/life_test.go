//go:build bench

package bench

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tivset/internal/app/rewrite"
	"tivset/internal/demo"
	"tivset/internal/hosting/account"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
)

// run runs the program on a demo's home and gives the most memory it held, as
// the system tells.
func run(t *testing.T, home string, args ...string) float64 {
	t.Helper()
	c := exec.Command(program, args...)
	c.Env = append(os.Environ(), "TIVSET_HOME="+home)
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return float64(c.ProcessState.SysUsage().(*syscall.Rusage).Maxrss) / 1024
}

// A backup and a restore of 3,000 files, 60 MB, and a database of 200 MB,
// against tar and the server's own clients, one after the other.
func TestBackupAndRestore(t *testing.T) {
	real := servers.MariaDB(t)
	w := sitetest.DemoOn(t, real)
	w.EditAccount(func(a *account.Account) {
		for i := range a.Domains {
			a.Domains[i].Connect = w.Demo.Standin.Web.Address()
		}
	})
	app(t, filepath.Join(w.Demo.Folder, "demo/catalogue"), 3000, 20_000)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	client := func(program, text string, more ...string) *exec.Cmd {
		c := exec.Command(program, append([]string{"--no-defaults", "-uroot", "-S", real.Socket}, more...)...)
		c.Env = append(os.Environ(), "MYSQL_PWD="+real.Password)
		c.Stdin = strings.NewReader(text)
		return c
	}
	name := done.Site.Database.Name
	out, err := client("mariadb",
		"CREATE TABLE large (id INT NOT NULL PRIMARY KEY, text TEXT NOT NULL) CHARSET utf8mb4; INSERT INTO large SELECT "+
			"seq, REPEAT(MD5(seq), 50) FROM seq_1_to_125000;", name).CombinedOutput()
	require.NoError(t, err, "%s", out)
	folder, kept, plain := filepath.Join(w.Root, done.Site.Folder), t.TempDir(), t.TempDir()
	var peak float64
	back := func() {
		require.NoError(t, os.RemoveAll(kept))
		peak = max(peak, run(t, w.Demo.Folder, "backup", "journal", "--into", kept, "--quiet"))
	}
	tarball, dump := filepath.Join(plain, "site.tar"), filepath.Join(plain, "site.sql")
	reference := func() {
		out, err := exec.Command("tar", "-C", folder, "-cf", tarball, ".").CombinedOutput()
		require.NoError(t, err, "%s", out)
		c := client("mariadb-dump", "", "--single-transaction", name)
		to, err := os.Create(dump)
		require.NoError(t, err)
		c.Stdout = to
		require.NoError(t, c.Run())
		require.NoError(t, to.Close())
	}
	ours, theirs := inTurn(5, back, reference)
	size, err := os.Stat(dump)
	require.NoError(t, err)
	fmt.Printf("backup of 3,000 files, 60 MB and %d MB of SQL: %.2f s, peak memory %.0f MB; tar and mariadb-dump: %.2f "+
		"s; ratio %.2f (limit 1; 96 MB)\n", size.Size()/1_000_000, ours.Seconds(), peak, theirs.Seconds(),
		ours.Seconds()/theirs.Seconds())
	require.Less(t, peak, 96.0)
	backups, err := filepath.Glob(filepath.Join(kept, "*"))
	require.NoError(t, err)
	peak = 0
	restore := func() {
		peak = max(peak, run(t, w.Demo.Folder, "restore", "journal", "--from", backups[0], "--no-backup", "--yes", "--quiet"))
	}
	again := func() {
		to := t.TempDir()
		out, err := exec.Command("tar", "-C", to, "-xf", tarball).CombinedOutput()
		require.NoError(t, err, "%s", out)
		out, err = client("mariadb", "DROP DATABASE IF EXISTS reference; CREATE DATABASE reference;").CombinedOutput()
		require.NoError(t, err, "%s", out)
		from, err := os.Open(dump)
		require.NoError(t, err)
		c := client("mariadb", "", "reference")
		c.Stdin = from
		out, err = c.CombinedOutput()
		require.NoError(t, err, "%s", out)
		require.NoError(t, from.Close())
	}
	ours, theirs = inTurn(3, restore, again)
	fmt.Printf("restore of the same: %.2f s, peak memory %.0f MB; tar and mariadb: %.2f s; ratio %.2f (limit 1; 96 MB)\n",
		ours.Seconds(), peak, theirs.Seconds(), ours.Seconds()/theirs.Seconds())
	require.Less(t, peak, 96.0)
}

// lines gives a dump of so many bytes, one row in ten with an address.
type lines struct {
	left  int64
	block []byte
	rest  []byte
}

func (l *lines) Read(p []byte) (int, error) {
	if len(l.rest) == 0 {
		if l.left <= 0 {
			return 0, io.EOF
		}
		l.rest = l.block
		l.left -= int64(len(l.block))
	}
	n := copy(p, l.rest)
	l.rest = l.rest[n:]
	return n, nil
}

// Addresses in 1 GB of SQL are rewritten on one core, in constant memory.
func TestRewriting(t *testing.T) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	var block bytes.Buffer
	block.WriteString("INSERT INTO `facts` (`id`, `value`) VALUES\n")
	const rows = 2000
	for i := range rows {
		value := strings.Repeat("A boat went through the lock. ", 15)
		if i%10 == 0 {
			value = `a:1:{s:3:"url";s:41:"http://lockside.localhost:8780/forum/a.png";}` + value
		}
		fmt.Fprintf(&block, "(%d,'%s')%s\n", i, value, map[bool]string{true: ",", false: ";"}[i < rows-1])
	}
	a, err := rewrite.New("http://lockside.localhost:8780/forum/", "https://try.lockside.localhost/talk/", nil)
	require.NoError(t, err)
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	const total = 1 << 30
	began := time.Now()
	_, err = a.Dump("mariadb", func(string, string) bool {
		return true
	}, &lines{left: total, block: block.Bytes()}, io.Discard)
	require.NoError(t, err)
	took := time.Since(began)
	runtime.ReadMemStats(&after)
	fmt.Printf("rewriting addresses in 1 GB of SQL on one core: %.0f MB/s (limit 200), heap %.1f MB\n",
		total/1e6/took.Seconds(), float64(after.HeapSys-before.HeapSys)/1e6)
	require.Greater(t, total/1e6/took.Seconds(), 200.0)
}

// A client asks every 50 ms while a site is updated.
func TestDowntime(t *testing.T) {
	d, err := demo.Start(t.TempDir())
	require.NoError(t, err)
	defer d.Close()
	app(t, filepath.Join(d.Folder, "demo/catalogue"), 3000, 20_000)
	run(t, d.Folder, "install", "inkreach", "--release", "1.3.2", "--at", "lockside.localhost/journal", "-a", "title=T",
		"-a", "admin.email=w@lockside.localhost", "--yes", "--quiet")
	ctx, stop := context.WithCancel(context.Background())
	var worst, now time.Duration
	asked, failed := 0, 0
	over := make(chan struct{})
	go func() {
		defer close(over)
		last := time.Now()
		for ctx.Err() == nil {
			r, err := http.NewRequest(http.MethodGet, "http://"+d.Standin.Web.Address()+"/journal/", nil)
			require.NoError(t, err)
			r.Host = strings.TrimPrefix(d.Domains[1].URL, "http://")
			answer, err := http.DefaultClient.Do(r)
			asked++
			if err != nil || answer.StatusCode != http.StatusOK {
				failed++
				now += time.Since(last)
				worst = max(worst, now)
			} else {
				now = 0
			}
			if err == nil {
				_ = answer.Body.Close()
			}
			last = time.Now()
			time.Sleep(50 * time.Millisecond)
		}
	}()
	began := time.Now()
	run(t, d.Folder, "update", "journal", "--yes", "--quiet")
	took := time.Since(began)
	stop()
	<-over
	fmt.Printf("update of a site to a release of 3,000 files, 60 MB: %.2f s; of %d requests %d failed, for at most "+
		"%.2f s (limit 2)\n", took.Seconds(), asked, failed, worst.Seconds())
	require.Less(t, worst, 2*time.Second)
}
