//go:build bench

package bench

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/certificates"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/files/ftp"
	"tivset/internal/hosting/files/sftp"
	"tivset/internal/hosting/ssh"
	"tivset/internal/secret"
	"tivset/internal/trial/servers"
)

// A folder of 5,000 uploads is read over FTP in at most twice the time that it takes over SFTP.
func TestManyUploads(t *testing.T) {
	const uploads = 5000
	ctx, home := context.Background(), servers.AccountFolder(t)
	require.NoError(t, os.Mkdir(filepath.Join(home, "uploads"), 0o755))
	for n := range uploads {
		require.NoError(t, os.WriteFile(filepath.Join(home, "uploads", fmt.Sprintf("picture-%d.jpg", n)), make([]byte, 4<<10),
			0o644))
	}
	takes := func(f files.FS, top string) time.Duration {
		return median(3, func() {
			list, err := files.Tree(ctx, f, top, nil)
			require.NoError(t, err)
			read := 0
			require.NoError(t, files.ReadAll(ctx, f, list, func(_ files.Found, content io.Reader) error {
				read++
				_, err := io.Copy(io.Discard, content)
				return err
			}))
			require.Equal(t, uploads, read)
		})
	}
	plain := servers.ProFTPD(t, servers.FTPOptions{Home: home})
	over, err := ftp.Open(ctx, ftp.Login{Address: plain.Address, User: plain.User, Password: secret.Of(plain.Password)},
		&certificates.Known{Own: os.DevNull}, "/")
	require.NoError(t, err)
	defer over.Close()
	name, _ := servers.SiteUser(t)
	shell := servers.OpenSSHAs(t, name, "")
	hosts := &ssh.Hosts{Own: filepath.Join(t.TempDir(), "known")}
	_, err = hosts.Trust(shell.Address, shell.Fingerprint)
	require.NoError(t, err)
	through, err := sftp.Open(ctx, ssh.New(ssh.Login{Address: shell.Address, User: shell.User, Key: shell.Key}, hosts),
		home)
	require.NoError(t, err)
	defer through.Close()
	byFTP, bySFTP := takes(over, "uploads"), takes(through, "uploads")
	fmt.Printf("5,000 uploads in a folder read over FTP: %.2f s; over SFTP: %.2f s; %.2f times (limit 2)\n",
		byFTP.Seconds(), bySFTP.Seconds(), byFTP.Seconds()/bySFTP.Seconds())
	require.LessOrEqual(t, byFTP.Seconds(), 2*bySFTP.Seconds())
}
