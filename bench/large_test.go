//go:build bench

package bench

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/account"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
)

// mostMemory is what the program may hold, in MB, whatever the size of a site.
const mostMemory = 96

// watched runs the program on a home, and gives how long it took and the most memory that it held in MB (proc(5),
// VmHWM: what wait4(2) tells begins with the parent's).
func watched(t *testing.T, home string, args ...string) (took time.Duration, peak float64) {
	t.Helper()
	var said bytes.Buffer
	c := exec.Command(program, args...)
	c.Env = append(os.Environ(), "TIVSET_HOME="+home)
	c.Stdout, c.Stderr = &said, &said
	began := time.Now()
	require.NoError(t, c.Start())
	ended := make(chan error, 1)
	go func() { ended <- c.Wait() }()
	for {
		select {
		case err := <-ended:
			require.NoError(t, err, "%s", said.String())
			return time.Since(began), peak
		case <-time.After(20 * time.Millisecond):
			text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", c.Process.Pid))
			if _, after, found := strings.Cut(string(text), "VmHWM:"); found {
				var kilobytes float64
				_, _ = fmt.Sscan(after, &kilobytes)
				peak = max(peak, kilobytes/1024)
			}
		}
	}
}

// reachedBy has the demo's account reached in another way, on real servers.
func reachedBy(t *testing.T, w *sitetest.World, reach string) {
	t.Helper()
	switch reach {
	case "SFTP":
		s := servers.OpenSSH(t, "")
		_, err := w.Reach.Hosts.Trust(s.Address, s.Fingerprint)
		require.NoError(t, err)
		w.EditAccount(func(a *account.Account) {
			a.Reach = fmt.Sprintf("sftp://%s@%s%s", s.User, s.Address, w.Root)
			a.Login = &account.Access{Key: s.KeyFile}
		})
	case "FTP":
		f := servers.ProFTPD(t, servers.FTPOptions{Home: w.Root})
		w.EditAccount(func(a *account.Account) {
			a.Reach = fmt.Sprintf("ftp://%s@%s/", f.User, f.Address)
			a.Login = &account.Access{Password: "plain:" + f.Password}
			a.Runtime.Folder = w.Root
		})
	}
}

// large fills a site's uploads with 50,000 files, 20,000 of them in one folder, with names as long as they may be, and
// folders 100 deep.
func large(t *testing.T, folder string) {
	t.Helper()
	put := func(name string) {
		full := filepath.Join(folder, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, []byte(name), 0o644))
	}
	for n := range 20_000 {
		put(fmt.Sprintf("one/picture-%05d.jpg", n))
	}
	for n := range 29_800 {
		put(fmt.Sprintf("many/%03d/%05d.jpg", n/100, n))
	}
	for n := range 100 {
		put(fmt.Sprintf("names/%03d%s.jpg", n, strings.Repeat("x", 255-7)))
		put(strings.Repeat("d/", n+1) + "a.jpg")
	}
}

// A site of 50,000 uploads is looked at, kept and brought back over every reach.
func TestFiftyThousandUploads(t *testing.T) {
	for _, reach := range []string{"local", "SFTP", "FTP"} {
		t.Run(reach, func(t *testing.T) {
			w := sitetest.DemoOn(t, servers.MariaDB(t))
			reachedBy(t, w, reach)
			done, err := w.Install(sitetest.Request("lampshelf", "lockside.localhost/shelf"))
			require.NoError(t, err)
			uploads := filepath.Join(w.Root, done.Site.Folder, "samples")
			large(t, uploads)
			into := t.TempDir()
			for _, args := range [][]string{{"check", done.Site.Address}, {"backup", done.Site.Address, "--into", into},
				{"restore", done.Site.Address, "--from", "@", "--yes", "--no-backup"},
				{"copy", done.Site.Address, "--at", "lockside.localhost/second", "--yes"},
				{"remove", "lockside.localhost/second", "--yes", "--no-backup"}} {
				for i := range args {
					if args[i] == "@" {
						kept, err := filepath.Glob(filepath.Join(into, "*"))
						require.NoError(t, err)
						args[i] = kept[0]
					}
				}
				took, peak := watched(t, w.Demo.Folder, args...)
				fmt.Printf("50,000 uploads over %s, %s: %.1f s, peak %.0f MB (limit %d)\n", reach, args[0], took.Seconds(), peak,
					mostMemory)
				if peak >= mostMemory {
					t.Errorf("%s over %s held %.0f MB", args[0], reach, peak)
				}
			}
		})
	}
}

// A file of 4 GB goes into a backup and comes back.
func TestFourGigabytes(t *testing.T) {
	for _, reach := range []string{"local", "SFTP", "FTP"} {
		t.Run(reach, func(t *testing.T) {
			w := sitetest.DemoOn(t, servers.MariaDB(t))
			reachedBy(t, w, reach)
			done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
			require.NoError(t, err)
			name := filepath.Join(w.Root, done.Site.Folder, "uploads", "film.mp4")
			file, err := os.Create(name)
			require.NoError(t, err)
			require.NoError(t, file.Truncate(4<<30+7))
			require.NoError(t, file.Close())
			into := t.TempDir()
			took, peak := watched(t, w.Demo.Folder, "backup", done.Site.Address, "--into", into)
			fmt.Printf("a file of 4 GB over %s, backup: %.1f s, peak %.0f MB (limit %d)\n", reach, took.Seconds(), peak,
				mostMemory)
			if peak >= mostMemory {
				t.Errorf("backup over %s held %.0f MB", reach, peak)
			}
			require.NoError(t, os.Remove(name))
			kept, err := filepath.Glob(filepath.Join(into, "*"))
			require.NoError(t, err)
			took, peak = watched(t, w.Demo.Folder, "restore", done.Site.Address, "--from", kept[0], "--yes", "--no-backup")
			fmt.Printf("a file of 4 GB over %s, restore: %.1f s, peak %.0f MB (limit %d)\n", reach, took.Seconds(), peak,
				mostMemory)
			if peak >= mostMemory {
				t.Errorf("restore over %s held %.0f MB", reach, peak)
			}
			info, err := os.Stat(name)
			require.NoError(t, err)
			require.EqualValues(t, 4<<30+7, info.Size())
			require.NoError(t, os.Remove(name))
		})
	}
}

// On a server with 2,000 other databases one is made, found and dropped.
func TestTwoThousandDatabases(t *testing.T) {
	real := servers.MariaDB(t)
	var script strings.Builder
	for n := range 2000 {
		fmt.Fprintf(&script, "CREATE DATABASE others_%04d;\n", n)
	}
	c := exec.Command("mariadb", "--no-defaults", "-uroot", "-S", real.Socket)
	c.Env = append(os.Environ(), "MYSQL_PWD="+real.Password)
	c.Stdin = strings.NewReader(script.String())
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
	w := sitetest.DemoOn(t, real)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	for _, args := range [][]string{{"account", "show", "quillmere"}, {"check", done.Site.Address},
		{"copy", done.Site.Address, "--at", "lockside.localhost/second", "--yes"},
		{"remove", "lockside.localhost/second", "--yes"}} {
		took, peak := watched(t, w.Demo.Folder, args...)
		fmt.Printf("2,000 databases beside it, %s: %.1f s, peak %.0f MB (limit %d)\n", args[0], took.Seconds(), peak,
			mostMemory)
		if peak >= mostMemory {
			t.Errorf("%s held %.0f MB", args[0], peak)
		}
	}
}
