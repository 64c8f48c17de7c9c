package ftp_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting/certificates"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/files/filestest"
	"tivset/internal/hosting/files/ftp"
	"tivset/internal/secret"
	"tivset/internal/standin/ftpd"
	"tivset/internal/trial/servers"
)

var ctx = context.Background()

func open(t *testing.T, l ftp.Login, c *certificates.Known, top string) *ftp.FS {
	t.Helper()
	f, err := ftp.Open(ctx, l, c, top)
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	return f
}

func nothing(t *testing.T) *certificates.Known {
	return &certificates.Known{Own: filepath.Join(t.TempDir(), "known")}
}

func TestProFTPD(t *testing.T) {
	for name, o := range map[string]servers.FTPOptions{
		"clear": {}, "TLS": {TLS: true},
		"no facts":   {Extra: "FactsAdvertise off\n"},
		"no shorter": {Extra: "<Limit EPSV>\nDenyAll\n</Limit>\n"},
	} {
		t.Run(name, func(t *testing.T) {
			o.Home = t.TempDir()
			s := servers.ProFTPD(t, o)
			n := 0
			filestest.Run(t, func(t *testing.T) files.FS {
				n++
				top := "/account " + string(rune('a'+n))
				c := nothing(t)
				c.Roots = s.Roots
				l := ftp.Login{Address: s.Address, User: s.User, Password: secret.Of(s.Password), TLS: o.TLS}
				require.NoError(t, open(t, l, c, "/").Mkdir(ctx, top[1:], 0o755))
				return open(t, l, c, top)
			})
		})
	}
}

const password = "Kranich-Teekanne-74"

func standin(t *testing.T, home string, odd ftpd.Oddities) *ftpd.Server {
	t.Helper()
	s, err := ftpd.Start(ftpd.Options{Address: "127.0.0.1:0", Folder: t.TempDir(), Home: home, User: "quill",
		Password: password, Odd: odd})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return s
}

func login(s *ftpd.Server, secure bool) ftp.Login {
	return ftp.Login{Address: s.Address(), User: "quill", Password: secret.Of(password), TLS: secure}
}

func trusting(t *testing.T, s *ftpd.Server) *certificates.Known {
	t.Helper()
	c := nothing(t)
	_, err := ftp.Trust(ctx, c, s.Address(), s.Fingerprint())
	require.NoError(t, err)
	return c
}

func TestStandin(t *testing.T) {
	servers.Slow(t)
	for name, odd := range map[string]ftpd.Oddities{
		"usual": {}, "TLS": {}, "no facts": {NoFacts: true}, "no EPSV, wrong address": {NoEPSV: true, OtherAddressed: true},
		"two lines": {Lines: 2}, "hangs up": {CloseEachFile: true},
	} {
		t.Run(name, func(t *testing.T) {
			filestest.Run(t, func(t *testing.T) files.FS {
				s := standin(t, t.TempDir(), odd)
				if name == "TLS" {
					return open(t, login(s, true), trusting(t, s), "/")
				}
				return open(t, login(s, false), nothing(t), "/")
			})
		})
	}
}

// Nothing outside of the account is reached, by whatever link.
func TestLinksLeadNowhere(t *testing.T) {
	outside, home := t.TempDir(), t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(home, "account"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(outside, "secret"), []byte("x"), 0o600))
	require.NoError(t, os.Symlink(outside, filepath.Join(home, "account/away")))
	require.NoError(t, os.Symlink(filepath.Join(outside, "secret"), filepath.Join(home, "account/file")))
	real := servers.ProFTPD(t, servers.FTPOptions{Home: home, Whole: true})
	bare := servers.ProFTPD(t, servers.FTPOptions{Home: home, Extra: "FactsAdvertise off\n"})
	for name, f := range map[string]*ftp.FS{
		"proftpd": open(t, ftp.Login{Address: real.Address, User: real.User, Password: secret.Of(real.Password)},
			nothing(t), filepath.Join(home, "account")),
		"proftpd, no facts": open(t, ftp.Login{Address: bare.Address, User: bare.User, Password: secret.Of(bare.Password)},
			nothing(t), "/account"),
		"stand-in": open(t, login(standin(t, home, ftpd.Oddities{}), false), nothing(t), "/account"),
	} {
		t.Run(name, func(t *testing.T) {
			info, err := f.Stat(ctx, "away")
			require.NoError(t, err)
			assert.NotZero(t, info.Mode&fs.ModeSymlink)
			_, err = f.List(ctx, "away")
			assert.Error(t, err)
			_, err = f.Open(ctx, "away/secret")
			assert.ErrorContains(t, err, "link")
			_, err = f.Open(ctx, "file")
			assert.Error(t, err)
			_, err = f.Create(ctx, "away/new", 0o600)
			assert.Error(t, err)
			assert.Error(t, f.Remove(ctx, "away/secret"))
			assert.Error(t, f.Rename(ctx, "away/secret", "mine"))
			require.NoError(t, os.MkdirAll(filepath.Join(home, "account/d"), 0o755))
			_ = os.Symlink(outside, filepath.Join(home, "account/d/away"))
			require.NoError(t, files.RemoveAll(ctx, f, "d"), "a link itself can go")
			assert.FileExists(t, filepath.Join(outside, "secret"))
			assert.NoFileExists(t, filepath.Join(outside, "new"))
			assert.NoDirExists(t, filepath.Join(home, "account/d"))
		})
	}
}

