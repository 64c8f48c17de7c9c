package ssh

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"tivset/internal/fault"
)

// Hosts are the keys of the servers that are known: those in the files that
// people keep, and those accepted here (the format is that of sshd(8), "SSH
// KNOWN_HOSTS FILE FORMAT").
type Hosts struct {
	Others []string // files that are only read
	Own    string   // the file that accepted keys are written to
}

// callback reads the files anew: an accepted key holds at once.
func (h *Hosts) callback() (ssh.HostKeyCallback, error) {
	var there []string
	for _, name := range append([]string{h.Own}, h.Others...) {
		if _, err := os.Stat(name); err == nil {
			there = append(there, name)
		}
	}
	check, err := knownhosts.New(there...)
	if err != nil {
		return nil, fault.New(fault.Usage, "the file of known hosts cannot be read", strings.Join(there, ", "),
			"Correct the line named.").Wrap(err)
	}
	return check, nil
}

// checker judges the keys of servers of an account.
func (h *Hosts) checker(account string) ssh.HostKeyCallback {
	return func(address string, remote net.Addr, key ssh.PublicKey) error {
		return h.check(account, address, remote, key)
	}
}

func (h *Hosts) check(account, address string, remote net.Addr, key ssh.PublicKey) error {
	check, err := h.callback()
	if err != nil {
		return err
	}
	err = check(address, remote, key)
	var wrong *knownhosts.KeyError
	if !errors.As(err, &wrong) {
		return err
	}
	print := ssh.FingerprintSHA256(key)
	if len(wrong.Want) > 0 {
		return &fault.Error{Kind: fault.Failed, Code: fault.UnknownServer, What: "the server's key has changed",
			Where:   address,
			Details: []string{"it shows " + key.Type() + " " + print, "known is the one in " + wrong.Want[0].String()},
			Remedy:  "Somebody may be listening in. Ask the host; only when they changed it, take the old key out of that file."}
	}
	return &fault.Error{Kind: fault.NeedsConfirmation, Code: fault.UnknownServer,
		What:    "the server's key is not known yet",
		Where:   address,
		Details: []string{key.Type() + " " + print},
		Remedy:  "Compare it with what the host publishes, then accept it: " + fault.Call("account", "trust", account, print)}
}

// algorithms lists the kinds of the keys that are known of a server, so that it
// shows one of those; nil when none is.
func (h *Hosts) algorithms(address string) []string {
	check, err := h.callback()
	if err != nil {
		return nil
	}
	var wrong *knownhosts.KeyError
	if !errors.As(check(address, &net.TCPAddr{}, noKey{}), &wrong) {
		return nil
	}
	var out []string
	for _, k := range wrong.Want {
		if kind := k.Key.Type(); kind == ssh.KeyAlgoRSA {
			out = append(out, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		} else if !slices.Contains(out, kind) {
			out = append(out, kind)
		}
	}
	return out
}

// noKey is a key that nobody has.
type noKey struct{}

func (noKey) Type() string                        { return "none" }
func (noKey) Marshal() []byte                     { return []byte("none") }
func (noKey) Verify([]byte, *ssh.Signature) error { return errors.New("nobody has this key") }

// Trust keeps the key that a server shows now. It must have the fingerprint
// (SHA256:…); with "" nothing is kept. It returns the fingerprint that was
// shown.
func (h *Hosts) Trust(address, fingerprint string) (shown string, err error) {
	var key ssh.PublicKey
	config := &ssh.ClientConfig{User: "nobody", Timeout: connectTime, HostKeyCallback: func(_ string, _ net.Addr,
		k ssh.PublicKey) error {
		key = k
		return errors.New("seen")
	}}
	if _, err := ssh.Dial("tcp", address, config); key == nil {
		return "", fault.NewAs(fault.NoAnswer, fault.Failed, "the SSH server does not answer", address,
			"Check the address and the port of files: in the account.").Wrap(err)
	}
	shown = ssh.FingerprintSHA256(key)
	if fingerprint == "" {
		return shown, nil
	}
	if fingerprint != shown {
		return shown, fault.NewAs(fault.UnknownServer, fault.NeedsConfirmation, "the server shows another key", shown,
			"Compare it with what the host publishes. Nothing was accepted.")
	}
	if err := os.MkdirAll(filepath.Dir(h.Own), 0o700); err != nil {
		return shown, err
	}
	file, err := os.OpenFile(h.Own, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return shown, err
	}
	_, err = fmt.Fprintln(file, knownhosts.Line([]string{knownhosts.Normalize(address)}, key))
	return shown, errors.Join(err, file.Close())
}
