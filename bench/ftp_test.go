//go:build bench

package bench

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tivset/internal/app/archive"
	"tivset/internal/demo"
	"tivset/internal/hosting/certificates"
	"tivset/internal/hosting/files/ftp"
	"tivset/internal/secret"
	"tivset/internal/trial/servers"
)

// slowFTP starts an FTP server behind a line of 50 ms: data connections too,
// which go to the same port of another loopback address.
func slowFTP(t *testing.T, home string) (s servers.FTP, address string) {
	return slowFTPOf(t, servers.FTPOptions{Home: home}, nil)
}

func slowFTPOf(t *testing.T, o servers.FTPOptions, w *width) (s servers.FTP, address string) {
	s = servers.ProFTPD(t, o)
	_, port, err := net.SplitHostPort(s.Address)
	require.NoError(t, err)
	control, err := strconv.Atoi(port)
	require.NoError(t, err)
	for _, p := range append(ports(s.Ports), control) {
		farAt(t, fmt.Sprintf("127.0.0.2:%d", p), fmt.Sprintf("127.0.0.1:%d", p), w)
	}
	return s, "127.0.0.2:" + port
}

func ports(between [2]int) (all []int) {
	for p := between[0]; p <= between[1]; p++ {
		all = append(all, p)
	}
	return all
}

func overFTP(t *testing.T, s servers.FTP, address, packed, top string) time.Duration {
	return median(1, func() {
		ctx := context.Background()
		f, err := ftp.Open(ctx, ftp.Login{Address: address, User: s.User, Password: secret.Of(s.Password)},
			&certificates.Known{Own: os.DevNull}, "/")
		require.NoError(t, err)
		defer f.Close()
		require.NoError(t, f.Mkdir(ctx, top, 0o755))
		file, err := os.Open(packed)
		require.NoError(t, err)
		defer file.Close()
		require.NoError(t, archive.Unpack(ctx, file, "inkreach-1.4.0", nil, f, top, nil))
	})
}

func overLFTP(t *testing.T, s servers.FTP, address, folder, top string) time.Duration {
	return overLFTPWith(t, s, address, "mirror -R --parallel=8 "+folder+" /"+top)
}

// overLFTPWith has lftp do something.
func overLFTPWith(t *testing.T, s servers.FTP, address, do string) time.Duration {
	lftp := servers.Need(t, "lftp")[0]
	return median(1, func() {
		host, port, _ := net.SplitHostPort(address)
		c := exec.Command(lftp, "-p", port, host)
		c.Env = append(os.Environ(), "HOME="+t.TempDir())
		in, err := c.StdinPipe()
		require.NoError(t, err)
		go func() {
			fmt.Fprintf(in, "set ftp:ssl-allow no\nuser %s '%s'\n%s\nbye\n", s.User, s.Password, do)
			in.Close()
		}()
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%s", out)
	})
}

// Uploading over FTP is several times as fast as a program made for it.
func TestOverFTP(t *testing.T) {
	catalogue := t.TempDir()
	require.NoError(t, demo.WriteCatalogue(catalogue))
	packed, _ := app(t, catalogue, 3000, 20_000)
	folder := unpacked(t, packed) + "/inkreach-1.4.0"
	home := t.TempDir()
	s, address := slowFTP(t, home)
	ours := overFTP(t, s, address, packed, "ours")
	theirs := overLFTP(t, s, address, folder, "theirs")
	diff, err := exec.Command("diff", "-r", home+"/ours", home+"/theirs").CombinedOutput()
	require.NoError(t, err, "%s", diff)
	fmt.Printf("3,000 files, 60 MB over FTP, 50 ms round trip: %.1f s; lftp mirror -R --parallel=8: %.1f s; %.1f times "+
		"as fast (limit 3)\n", ours.Seconds(), theirs.Seconds(), theirs.Seconds()/ours.Seconds())
	require.Greater(t, theirs.Seconds(), 3*ours.Seconds())
}