// A connection that drops is made again, and the work goes on.
func TestDroppedConnection(t *testing.T) {
	servers.Slow(t)
	s := standin(t, t.TempDir(), ftpd.Oddities{})
	f := open(t, login(s, false), nothing(t), "/")
	for _, dir := range []string{"a", "b", "c"} {
		s.Drop()
		require.NoError(t, f.Mkdir(ctx, dir, 0o750))
		s.Drop()
		require.NoError(t, files.Write(ctx, f, dir+"/file", []byte(dir), 0o600))
		s.Drop()
		require.NoError(t, f.Rename(ctx, dir+"/file", dir+"/there"))
		s.Drop()
		text, err := files.Read(ctx, f, dir+"/there", 10)
		require.NoError(t, err)
		assert.Equal(t, dir, string(text))
		s.Drop()
		require.NoError(t, f.Remove(ctx, dir+"/there"))
	}
	s.Drop()
	require.NoError(t, files.RemoveAll(ctx, f, "a"))
	require.NoError(t, s.Close())
	_, err := f.Stat(ctx, "b")
	assert.Equal(t, fault.Failed, fault.Of(err).Kind)
	assert.ErrorContains(t, err, "lost")
}

// Cut off while many files are under way, all arrive whole.
func TestDroppedWhileSending(t *testing.T) {
	servers.Slow(t)
	home := t.TempDir()
	s := standin(t, home, ftpd.Oddities{})
	f := open(t, login(s, true), trusting(t, s), "/")
	over := make(chan struct{})
	go func() {
		defer close(over)
		for range 6 {
			time.Sleep(60 * time.Millisecond)
			s.Drop()
		}
	}()
	content := bytes.Repeat([]byte("0123456789abcdef"), 40<<10) // 640 KB, more than waits in memory
	var wait sync.WaitGroup
	for n := range 8 {
		wait.Go(func() {
			for i := range 6 {
				assert.NoError(t, files.Write(ctx, f, fmt.Sprintf("f%d-%d", n, i), content, 0o644))
			}
		})
	}
	wait.Wait()
	<-over
	for n := range 8 {
		for i := range 6 {
			got, err := os.ReadFile(filepath.Join(home, fmt.Sprintf("f%d-%d", n, i)))
			require.NoError(t, err)
			assert.True(t, bytes.Equal(content, got))
		}
	}
}

func TestRefusedPasswordIsNotTriedAgain(t *testing.T) {
	s := standin(t, t.TempDir(), ftpd.Oddities{})
	l := login(s, false)
	l.Password = secret.Of("not this one")
	_, err := ftp.Open(ctx, l, nothing(t), "/")
	assert.ErrorContains(t, err, "refused the user or the password")
	assert.NotContains(t, err.Error(), "not this one")
	assert.Equal(t, 1, s.Refused())
}

