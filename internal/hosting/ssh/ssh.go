// Package ssh connects to hosting accounts over SSH (RFC 4251 to 4254).
//
// A connection that drops is made again when it is next used. A host whose key
// is not known is refused until somebody accepts it; one whose key has changed
// is refused; a password that was refused is not tried again.
package ssh

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"tivset/internal/fault"
	"tivset/internal/hosting/bounded"
	"tivset/internal/logs"
	"tivset/internal/secret"
)

// Deadlines for a server that does not answer.
const (
	connectTime = 20 * time.Second
	aliveEvery  = 15 * time.Second
)

// Login is how to sign in to a server. What is not set is not tried.
type Login struct {
	Address    string // host:port
	User       string
	Password   secret.Text
	Key        []byte // a private key, PEM (as ssh-keygen writes it)
	Passphrase secret.Text
	Agent      string // the socket of an agent
	Account    string // the name of the account that it is for, to say what to do
}

// Client is a server that can be connected to, again and again.
type Client struct {
	login Login
	hosts *Hosts

	mu      sync.Mutex
	users   int // who hold it open
	conn    *ssh.Client
	refused error // signing in was refused: trying again could lock the account
}

// New makes a client; it connects when it is first used.
func New(l Login, hosts *Hosts) *Client { return &Client{login: l, hosts: hosts} }

// Conn gives the connection, made anew if it was lost.
func (c *Client) Conn(ctx context.Context) (*ssh.Client, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.refused != nil {
		return nil, c.refused
	}
	if c.conn != nil {
		return c.conn, nil
	}
	conn, err := c.connect(ctx)
	if err != nil {
		return nil, err
	}
	c.conn = conn
	go c.watch(conn)
	return conn, nil
}

// Lost forgets a connection that turned out to be dead.
func (c *Client) Lost(conn *ssh.Client) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.conn == conn {
		c.conn = nil
	}
	_ = conn.Close()
}

// watch asks for a sign of life every so often: a line that went silent is
// found to be dead although nobody closed it.
func (c *Client) watch(conn *ssh.Client) {
	gone := make(chan struct{})
	go func() { _ = conn.Wait(); close(gone) }()
	for {
		select {
		case <-gone:
			c.Lost(conn)
			return
		case <-time.After(aliveEvery):
		}
		alive := make(chan error, 1)
		go func() {
			_, _, err := conn.SendRequest("keepalive@tivset", true, nil)
			alive <- err
		}()
		select {
		case err := <-alive:
			if err == nil {
				continue
			}
		case <-time.After(aliveEvery):
		case <-gone:
		}
		c.Lost(conn)
		return
	}
}

// Hold keeps the connection until Close is called once more.
func (c *Client) Hold() {
	c.mu.Lock()
	c.users++
	c.mu.Unlock()
}

// Close lets go of the connection. The last one who does ends it.
func (c *Client) Close() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.users = max(0, c.users-1)
	if c.users > 0 || c.conn == nil {
		return nil
	}
	err := c.conn.Close()
	c.conn = nil
	return err
}

func (c *Client) connect(ctx context.Context) (_ *ssh.Client, err error) {
	defer logs.Asked(ctx, "ssh", "sign in", c.login.Address, c.login.User)(&err)
	methods, signedIn, err := c.methods()
	if err != nil {
		return nil, err
	}
	defer signedIn()
	where := c.login.User + "@" + c.login.Address
	config := &ssh.ClientConfig{User: c.login.User, Auth: methods, HostKeyCallback: c.hosts.checker(c.login.Account),
		HostKeyAlgorithms: c.hosts.algorithms(c.login.Address), Timeout: connectTime}
	line, err := (&net.Dialer{Timeout: connectTime}).DialContext(ctx, "tcp", c.login.Address)
	if err != nil {
		return nil, fault.NewAs(fault.NoAnswer, fault.Failed, "the SSH server does not answer", c.login.Address,
			"Check the address and the port of files: in the account.").Wrap(err)
	}
	// The handshake has a deadline of its own: a server may take the connection
	// and then say nothing.
	_ = line.SetDeadline(time.Now().Add(connectTime))
	conn, channels, requests, err := ssh.NewClientConn(line, c.login.Address, config)
	if err != nil {
		line.Close()
		return nil, c.explain(err, where)
	}
	_ = line.SetDeadline(time.Time{})
	return ssh.NewClient(conn, channels, requests), nil
}

func (c *Client) explain(err error, where string) error {
	var f *fault.Error
	switch {
	case errors.As(err, &f):
		return f
	case strings.Contains(err.Error(), "unable to authenticate"):
		c.refused = fault.NewAs(fault.SignInRefused, fault.Failed, "the SSH server refused the user, password or key", where,
			"Check login: in the account against the host's control panel; it is not tried again.")
		return c.refused
	case errors.Is(err, os.ErrDeadlineExceeded):
		return fault.New(fault.Failed, "what answers does not speak SSH, or not in time", c.login.Address,
			"Check the address and the port of files: in the account.")
	}
	return fault.New(fault.Failed, "the SSH connection cannot be made", where,
		"Check the address and the port of files: in the account.").Wrap(err)
}

