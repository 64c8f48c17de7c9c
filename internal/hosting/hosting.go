package hosting

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/backoff"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/helperpage"
	"tivset/internal/hosting/runtime"
	"tivset/internal/hosting/web"
	"tivset/internal/logs"
	"tivset/internal/secret"
)

// UsualSettle is the usual value of Opener.Settle.
const UsualSettle = 6 * time.Second

// Passwords gives what accounts keep elsewhere; fs.ErrNotExist when there is no
// such entry.
type Passwords interface {
	Get(name string) (secret.Text, error)
}

// Opener opens accounts. All of its fields are given by whoever wires the
// program.
type Opener struct {
	Passwords Passwords
	Maker     secret.Maker
	Now       func() time.Time
	Settle    time.Duration // for how long a look at what has just changed is tried again

	// Crowded is told of an account of which a server has too many at once, each time; it
	// may be nil. Who opens an account waits for such a server.
	Crowded func(account string)

	// Certified says until when a server's certificate is good, or why it does
	// not verify. Address is host:port.
	Certified func(ctx context.Context, name, address string) (until time.Time, err error)

	Runtimes runtime.Set // what may make the pages of its sites

	OpenFiles   func(context.Context, *account.Account) (files.Closer, error)
	OpenServer  func(context.Context, *account.Account, *account.Database, database.Login) (database.Server, error)
	OpenSession func(context.Context, *account.Account, *account.Database, database.Login) (database.Session, error)
}

// Account is an account whose files are open.
type Account struct {
	*account.Account
	Files files.FS

	opener  *Opener
	close   func() error
	page    *helperpage.Page // one that works here, or nil
	carries bool             // it can unpack
}

// Open opens an account. The caller closes it. The fault of one that cannot be
// reached says what to do.
func (o *Opener) Open(ctx context.Context, a *account.Account) (*Account, error) {
	var f files.Closer
	err := o.unhurried(ctx, a, func() (err error) {
		defer logs.Asked(ctx, "files", "open the account", a.Name)(&err)
		f, err = o.OpenFiles(ctx, a)
		return err
	})
	if err != nil {
		return nil, Unreachable(a, err)
	}
	return &Account{Account: a, Files: f, opener: o, close: f.Close}, nil
}

// Runtimes are those that may make the pages of the account's sites.
func (a *Account) Runtimes() runtime.Set { return a.opener.Runtimes }

// unhurried waits for a server that has too many at once.
func (o *Opener) unhurried(ctx context.Context, a *account.Account, open func() error) error {
	return backoff.Wait(ctx, backoff.Patience, func() {
		if o.Crowded != nil {
			o.Crowded(a.Name)
		}
	}, open)
}

// Under has the account work for another opener from now on: who looks at what is to be done is not always who
// does it.
func (a *Account) Under(o *Opener) { a.opener = o }

// Close lets go of the account.
func (a *Account) Close() error { return a.close() }

// Unreachable words why an account's files cannot be reached.
func Unreachable(a *account.Account, err error) error {
	var known *fault.Error
	if errors.As(err, &known) { // it says what to do
		return RefusedAs(a, known)
	}
	return fault.NewAs(fault.NoAnswer, fault.Failed, "the files of the account cannot be reached", a.Reach,
		"Check the folder and its permissions: "+fault.Call("account", "test", a.Name)).Wrap(err)
}

// Unreachable words why this account's files cannot be read.
func (a *Account) Unreachable(err error) error { return Unreachable(a.Account, err) }

// Free gives how many bytes are left, and whether the account tells.
func (a *Account) Free(ctx context.Context) (bytes int64, told bool) {
	teller, ok := a.Files.(files.SpaceTeller)
	if !ok {
		return 0, false
	}
	free, err := teller.Free(ctx)
	return free, err == nil
}

// Visitor is somebody with a browser who finds the account's domains.
func (a *Account) Visitor() *web.Visitor {
	v := web.NewVisitor(Connections(a.Account))
	if a.opener != nil && a.opener.Crowded != nil {
		v.Crowded = func() { a.opener.Crowded(a.Name) }
	}
	return v
}

