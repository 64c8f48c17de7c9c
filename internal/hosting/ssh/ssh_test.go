package ssh_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"net"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	xssh "golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"tivset/internal/fault"
	"tivset/internal/hosting/ssh"
	"tivset/internal/secret"
	"tivset/internal/standin/sftpd"
	"tivset/internal/trial/servers"
)

var ctx = context.Background()

func server(t *testing.T, folder string) *sftpd.Server {
	t.Helper()
	s, err := sftpd.Start(sftpd.Options{Address: "127.0.0.1:0", Folder: folder, Home: t.TempDir(), User: "quill",
		Password: "right"})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return s
}

func login(s *sftpd.Server) ssh.Login {
	return ssh.Login{Account: "quillmere", Address: s.Address(), User: "quill", Password: secret.Of("right")}
}

func connects(l ssh.Login, h *ssh.Hosts) error {
	c := ssh.New(l, h)
	defer c.Close()
	_, err := c.Conn(ctx)
	return err
}

// A server's key is shown and must be accepted; another than the accepted one
// is refused.
func TestServersKey(t *testing.T) {
	s := server(t, t.TempDir())
	h := &ssh.Hosts{Own: filepath.Join(t.TempDir(), "ssh/known")}
	f := fault.Of(connects(login(s), h))
	require.Equal(t, fault.NeedsConfirmation, f.Kind, "%v", f)
	assert.Contains(t, f.Details[0], s.Fingerprint())
	assert.Contains(t, f.Remedy, fault.Call("account", "trust", "quillmere", s.Fingerprint()))

	shown, err := h.Trust(s.Address(), "")
	require.NoError(t, err)
	assert.Equal(t, s.Fingerprint(), shown)
	assert.NoFileExists(t, h.Own, "looking accepts nothing")
	_, err = h.Trust(s.Address(), "SHA256:other")
	assert.Equal(t, fault.NeedsConfirmation, fault.Of(err).Kind)
	_, err = h.Trust(s.Address(), shown)
	require.NoError(t, err)
	require.NoError(t, connects(login(s), h))
	require.NoError(t, connects(login(s), &ssh.Hosts{Own: filepath.Join(t.TempDir(), "none"), Others: []string{h.Own}}),
		"people's own files count too")

	// Another server takes the address over.
	address := s.Address()
	require.NoError(t, s.Close())
	other, err := sftpd.Start(sftpd.Options{Address: address, Folder: t.TempDir(), Home: t.TempDir(), User: "quill",
		Password: "right"})
	require.NoError(t, err)
	defer other.Close()
	f = fault.Of(connects(ssh.Login{Address: address, User: "quill", Password: secret.Of("right")}, h))
	assert.Equal(t, fault.Failed, f.Kind)
	assert.Contains(t, f.What, "the server's key has changed")
}

// What is refused is said, without the password, and not tried again.
func TestRefused(t *testing.T) {
	s := server(t, t.TempDir())
	h := &ssh.Hosts{Own: filepath.Join(t.TempDir(), "known")}
	_, err := h.Trust(s.Address(), s.Fingerprint())
	require.NoError(t, err)
	l := login(s)
	l.Password = secret.Of("wrong-one")
	c := ssh.New(l, h)
	_, err = c.Conn(ctx)
	require.ErrorContains(t, err, "refused the user, password or key")
	assert.NotContains(t, err.Error(), "wrong-one")
	require.NoError(t, s.Close())
	_, again := c.Conn(ctx)
	assert.Equal(t, err, again, "the server is not asked a second time")

	assert.ErrorContains(t, connects(ssh.Login{Address: s.Address(), User: "quill"}, h), "nothing to sign in with")
	assert.ErrorContains(t, connects(ssh.Login{Address: s.Address(), User: "quill", Key: []byte("nonsense")}, h),
		"the key cannot be used")
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := xssh.MarshalPrivateKeyWithPassphrase(key, "test", []byte("made for tests"))
	require.NoError(t, err)
	locked := pem.EncodeToMemory(block)
	assert.ErrorContains(t, connects(ssh.Login{Address: s.Address(), User: "quill", Key: locked}, h),
		"the key has a passphrase")
	assert.ErrorContains(t, connects(ssh.Login{Address: s.Address(), User: "quill", Key: locked,
		Passphrase: secret.Of("not it")}, h), "the key cannot be used")
	assert.ErrorContains(t, connects(ssh.Login{Address: s.Address(), User: "quill", Key: locked,
		Passphrase: secret.Of("made for tests")}, h), "does not answer", "the passphrase opens it; the server is gone")
}

// An agent's keys are offered, and a key file beside them.
func TestAgent(t *testing.T) {
	real := servers.OpenSSH(t, "")
	h := &ssh.Hosts{Own: filepath.Join(t.TempDir(), "known")}
	_, err := h.Trust(real.Address, real.Fingerprint)
	require.NoError(t, err)
	key, err := xssh.ParseRawPrivateKey(real.Key)
	require.NoError(t, err)
	keys := agent.NewKeyring()
	socket := filepath.Join(t.TempDir(), "a")
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer l.Close()
	var open atomic.Int32
	go func() {
		for {
			line, err := l.Accept()
			if err != nil {
				return
			}
			open.Add(1)
			go func() {
				_ = agent.ServeAgent(keys, line)
				open.Add(-1)
			}()
		}
	}()
	defer func() {
		assert.Eventually(t, func() bool { return open.Load() == 0 }, 5*time.Second, 10*time.Millisecond,
			"the agent is let go once one has signed in, or was refused")
	}()
	login := ssh.Login{Address: real.Address, User: real.User, Agent: socket}
	assert.ErrorContains(t, connects(login, h), "nothing to sign in with", "the agent has no key")
	require.NoError(t, keys.Add(agent.AddedKey{PrivateKey: key}))
	assert.NoError(t, connects(login, h))
	login.Key = []byte("nonsense")
	assert.NoError(t, connects(login, h), "a key that cannot be used does not hinder the agent's")
	assert.NoError(t, connects(ssh.Login{Address: real.Address, User: real.User, Agent: "/none", Key: real.Key}, h))
}

func TestNoSSHThere(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		line, err := l.Accept()
		if err == nil {
			_, _ = line.Write([]byte("HTTP/1.0 400 What?\r\n\r\n"))
			time.Sleep(100 * time.Millisecond)
			line.Close()
		}
	}()
	assert.Error(t, connects(ssh.Login{Address: l.Addr().String(), User: "quill", Password: secret.Of("x")},
		&ssh.Hosts{Own: filepath.Join(t.TempDir(), "known")}))
	assert.ErrorContains(t, connects(ssh.Login{Address: "127.0.0.1:9", User: "quill", Password: secret.Of("x")},
		&ssh.Hosts{}), "does not answer")
}

func TestQuote(t *testing.T) {
	assert.Equal(t, `'a b' 'it'\''s' '$x' ''`, ssh.Quote([]string{"a b", "it's", "$x", ""}))
}
