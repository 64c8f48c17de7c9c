package ftp

import (
	"context"
	"errors"
	"io/fs"
	"net"
	"regexp"
	"sync"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting/backoff"
	"tivset/internal/hosting/certificates"
)

// lines is how many connections are made at most. Servers allow fewer: each
// refusal of one more lowers the number for good.
const lines = 16

var saysTLS = regexp.MustCompile(`(?i)\b(SSL|TLS|encrypt)`)

// tries is how often a call is begun again after its connection was lost.
const tries = 5

// Pool keeps the connections to a server, which all share who opened files with it, and
// is the one place where lost ones are made again.
type Pool struct {
	login Login
	certs *certificates.Known
	slots chan struct{} // one for each connection that may be in use

	mu     sync.Mutex
	users  int    // files that are open
	home   string // the folder in which one is after signing in; "" while nobody asked
	idle   []*ctrlConn
	open   int
	worked bool  // somebody has signed in
	never  error // the server refuses the password: it is not tried again
	closed bool
}

// NewPool makes a pool; it connects when files are opened.
func NewPool(l Login, certs *certificates.Known) *Pool {
	p := &Pool{login: l, certs: certs, slots: make(chan struct{}, lines)}
	for range lines {
		p.slots <- struct{}{}
	}
	return p
}

// get gives a connection, an idle one where there is.
func (p *Pool) get(ctx context.Context) (*ctrlConn, error) {
	for {
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-p.slots:
		}
		n, err := p.take(ctx)
		if err == nil {
			return n, nil
		}
		if p.fewer(err) {
			continue // the slot is gone for good; another's turn comes
		}
		p.slots <- struct{}{}
		return nil, err
	}
}

// crowdTime is for how long a server is waited for that has too many connections now, and
// took one before.
const crowdTime = 45 * time.Second

// patiently gives a connection, and waits for a server that took some before and has too
// many now: those of others, or ours that it has not seen end.
func (p *Pool) patiently(ctx context.Context) (n *ctrlConn, err error) {
	_ = backoff.Wait(ctx, crowdTime, nil, func() error {
		var said *reply
		n, err = p.get(ctx)
		if errors.As(err, &said) && said.code == codeClosing && p.hasWorked() {
			return backoff.Of(err)
		}
		return nil
	})
	return n, err
}

func (p *Pool) take(ctx context.Context) (*ctrlConn, error) {
	p.mu.Lock()
	if never, closed := p.never, p.closed; never != nil || closed {
		p.mu.Unlock()
		if closed {
			return nil, fs.ErrClosed
		}
		return nil, never
	}
	if last := len(p.idle) - 1; last >= 0 {
		n := p.idle[last]
		p.idle = p.idle[:last]
		p.mu.Unlock()
		return n, nil
	}
	p.open++
	p.mu.Unlock()
	n, err := connect(ctx, p.login, p.certs)
	p.mu.Lock()
	defer p.mu.Unlock()
	if err != nil {
		p.open--
		var no *refused
		if errors.As(err, &no) && !p.worked {
			if saysTLS.MatchString(no.cause.text) {
				p.never = fault.New(fault.Failed, "the FTP server wants encryption", p.login.Address,
					"Write ftps:// instead of ftp:// in files: of the account.").Wrap(no)
				return nil, p.never
			}
			p.never = fault.NewAs(fault.SignInRefused, fault.Failed, "the FTP server refused the user or the password",
				p.login.User+" on "+
					p.login.Address,
				"Check both in the host's control panel and give the account again: "+
					fault.Call("account", "add", p.login.Account, "--from", "FILE", "--replace")).Wrap(no)
			return nil, p.never
		}
		return nil, err
	}
	p.worked = true
	return n, nil
}

// fewer says whether an error means that the server allows no more connections
// than there are; at least one is always left.
func (p *Pool) fewer(err error) bool {
	var no *refused
	var said *reply
	limit := errors.As(err, &no) || errors.As(err, &said) && (said.code == codeClosing || said.code == codeRefused)
	p.mu.Lock()
	defer p.mu.Unlock()
	return limit && p.worked && p.open > 0
}