// Connections says where to find an account's domains.
func Connections(a *account.Account) web.Connections {
	c := web.Connections{}
	for _, d := range a.Domains {
		if d.Connect == "" {
			continue
		}
		scheme, host, _ := strings.Cut(d.URL, "://")
		if !strings.Contains(host, ":") {
			host += map[string]string{"http": ":80", "https": ":443"}[scheme]
		}
		c[host] = d.Connect
	}
	return c
}

// Settled tries a look again for a while: servers may serve a file from before
// a change for some seconds (PHP's opcache looks every two).
func (a *Account) Settled(ctx context.Context, look func() error) error {
	deadline := time.Now().Add(a.opener.Settle)
	for {
		err := look()
		if err == nil || time.Now().After(deadline) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// Pause waits until what goes on in the account without our doing has passed, for
// no longer than looks are tried again for.
func (a *Account) Pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(min(d, a.opener.Settle)):
	}
}

// Connect signs in to one of the account's servers as the one who may create.
func (a *Account) Connect(ctx context.Context, d *account.Database) (database.Server, error) {
	return a.opener.Connect(ctx, a.Account, d)
}

// Connect signs in to a server as the one who may create there.
func (o *Opener) Connect(ctx context.Context, a *account.Account, d *account.Database) (database.Server, error) {
	login, err := o.login(a, d)
	if err != nil {
		return nil, err
	}
	var server database.Server
	err = o.unhurried(ctx, a, func() (err error) {
		defer logs.Asked(ctx, "database server", "sign in", d.Name)(&err)
		server, err = o.OpenServer(ctx, a, d, login)
		return err
	})
	if err != nil {
		return nil, RefusedAs(a, err)
	}
	return database.Logged(server), nil
}

// RefusedAs names what takes the new password of an account whose sign-in was refused.
func RefusedAs(a *account.Account, err error) error {
	if fault.CodeOf(err) != fault.SignInRefused {
		return err
	}
	f := *fault.Of(err)
	f.Remedy = account.ChangedPassword(a.Name)
	return &f
}

// Session signs in to a site's database.
func (o *Opener) Session(ctx context.Context, a *account.Account, d *account.Database,
	l database.Login) (database.Session, error) {
	var session database.Session
	err := o.unhurried(ctx, a, func() (err error) {
		defer logs.Asked(ctx, "database", "sign in", d.Name, l.Database, l.User)(&err)
		session, err = o.OpenSession(ctx, a, d, l)
		return err
	})
	if err != nil {
		return nil, err
	}
	return database.LoggedSession(session), nil
}

// login is how to sign in to a server as the one who may create.
func (o *Opener) login(a *account.Account, d *account.Database) (database.Login, error) {
	if d.InFiles() || d.Make == account.Helper {
		return database.Login{Server: d.Server}, nil
	}
	if d.Admin == nil {
		return database.Login{}, fault.New(fault.Usage, "nobody may create databases on "+d.Name, "",
			"Choose one that is there (data.from=existing), or make it by hand (data.from=by-hand).")
	}
	l := database.Login{Server: d.Server, User: d.Admin.User}
	if d.Admin.Password == "" {
		return l, nil
	}
	name, ok := strings.CutPrefix(d.Admin.Password, "vault:")
	if !ok {
		return l, fault.New(fault.Usage, "the password of the server "+d.Name+" is not in the vault", "",
			"Add the account again: "+fault.Call("account", "add", a.Name, "--from", "FILE", "--replace"))
	}
	var err error
	if l.Password, err = o.Passwords.Get(name); err != nil {
		return l, fmt.Errorf("the password of the server %s: %w", d.Name, err)
	}
	return l, nil
}

// WithServer signs in for one use: a server that went away and came back is
// found again. Name is the account's for the server.
func (a *Account) WithServer(ctx context.Context, name string, use func(database.Server) error) error {
	d := a.Database(name, "")
	if d == nil {
		return NoServer(name, "")
	}
	server, err := a.Connect(ctx, d)
	if err != nil {
		return err
	}
	return errors.Join(use(server), server.Close())
}

// NoServer is the fault of an account that has lost a database server.
func NoServer(name, where string) error {
	return fault.New(fault.Failed, "the account has no database server "+name+" any more", where,
		"Add it to the account again.")
}

// ErrComesBack says whether an error is one that may pass by waiting.
func ErrComesBack(err error) bool { return errors.Is(err, database.ErrGone) }