func TestOddServers(t *testing.T) {
	t.Run("silent", func(t *testing.T) {
		l := login(standin(t, t.TempDir(), ftpd.Oddities{Silent: true}), false)
		l.Wait = 300 * time.Millisecond
		_, err := ftp.Open(ctx, l, nothing(t), "/")
		assert.ErrorContains(t, err, "does not answer")
		assert.Equal(t, fault.Failed, fault.Of(err).Kind)
	})
	t.Run("nobody there", func(t *testing.T) {
		_, err := ftp.Open(ctx, ftp.Login{Address: "127.0.0.1:1", User: "quill"}, nothing(t), "/")
		assert.ErrorContains(t, err, "does not answer")
	})
	t.Run("no such folder", func(t *testing.T) {
		_, err := ftp.Open(ctx, login(standin(t, t.TempDir(), ftpd.Oddities{}), false), nothing(t), "/none")
		assert.ErrorContains(t, err, "folder is not there")
	})
	t.Run("full", func(t *testing.T) {
		home := t.TempDir()
		f := open(t, login(standin(t, home, ftpd.Oddities{Space: 1000}), false), nothing(t), "/")
		require.NoError(t, files.Write(ctx, f, "a", make([]byte, 900), 0o644))
		err := files.Write(ctx, f, "b", make([]byte, 900), 0o644)
		assert.ErrorIs(t, err, syscall.ENOSPC)
		assert.NoFileExists(t, filepath.Join(home, "b"), "half a file is not left")
	})
	t.Run("read-only in part", func(t *testing.T) {
		home := t.TempDir()
		require.NoError(t, os.MkdirAll(filepath.Join(home, "web/held"), 0o755))
		f := open(t, login(standin(t, home, ftpd.Oddities{ReadOnly: "web/held"}), false), nothing(t), "/")
		require.NoError(t, files.Write(ctx, f, "web/a", nil, 0o644))
		assert.ErrorIs(t, files.Write(ctx, f, "web/held/a", nil, 0o644), fs.ErrPermission)
		assert.ErrorIs(t, f.Mkdir(ctx, "web/held/d", 0o755), fs.ErrPermission)
	})
	t.Run("another encoding", func(t *testing.T) {
		home := t.TempDir()
		latin := files.Escape("caf\xe9.txt")
		require.NoError(t, os.WriteFile(filepath.Join(home, latin), []byte("x"), 0o644))
		for _, odd := range []ftpd.Oddities{{}, {NoFacts: true}} {
			f := open(t, login(standin(t, home, odd), false), nothing(t), "/")
			all, err := f.List(ctx, ".")
			require.NoError(t, err)
			require.Len(t, all, 1)
			assert.Equal(t, latin, files.Raw(all[0].Name), "byte for byte")
		}
	})
	t.Run("no modes", func(t *testing.T) {
		f := open(t, login(standin(t, t.TempDir(), ftpd.Oddities{NoModes: true}), false), nothing(t), "/")
		require.NoError(t, files.Write(ctx, f, "a", nil, 0o600))
	})
	t.Run("a line break in a name", func(t *testing.T) {
		f := open(t, login(standin(t, t.TempDir(), ftpd.Oddities{}), false), nothing(t), "/")
		assert.ErrorIs(t, f.Mkdir(ctx, "a\r\nDELE b", 0o755), fs.ErrInvalid)
	})
}

// A server that never ends a reply is left before it fills the memory.
func TestEndlessReplies(t *testing.T) {
	for name, say := range map[string]string{"many lines": "220-hello there\r\n", "one line": "220 hello there "} {
		t.Run(name, func(t *testing.T) {
			l, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			t.Cleanup(func() { _ = l.Close() })
			sent := make(chan int64, 1)
			go func() {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				total := int64(0)
				for whole := strings.Repeat(say, 1000); ; {
					n, err := io.WriteString(conn, whole)
					total += int64(n)
					if err != nil {
						sent <- total
						return
					}
				}
			}()
			_, err = ftp.Open(ctx, ftp.Login{Address: l.Addr().String(), User: "u", Wait: 20 * time.Second}, nil, "/")
			require.ErrorContains(t, err, "answers with more than")
			assert.Less(t, <-sent, int64(32<<20))
		})
	}
}

