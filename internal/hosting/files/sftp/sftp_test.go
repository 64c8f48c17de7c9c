package sftp_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/archive"
	"tivset/internal/demo"
	"tivset/internal/fault"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/files/filestest"
	"tivset/internal/hosting/files/local"
	"tivset/internal/hosting/files/sftp"
	"tivset/internal/hosting/ssh"
	"tivset/internal/secret"
	"tivset/internal/standin/sftpd"
	"tivset/internal/trial/servers"
)

var ctx = context.Background()

const password = "Kranich-Teekanne-74"

func standin(t *testing.T, home string) *sftpd.Server {
	t.Helper()
	s, err := sftpd.Start(sftpd.Options{Address: "127.0.0.1:0", Folder: t.TempDir(), Home: home, User: "quill",
		Password: password})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return s
}

func trusting(t *testing.T, address, fingerprint string) *ssh.Hosts {
	t.Helper()
	h := &ssh.Hosts{Own: filepath.Join(t.TempDir(), "known")}
	_, err := h.Trust(address, fingerprint)
	require.NoError(t, err)
	return h
}

func open(t *testing.T, l ssh.Login, h *ssh.Hosts, top string) *sftp.FS {
	t.Helper()
	f, err := sftp.Open(ctx, ssh.New(l, h), top)
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	return f
}

func TestStandin(t *testing.T) {
	filestest.Run(t, func(t *testing.T) files.FS {
		home := t.TempDir()
		s := standin(t, home)
		return open(t, ssh.Login{Address: s.Address(), User: "quill", Password: secret.Of(password)},
			trusting(t, s.Address(), s.Fingerprint()), home)
	})
}

func TestOpenSSH(t *testing.T) {
	s := servers.OpenSSH(t, "")
	h := trusting(t, s.Address, s.Fingerprint)
	filestest.Run(t, func(t *testing.T) files.FS {
		return open(t, ssh.Login{Address: s.Address, User: s.User, Key: s.Key}, h, t.TempDir())
	})
	f := open(t, ssh.Login{Address: s.Address, User: s.User, Key: s.Key}, h, t.TempDir())
	out, err := f.Command(ctx, ".", []string{"printf", "%s|", "it's", "$HOME", "a b", "`id`"}, "")
	require.NoError(t, err)
	assert.Equal(t, "it's|$HOME|a b|`id`|", string(out), "no shell reads anything into arguments")
	free, err := f.Free(ctx)
	require.NoError(t, err)
	assert.Positive(t, free)
	require.NoError(t, files.Write(ctx, f, "here", nil, 0o644))
	out, err = f.Command(ctx, ".", []string{"ls"}, "")
	require.NoError(t, err)
	assert.Equal(t, "here\n", string(out), "in the account's folder")
	out, err = f.Command(ctx, ".", []string{"cat"}, "typed")
	require.NoError(t, err)
	assert.Equal(t, "typed", string(out))
	_, err = f.Command(ctx, ".", []string{"sh", "-c", "echo no >&2; exit 3"}, "")
	assert.ErrorContains(t, err, "no")
}

// Nothing outside of the account is reached, by whatever link.
func TestLinksLeadNowhere(t *testing.T) {
	real := servers.OpenSSH(t, "")
	for name, setUp := range map[string]func(string) files.FS{
		"OpenSSH": func(home string) files.FS {
			return open(t, ssh.Login{Address: real.Address, User: real.User, Key: real.Key},
				trusting(t, real.Address, real.Fingerprint), home)
		},
		"stand-in": func(home string) files.FS {
			s := standin(t, home)
			return open(t, ssh.Login{Address: s.Address(), User: "quill", Password: secret.Of(password)},
				trusting(t, s.Address(), s.Fingerprint()), home)
		},
	} {
		t.Run(name, func(t *testing.T) {
			outside, home := t.TempDir(), t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(outside, "secret"), []byte("x"), 0o600))
			require.NoError(t, os.Symlink(outside, filepath.Join(home, "away")))
			require.NoError(t, os.Symlink(filepath.Join(outside, "secret"), filepath.Join(home, "file")))
			f := setUp(home)
			_, err := f.List(ctx, "away")
			assert.Error(t, err)
			_, err = f.Open(ctx, "away/secret")
			assert.Error(t, err)
			_, err = f.Open(ctx, "file")
			assert.Error(t, err)
			_, err = f.Create(ctx, "away/new", 0o600)
			assert.Error(t, err)
			assert.Error(t, f.Remove(ctx, "away/secret"))
			assert.Error(t, f.Rename(ctx, "away/secret", "mine"))
			require.NoError(t, files.RemoveAll(ctx, f, "away"), "a link itself can go")
			assert.FileExists(t, filepath.Join(outside, "secret"))
			assert.NoFileExists(t, filepath.Join(outside, "new"))

			// A folder that was looked at, and is a link a while later.
			require.NoError(t, f.Mkdir(ctx, "web", 0o755))
			require.NoError(t, files.Write(ctx, f, "web/a", []byte("a"), 0o644))
			require.NoError(t, os.Rename(filepath.Join(home, "web"), filepath.Join(home, "was")))
			require.NoError(t, os.Symlink(outside, filepath.Join(home, "web")))
			time.Sleep(1100 * time.Millisecond)
			_, err = files.Read(ctx, f, "web/secret", 100)
			assert.ErrorContains(t, err, "leads out of the account")
			assert.ErrorContains(t, files.Write(ctx, f, "web/new", []byte("x"), 0o644), "leads out of the account")
			assert.NoFileExists(t, filepath.Join(outside, "new"))
		})
	}
}