func (p *Pool) put(n *ctrlConn) {
	p.mu.Lock()
	p.idle = append(p.idle, n)
	p.mu.Unlock()
	p.slots <- struct{}{}
}

// drop ends a connection that is of no use any more. When it was lost, those
// that idle are likely lost too.
func (p *Pool) drop(n *ctrlConn, wasLost bool) {
	n.close()
	p.mu.Lock()
	p.open--
	if wasLost {
		for _, i := range p.idle {
			i.close()
		}
		p.open -= len(p.idle)
		p.idle = nil
	}
	p.mu.Unlock()
	p.slots <- struct{}{}
}

// hold keeps the connections until close is called once more.
func (p *Pool) hold() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.users == 0 { // what a server refused then it may allow now
		for len(p.slots) < lines {
			p.slots <- struct{}{}
		}
	}
	p.users++
	p.closed = false
}

// close lets go of the connections. The last one who does ends them.
func (p *Pool) close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.users--; p.users > 0 {
		return
	}
	p.closed = true
	for _, n := range p.idle {
		_ = n.send("QUIT")
		n.close()
	}
	p.open -= len(p.idle)
	p.idle = nil
}

// use runs a call on a connection. When that is lost, the call is begun again
// on a new one: what it wanted may have happened already, or the connection may
// have been lost long before. Only the call knows what it saw in between.
func (p *Pool) use(ctx context.Context, call func(n *ctrlConn) error) error {
	for try := 1; ; try++ {
		n, err := p.patiently(ctx)
		if err == nil {
			stop := context.AfterFunc(ctx, n.close)
			err = call(n)
			stop()
			if ctx.Err() != nil {
				p.drop(n, false)
				return ctx.Err()
			}
			if !lost(err) {
				p.put(n)
				return err
			}
			p.drop(n, true)
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if !lost(err) || try == tries || !p.hasWorked() && (try == signInTries || neverMade(err)) {
			return p.explain(err)
		}
		pause(ctx, time.Duration(try*try-1)*200*time.Millisecond)
	}
}

// signInTries is how often the first sign-in is tried on a line that drops.
const signInTries = 3

// neverMade says whether a connection was not even made: nobody is there, or
// somebody who does not answer.
func neverMade(err error) bool {
	var op *net.OpError
	var timed net.Error
	return errors.As(err, &op) && op.Op == "dial" || errors.As(err, &timed) && timed.Timeout()
}

func (p *Pool) hasWorked() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.worked
}

// explain words the loss of a connection.
func (p *Pool) explain(err error) error {
	var known *fault.Error
	if !lost(err) || errors.As(err, &known) {
		return err
	}
	var said *reply
	switch {
	case errors.As(err, &said):
		return fault.New(fault.Failed, "the FTP server is busy", p.login.Address,
			"Try again later; where it limits connections, end other programs that use it.").Wrap(backoff.Of(err))
	case !p.hasWorked():
		return fault.NewAs(fault.NoAnswer, fault.Failed, "the FTP server does not answer", p.login.Address,
			"Check the address and the port of files: in the account.").Wrap(err)
	}
	return fault.New(fault.Failed, "the connection to the FTP server was lost, and could not be made again",
		p.login.Address, "Try again.").Wrap(err)
}

// lost says whether an error is of the connection, not of what was asked.
func lost(err error) bool {
	var said *reply
	if errors.As(err, &said) {
		return said.code == codeClosing || said.code == 425 || said.code == 426 // no, or broken, data connection
	}
	var known *fault.Error
	var about *fs.PathError
	var own *unwanted
	return err != nil && !errors.As(err, &own) && !errors.As(err, &known) && !errors.As(err, &about) &&
		!errors.Is(err, context.Canceled)
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}