func TestCertificates(t *testing.T) {
	home := t.TempDir()
	try := func(s servers.FTP, c *certificates.Known) error {
		f, err := ftp.Open(ctx, ftp.Login{Address: s.Address, User: s.User, Password: secret.Of(s.Password), TLS: true}, c,
			"/")
		if err == nil {
			_ = f.Close()
		}
		return err
	}
	for words, o := range map[string]servers.FTPOptions{
		"it expired on":               {Expired: true},
		"it is for other.localhost":   {Name: "other.localhost"},
		"nobody whom this machine tr": {},
	} {
		o.Home, o.TLS = home, true
		s := servers.ProFTPD(t, o)
		c := nothing(t)
		if words[:2] == "it" {
			c.Roots = s.Roots
		}
		err := try(s, c)
		assert.ErrorContains(t, err, words)
		assert.Equal(t, fault.NeedsConfirmation, fault.Of(err).Kind)
		shown, err := ftp.Trust(ctx, c, s.Address, "")
		require.NoError(t, err)
		assert.Contains(t, shown, "SHA256:")
		assert.Error(t, try(s, c), "looking alone accepts nothing")
		_, err = ftp.Trust(ctx, c, s.Address, "SHA256:00")
		assert.Equal(t, fault.NeedsConfirmation, fault.Of(err).Kind)
		assert.Error(t, try(s, c))
		_, err = ftp.Trust(ctx, c, s.Address, shown)
		require.NoError(t, err)
		assert.NoError(t, try(s, c), "accepted once")
	}
	s := standin(t, home, ftpd.Oddities{})
	c := nothing(t)
	require.NoError(t, os.WriteFile(c.Own, []byte(s.Address()+" SHA256:AA:BB\n"), 0o600))
	_, err := ftp.Open(ctx, login(s, true), c, "/")
	assert.ErrorContains(t, err, "certificate has changed")
	assert.Equal(t, fault.Failed, fault.Of(err).Kind)
	s.Be(ftpd.Oddities{NoTLS: true})
	_, err = ftp.Open(ctx, login(s, true), c, "/")
	assert.ErrorContains(t, err, "offers no encryption")
	plain := servers.ProFTPD(t, servers.FTPOptions{Home: home, TLS: true})
	_, err = ftp.Open(ctx, ftp.Login{Address: plain.Address, User: plain.User, Password: secret.Of(plain.Password)},
		nothing(t), "/")
	assert.ErrorContains(t, err, "wants encryption")
}

func FuzzListing(f *testing.F) {
	f.Add("type=file;size=3;UNIX.mode=0644; a b")
	f.Add("-rw-r--r--   1 quill quill      3 Jan  1 12:00 a b")
	f.Fuzz(func(t *testing.T, line string) { ftp.ReadListing(line) })
}

// On a server that shows the whole machine the account's folder begins where one
// is after signing in, or at the root; and which one was looked for is said.
func TestLoginFolder(t *testing.T) {
	home := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(home, `web/a "b"`), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(home, "web/here.txt"), []byte("here"), 0o644))
	s := servers.ProFTPD(t, servers.FTPOptions{Home: home, Whole: true})
	l := ftp.Login{Address: s.Address, User: s.User, Password: secret.Of(s.Password)}
	for _, top := range []string{"web", home + "/web", "./web"} {
		text, err := files.Read(ctx, open(t, l, nothing(t), top), "here.txt", 100)
		require.NoError(t, err, top)
		assert.Equal(t, "here", string(text))
	}
	inside, err := open(t, l, nothing(t), ".").List(ctx, "web")
	require.NoError(t, err)
	assert.Len(t, inside, 2)
	_, err = ftp.Open(ctx, l, nothing(t), "srv/none")
	require.Error(t, err)
	assert.Equal(t, filepath.Join(home, "srv/none"), fault.Of(err).Where)
	assert.Contains(t, fault.Of(err).Remedy, home)
}

// A name that a server repeats says nothing about why it refuses.
func TestNamesThatSoundLikeRefusals(t *testing.T) {
	s := servers.ProFTPD(t, servers.FTPOptions{Home: t.TempDir()})
	f := open(t, ftp.Login{Address: s.Address, User: s.User, Password: secret.Of(s.Password)}, nothing(t), "/")
	for _, name := range []string{"permissions.php", "access denied", "quota/no space.txt"} {
		_, err := f.Open(ctx, name)
		assert.ErrorIs(t, err, fs.ErrNotExist, name)
		_, err = f.Stat(ctx, name)
		assert.ErrorIs(t, err, fs.ErrNotExist, name)
		assert.ErrorIs(t, f.Remove(ctx, name), fs.ErrNotExist, name)
	}
}
