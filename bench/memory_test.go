//go:build bench

package bench

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tivset/internal/app/archive"
	"tivset/internal/demo"
	"tivset/internal/hosting/certificates"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/files/ftp"
	"tivset/internal/hosting/files/sftp"
	"tivset/internal/hosting/ssh"
	"tivset/internal/secret"
	"tivset/internal/trial/servers"
)

// tellPeak prints the most memory that this process has held. What the system
// tells of a child begins with its parent's (getrusage(2)); this does not
// (proc(5), VmHWM).
func tellPeak(t *testing.T) {
	text, err := os.ReadFile("/proc/self/status")
	require.NoError(t, err)
	_, after, _ := strings.Cut(string(text), "VmHWM:")
	line, _, _ := strings.Cut(after, "kB")
	fmt.Println("peak:", strings.TrimSpace(line))
}

// peakIn reads it, in MB.
func peakIn(t *testing.T, out []byte) float64 {
	_, after, found := strings.Cut(string(out), "peak: ")
	require.True(t, found, "%s", out)
	var kilobytes float64
	_, err := fmt.Sscan(after, &kilobytes)
	require.NoError(t, err)
	return kilobytes / 1024
}

// Uploads stay small, over every reach. Each runs in a process of its own.
func TestMemoryOfUploads(t *testing.T) {
	catalogue := t.TempDir()
	require.NoError(t, demo.WriteCatalogue(catalogue))
	packed, _ := app(t, catalogue, 3000, 20_000)
	f := servers.ProFTPD(t, servers.FTPOptions{Home: t.TempDir()})
	shell, bare := here(t, ""), here(t, "ForceCommand internal-sftp\n")
	for _, c := range []struct{ reach, how string }{
		{"FTP", strings.Join([]string{"ftp", f.Address, f.User, f.Password, packed, "/"}, "|")},
		{"SSH", strings.Join([]string{"sftp", shell.address, shell.User, shell.KeyFile, packed, t.TempDir(), shell.hosts.Own},
			"|")},
		{"SFTP without a shell", strings.Join([]string{"sftp", bare.address, bare.User, bare.KeyFile, packed, t.TempDir(),
			bare.hosts.Own}, "|")},
	} {
		child := exec.Command(os.Args[0], "-test.run=TestUploadAlone", "-test.v")
		child.Env = append(os.Environ(), "BENCH_UPLOAD="+c.how)
		out, err := child.CombinedOutput()
		require.NoError(t, err, "%s", out)
		peak := peakIn(t, out)
		fmt.Printf("peak memory of an upload of 3,000 files, 60 MB over %s: %.1f MB (limit 96)\n", c.reach, peak)
		require.Less(t, peak, 96.0)
	}
}

// TestUploadAlone is the process that TestMemoryOfUploads starts.
func TestUploadAlone(t *testing.T) {
	given := strings.Split(os.Getenv("BENCH_UPLOAD"), "|")
	if len(given) < 6 {
		return
	}
	ctx := context.Background()
	var to files.FS
	var err error
	if given[0] == "ftp" {
		to, err = ftp.Open(ctx, ftp.Login{Address: given[1], User: given[2], Password: secret.Of(given[3])},
			&certificates.Known{Own: os.DevNull}, given[5])
	} else {
		key, readErr := os.ReadFile(given[3])
		require.NoError(t, readErr)
		to, err = sftp.Open(ctx, ssh.New(ssh.Login{Address: given[1], User: given[2], Key: key}, &ssh.Hosts{Own: given[6]}),
			given[5])
	}
	require.NoError(t, err)
	require.NoError(t, to.Mkdir(ctx, "up", 0o755))
	file, err := os.Open(given[4])
	require.NoError(t, err)
	require.NoError(t, archive.Unpack(ctx, file, "inkreach-1.4.0", nil, to, "up", nil))
	tellPeak(t)
}