// A connection that drops is made again, and the work goes on.
func TestDroppedConnection(t *testing.T) {
	home := t.TempDir()
	s := standin(t, home)
	f := open(t, ssh.Login{Address: s.Address(), User: "quill", Password: secret.Of(password)},
		trusting(t, s.Address(), s.Fingerprint()), home)
	require.NoError(t, files.Write(ctx, f, "a", []byte("a"), 0o644))
	for range 3 {
		s.Drop()
		_, err := f.Stat(ctx, "a")
		require.NoError(t, err, "what only reads is done again")
	}
	s.Drop()
	_ = f.Mkdir(ctx, "b", 0o755) // may say that the connection was lost
	if there, err := files.Exists(ctx, f, "b"); err == nil && !there {
		require.NoError(t, f.Mkdir(ctx, "b", 0o755))
	}
	require.NoError(t, files.Write(ctx, f, "b/c", []byte("c"), 0o644))
	require.NoError(t, s.Close())
	_, err := f.Stat(ctx, "a")
	assert.Equal(t, fault.Failed, fault.Of(err).Kind)
	assert.ErrorContains(t, err, "does not answer")
}

// An archive unpacked by one stream, by many writers, and on this machine is
// the same to the last mode; and it goes again as a whole.
func TestUnpackedTheSame(t *testing.T) {
	catalogue := t.TempDir()
	require.NoError(t, demo.WriteCatalogue(catalogue))
	packed, err := os.Open(filepath.Join(catalogue, "towline/towline-2.0.1.tar.gz"))
	require.NoError(t, err)
	defer packed.Close()
	real := servers.OpenSSH(t, "")
	bare := servers.OpenSSH(t, "ForceCommand internal-sftp\n") // no shell, as most hostings
	trees := map[string]string{}
	for name, setUp := range map[string]func(home string) files.FS{
		"local": func(home string) files.FS {
			f, err := local.Open(home)
			require.NoError(t, err)
			return f
		},
		"shell": func(home string) files.FS {
			return open(t, ssh.Login{Address: real.Address, User: real.User, Key: real.Key},
				trusting(t, real.Address, real.Fingerprint), home)
		},
		"no shell": func(home string) files.FS {
			return open(t, ssh.Login{Address: bare.Address, User: bare.User, Key: bare.Key},
				trusting(t, bare.Address, bare.Fingerprint), home)
		},
	} {
		home := t.TempDir()
		f := setUp(home)
		require.NoError(t, f.Mkdir(ctx, "a b'c", 0o755))
		count := 0
		require.NoError(t, archive.Unpack(ctx, packed, "towline-2.0.1", []string{"schema"}, f, "a b'c", func(n int, _ int64) {
			count = n
		}))
		assert.Equal(t, 15, count, name)
		var out strings.Builder
		require.NoError(t, demo.Tree(&out, home))
		trees[name] = out.String()
		require.NoError(t, files.RemoveAll(ctx, f, "a b'c"))
		left, err := os.ReadDir(home)
		require.NoError(t, err)
		assert.Empty(t, left)
	}
	assert.Equal(t, trees["local"], trees["shell"])
	assert.Equal(t, trees["local"], trees["no shell"])
}

// An account that is full: servers say no more than that it failed, and we say what that is.
func TestAFullAccount(t *testing.T) {
	home := t.TempDir()
	s, err := sftpd.Start(sftpd.Options{Address: "127.0.0.1:0", Folder: t.TempDir(), Home: home, User: "quill",
		Password: password, Quota: 100_000})
	require.NoError(t, err)
	defer s.Close()
	f := open(t, ssh.Login{Address: s.Address(), User: "quill", Password: secret.Of(password)},
		trusting(t, s.Address(), s.Fingerprint()), home)
	require.NoError(t, files.Write(ctx, f, "small", make([]byte, 50_000), 0o644))
	err = files.Write(ctx, f, "large", make([]byte, 90_000), 0o644)
	require.Error(t, err)
	assert.ErrorIs(t, err, syscall.EDQUOT)
	assert.ErrorContains(t, err, "quota or the disk is full")
}
