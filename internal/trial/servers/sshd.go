package servers

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"time"

	"golang.org/x/crypto/ssh"
)

// SSH is a real OpenSSH server, to be signed in to as the user who runs the
// test, with a key.
type SSH struct {
	Address, User string
	Key           []byte // the private key, PEM
	KeyFile       string // the same in a file
	Fingerprint   string // of the server's key
}

// OpenSSH starts one. Extra are further lines of its configuration.
func OpenSSH(t Stage, extra string) SSH {
	t.Helper()
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	return OpenSSHAs(t, me.Username, extra)
}

// OpenSSHAs starts one to be signed in to as another user, which only root may
// let in.
func OpenSSHAs(t Stage, name, extra string) SSH {
	t.Helper()
	program := Need(t, "sshd")[0]
	dir := folder(t)
	if os.Geteuid() == 0 {
		if err := os.MkdirAll("/run/sshd", 0o755); err != nil { // sshd insists on it
			t.Fatal(err)
		}
	}
	host, _ := keyPair(t)
	mine, public := keyPair(t)
	write(t, filepath.Join(dir, "host.key"), host)
	write(t, filepath.Join(dir, "mine.key"), mine)
	write(t, filepath.Join(dir, "allowed"), ssh.MarshalAuthorizedKey(public))
	port := FreePort(t)
	if os.Geteuid() == 0 { // who signs in reads it as themselves
		if err := errors.Join(os.Chmod(dir, 0o755), os.Chmod(filepath.Join(dir, "allowed"), 0o644)); err != nil {
			t.Fatal(err)
		}
	}
	write(t, filepath.Join(dir, "sshd.conf"), []byte(fmt.Sprintf(`Port %d
ListenAddress 127.0.0.1
HostKey %[2]s/host.key
AuthorizedKeysFile %[2]s/allowed
PidFile none
UsePAM no
StrictModes no
PasswordAuthentication no
PermitRootLogin yes
Subsystem sftp internal-sftp
%s`, port, dir, extra)))
	start(t, program, "-D", "-e", "-f", filepath.Join(dir, "sshd.conf"))
	s := SSH{Address: loopback(port), User: name, Key: mine, KeyFile: filepath.Join(dir, "mine.key")}
	await(t, "sshd", func() error {
		line, err := net.DialTimeout("tcp", s.Address, time.Second)
		if err == nil {
			line.Close()
		}
		return err
	})
	signer, err := ssh.ParsePrivateKey(host)
	if err != nil {
		t.Fatal(err)
	}
	s.Fingerprint = ssh.FingerprintSHA256(signer.PublicKey())
	return s
}

func keyPair(t Stage) (private []byte, public ssh.PublicKey) {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(key, "test")
	if err != nil {
		t.Fatal(err)
	}
	if public, err = ssh.NewPublicKey(key.Public()); err != nil {
		t.Fatal(err)
	}
	return pem.EncodeToMemory(block), public
}

func write(t Stage, name string, content []byte) {
	t.Helper()
	if err := os.WriteFile(name, content, 0o600); err != nil {
		t.Fatal(err)
	}
}
