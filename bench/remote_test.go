//go:build bench

package bench

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tivset/internal/app/archive"
	"tivset/internal/demo"
	"tivset/internal/hosting/files/sftp"
	"tivset/internal/hosting/ssh"
	"tivset/internal/trial/servers"
)

// far puts a line of 50 ms there and back before a server.
func far(t *testing.T, address string) string { return farAt(t, "127.0.0.1:0", address, nil) }

// width is how many bytes a second all connections of a line take together;
// nil for any number.
type width struct {
	rate int
	mu   sync.Mutex
	free time.Time
}

// pass waits until so many bytes have gone through.
func (w *width) pass(bytes int) {
	if w == nil {
		return
	}
	w.mu.Lock()
	if now := time.Now(); w.free.Before(now) {
		w.free = now
	}
	w.free = w.free.Add(time.Duration(bytes) * time.Second / time.Duration(w.rate))
	until := w.free
	w.mu.Unlock()
	time.Sleep(time.Until(until))
}

func farAt(t *testing.T, here, address string, w *width) string {
	l, err := net.Listen("tcp", here)
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			there, err := net.Dial("tcp", address)
			if err != nil {
				near.Close()
				continue
			}
			go late(near, there, w)
			go late(there, near, w)
		}
	}()
	return l.Addr().String()
}

// late copies, each piece 25 ms after it came.
func late(to io.WriteCloser, from io.Reader, w *width) {
	type piece struct {
		at   time.Time
		data []byte
	}
	pieces := make(chan piece, 4096)
	go func() {
		defer close(pieces)
		for {
			data := make([]byte, 64<<10)
			n, err := from.Read(data)
			if n > 0 {
				pieces <- piece{time.Now().Add(25 * time.Millisecond), data[:n]}
			}
			if err != nil {
				return
			}
		}
	}()
	for p := range pieces {
		time.Sleep(time.Until(p.at))
		w.pass(len(p.data))
		if _, err := to.Write(p.data); err != nil {
			break
		}
	}
	_ = to.Close()
}

// An account's server behind a line of 50 ms, and how we and the system's
// programs sign in to it.
type distant struct {
	servers.SSH
	address, port string
	hosts         *ssh.Hosts
}

func behindALine(t *testing.T, extra string) distant {
	s := servers.OpenSSH(t, extra)
	return reachedAt(t, s, far(t, s.Address))
}

// here is a server without a long line before it.
func here(t *testing.T, extra string) distant {
	s := servers.OpenSSH(t, extra)
	return reachedAt(t, s, s.Address)
}

func reachedAt(t *testing.T, s servers.SSH, address string) distant {
	d := distant{SSH: s, address: address, hosts: &ssh.Hosts{Own: filepath.Join(t.TempDir(), "known")}}
	_, err := d.hosts.Trust(d.address, s.Fingerprint)
	require.NoError(t, err)
	_, d.port, err = net.SplitHostPort(d.address)
	require.NoError(t, err)
	return d
}

// ours uploads an archive as an install does.
func (d distant) ours(t *testing.T, packed string) time.Duration {
	file, err := os.Open(packed)
	require.NoError(t, err)
	defer file.Close()
	return median(1, func() {
		f, err := sftp.Open(context.Background(), ssh.New(ssh.Login{Address: d.address, User: d.User, Key: d.Key}, d.hosts),
			t.TempDir())
		require.NoError(t, err)
		defer f.Close()
		require.NoError(t, archive.Unpack(context.Background(), file, "inkreach-1.4.0", nil, f, ".", nil))
	})
}

// theirs runs a shell line in which %s stands for the options that ssh and sftp
// have in common.
func (d distant) theirs(t *testing.T, line string) time.Duration {
	options := fmt.Sprintf("-o Port=%s -i %s -o UserKnownHostsFile=%s -o BatchMode=yes", d.port, d.KeyFile, d.hosts.Own)
	return median(1, func() {
		out, err := exec.Command("sh", "-c", fmt.Sprintf(line, options)).CombinedOutput()
		require.NoError(t, err, "%s", out)
	})
}

func unpacked(t *testing.T, packed string) string {
	folder := t.TempDir()
	require.NoError(t, exec.Command("tar", "-xzf", packed, "-C", folder).Run())
	return folder
}

// Uploading over SSH takes little longer than tar through the system's ssh.
func TestOverSSH(t *testing.T) {
	catalogue := t.TempDir()
	require.NoError(t, demo.WriteCatalogue(catalogue))
	packed, _ := app(t, catalogue, 3000, 20_000)
	d := behindALine(t, "")
	folder := unpacked(t, packed)
	ours, theirs := inTurn(5, func() { d.ours(t, packed) }, func() {
		d.theirs(t, "tar -cz -C "+folder+" . | ssh %s "+d.User+"@127.0.0.1 tar -xzf - -C "+t.TempDir())
	})
	fmt.Printf("3,000 files, 60 MB over SSH, 50 ms round trip: %.1f s; tar through the system's ssh: %.1f s; ratio "+
		"%.2f (limit 1.3)\n", ours.Seconds(), theirs.Seconds(), ours.Seconds()/theirs.Seconds())
	require.Less(t, ours.Seconds(), 1.3*theirs.Seconds())
	bare := behindALine(t, "ForceCommand internal-sftp\n")
	fmt.Printf("the same over SFTP without a shell: %.1f s\n", bare.ours(t, packed).Seconds())
}

// Without a shell many files are written at a time. The system's program takes
// minutes for the large archive, so that both take a small one here.
func TestOverSFTP(t *testing.T) {
	catalogue := t.TempDir()
	require.NoError(t, demo.WriteCatalogue(catalogue))
	packed, _ := app(t, catalogue, 300, 20_000)
	d := behindALine(t, "ForceCommand internal-sftp\n")
	ours := d.ours(t, packed)
	batch := filepath.Join(t.TempDir(), "batch")
	require.NoError(t, os.WriteFile(batch, []byte("put -r "+unpacked(t, packed)+"/inkreach-1.4.0 "+t.TempDir()+"/\n"),
		0o600))
	theirs := d.theirs(t, "sftp %s -b "+batch+" "+d.User+"@127.0.0.1")
	fmt.Printf("300 files, 6 MB over SFTP, 50 ms round trip: %.1f s; the system's sftp: %.1f s; %.1f times as fast "+
		"(limit 10)\n", ours.Seconds(), theirs.Seconds(), theirs.Seconds()/ours.Seconds())
	require.Greater(t, theirs.Seconds(), 10*ours.Seconds())
}