// methods are the ways to sign in that the login has, keys first. An agent's
// keys and the key of the login are offered together.
// Done lets the agent go, once one has signed in.
func (c *Client) methods() (ways []ssh.AuthMethod, done func(), err error) {
	var signers []ssh.Signer
	done = func() {}
	if c.login.Agent != "" {
		if line, err := net.Dial("unix", c.login.Agent); err == nil {
			signers, _ = agent.NewClient(line).Signers() // an agent that does not answer has no keys
			done = func() { _ = line.Close() }
		}
	}
	if len(c.login.Key) > 0 {
		signer, err := c.signer()
		if err != nil && len(signers) == 0 {
			done()
			return nil, nil, err
		}
		if err == nil {
			signers = append(signers, signer)
		}
	}
	var out []ssh.AuthMethod
	if len(signers) > 0 {
		out = append(out, ssh.PublicKeys(signers...))
	}
	if !c.login.Password.Empty() {
		password := c.login.Password.Reveal()
		out = append(out, ssh.Password(password), ssh.KeyboardInteractive(func(_, _ string, questions []string,
			_ []bool) ([]string, error) {
			answers := make([]string, len(questions))
			for i := range answers {
				answers[i] = password
			}
			return answers, nil
		}))
	}
	if len(out) == 0 {
		done()
		return nil, nil, fault.New(fault.Usage, "nothing to sign in with", c.login.User+"@"+c.login.Address,
			"Give the account login: {password: …} or {key: FILE}, or start an SSH agent.")
	}
	return out, done, nil
}

// Locked says whether a private key has a passphrase; an error for what is no private key.
func Locked(key []byte) (bool, error) {
	var locked *ssh.PassphraseMissingError
	_, err := ssh.ParsePrivateKey(key)
	if errors.As(err, &locked) {
		return true, nil
	}
	return false, err
}

func (c *Client) signer() (ssh.Signer, error) {
	var locked *ssh.PassphraseMissingError
	signer, err := ssh.ParsePrivateKey(c.login.Key)
	if errors.As(err, &locked) {
		if c.login.Passphrase.Empty() {
			return nil, fault.New(fault.Usage, "the key has a passphrase", "",
				"Give it with login: {passphrase: …} in the account, or use an SSH agent.")
		}
		signer, err = ssh.ParsePrivateKeyWithPassphrase(c.login.Key, []byte(c.login.Passphrase.Reveal()))
	}
	if err != nil {
		return nil, fault.New(fault.Usage, "the key cannot be used", "",
			"Check login: {key: FILE} and its passphrase.").Wrap(errors.New(strings.TrimPrefix(err.Error(), "ssh: ")))
	}
	return signer, nil
}

// Run runs a program on the server with what it reads (nil for nothing), and
// gives what it wrote; what it said on failure is in the error. Arguments are
// quoted for the account's shell, which never reads anything into them.
func Run(ctx context.Context, conn *ssh.Client, input io.Reader, args ...string) (_ string, err error) {
	defer logs.Asked(ctx, "ssh", "run", args[0])(&err)
	session, err := conn.NewSession()
	if err != nil {
		return "", err
	}
	defer session.Close()
	stop := context.AfterFunc(ctx, func() {
		_ = session.Signal(ssh.SIGKILL) // where the server passes that on
		_ = session.Close()
	})
	defer stop()
	out, said := bounded.New(longestOutput, nil), bounded.Beginning(longestComplaint)
	session.Stdin, session.Stdout, session.Stderr = input, &ending{out, session}, said
	if err := session.Run(Quote(args)); err != nil {
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		if out.Exceeded() {
			return "", fmt.Errorf("%s on the server: %w: more than %d MB", args[0], bounded.ErrTooMuch, longestOutput>>20)
		}
		return "", fmt.Errorf("%s on the server: %w: %s", args[0], err, strings.TrimSpace(said.String()))
	}
	return out.String(), nil
}

// How much a program may write, in bytes; of what it says when it fails, the beginning is kept.
const (
	longestOutput    = 64 << 20
	longestComplaint = 64 << 10
)

// ending ends the session of a program that writes too much: it would wait for ever to be read.
type ending struct {
	kept    *bounded.Buffer
	session *ssh.Session
}

func (e *ending) Write(p []byte) (int, error) {
	n, err := e.kept.Write(p)
	if err != nil {
		_ = e.session.Signal(ssh.SIGKILL)
		_ = e.session.Close()
	}
	return n, err
}

// Quote writes arguments for a POSIX shell, each as it is.
func Quote(args []string) string {
	quoted := make([]string, len(args))
	for i, a := range args {
		quoted[i] = "'" + strings.ReplaceAll(a, "'", `'\''`) + "'"
	}
	return strings.Join(quoted, " ")
}
