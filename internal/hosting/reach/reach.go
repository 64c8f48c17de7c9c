// Package reach opens what belongs to an account by the way that the account
// says: its files on this machine, over SFTP or over FTP, its database servers
// directly or through the SSH connection.
package reach

import (
	"context"
	"errors"
	"io/fs"
	"net"
	"os"
	"strings"
	"sync"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/certificates"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/database/helper"
	"tivset/internal/hosting/database/mariadb"
	"tivset/internal/hosting/database/postgresql"
	"tivset/internal/hosting/database/sqlite"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/files/ftp"
	"tivset/internal/hosting/files/local"
	"tivset/internal/hosting/files/sftp"
	"tivset/internal/hosting/ssh"
	"tivset/internal/secret"
)

// Vault gives the passwords that accounts name; fs.ErrNotExist when there is no
// such entry.
type Vault interface {
	Get(name string) (secret.Text, error)
}

// Reach opens accounts. It keeps one SSH connection an account, which files and
// databases share, and one set of FTP connections: however many jobs there are in an
// account, its server sees one visitor.
type Reach struct {
	Vault        Vault
	Hosts        *ssh.Hosts
	Certificates *certificates.Known // of FTP servers
	Agent        string              // the socket of an SSH agent, or ""
	Keys         []string            // private keys to try where the account names neither password nor key

	mu      sync.Mutex
	clients map[string]*ssh.Client
	pools   map[string]*ftp.Pool
}

// Files opens an account's files.
func (r *Reach) Files(ctx context.Context, a *account.Account) (files.Closer, error) {
	top, err := a.Top()
	if err != nil {
		return nil, err
	}
	if a.Remote() == nil {
		f, err := local.Open(top)
		if err != nil {
			return nil, err // not a nil *local.FS in an interface that is not nil
		}
		return f, nil
	}
	if !a.Line().Shell {
		return r.ftp(ctx, a)
	}
	client, err := r.client(a)
	if err != nil {
		return nil, err
	}
	f, err := sftp.Open(ctx, client, top)
	if err != nil {
		return nil, err
	}
	return f, nil
}

func (r *Reach) ftp(ctx context.Context, a *account.Account) (files.Closer, error) {
	to := a.Remote()
	password, err := r.secret(a, a.Login.Password)
	if err != nil {
		return nil, err
	}
	f, err := r.pool(ftp.Login{Account: a.Name, Address: to.Address, User: to.User, Password: password,
		TLS: a.Line().Encrypted}).Open(ctx, to.Top)
	if err != nil {
		return nil, err
	}
	return f, nil
}

// pool is the account's set of FTP connections, made once.
func (r *Reach) pool(l ftp.Login) *ftp.Pool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.pools == nil {
		r.pools = map[string]*ftp.Pool{}
	}
	if r.pools[l.Account] == nil {
		r.pools[l.Account] = ftp.NewPool(l, r.Certificates)
	}
	return r.pools[l.Account]
}

// Server signs in to a database server as the one who may create.
func (r *Reach) Server(ctx context.Context, a *account.Account, d *account.Database, l database.Login) (database.Server,
	error) {
	if d.InFiles() {
		f, err := r.Files(ctx, a)
		if err != nil {
			return nil, err
		}
		return sqlite.Connect(f, d.Server), nil
	}
	if d.Make == account.Helper {
		return helper.Of(d.Helper, d.Engine), nil
	}
	l, err := r.through(a, d, l)
	if err != nil {
		return nil, err
	}
	return engines[d.Engine].server(ctx, l)
}

// Session signs in to a site's database.
func (r *Reach) Session(ctx context.Context, a *account.Account, d *account.Database,
	l database.Login) (database.Session, error) {
	if d.InFiles() {
		f, err := r.Files(ctx, a)
		if err != nil {
			return nil, err
		}
		return session(sqlite.Open(ctx, f, database.File(d.Server, l.Database)))
	}
	l, err := r.through(a, d, l)
	if err != nil {
		return nil, err
	}
	return engines[d.Engine].session(ctx, l)
}

// engines are the engines whose databases one signs in to, by their names; an
// account file can name no other.
var engines = map[string]struct {
	server  func(context.Context, database.Login) (database.Server, error)
	session func(context.Context, database.Login) (database.Session, error)
}{
	database.MariaDB.Name: {
		func(ctx context.Context, l database.Login) (database.Server, error) {
			return server(mariadb.Connect(ctx, l))
		},
		func(ctx context.Context, l database.Login) (database.Session, error) {
			return session(mariadb.Open(ctx, l))
		},
	},
	database.PostgreSQL.Name: {
		func(ctx context.Context, l database.Login) (database.Server, error) {
			return server(postgresql.Connect(ctx, l))
		},
		func(ctx context.Context, l database.Login) (database.Session, error) {
			return session(postgresql.Open(ctx, l))
		},
	},
}

// server and session keep a nil pointer from becoming an interface that is not
// nil.
func server[S database.Server](s S, err error) (database.Server, error) {
	if err != nil {
		return nil, err
	}
	return s, nil
}

func session[S database.Session](s S, err error) (database.Session, error) {
	if err != nil {
		return nil, err
	}
	return s, nil
}

// DatabaseServer is a database server whose certificate is judged.
func DatabaseServer(a *account.Account, d *account.Database) certificates.Server {
	return certificates.Server{What: "database server", Address: d.Server, Account: a.Name, Database: d.Name}
}

// TrustDatabase keeps the certificate that a database server shows now, once its fingerprint is given, as
// certificates.Known.Accept does.
func TrustDatabase(ctx context.Context, known *certificates.Known, a *account.Account, d *account.Database,
	print string,
) (shown string, err error) {
	to := DatabaseServer(a, d)
	host, _, err := net.SplitHostPort(d.Server)
	if err != nil || d.Engine != database.MariaDB.Name || database.Loopback(d.Server) {
		return "", fault.New(fault.Usage, "that database server shows no certificate that could be accepted", d.Server,
			"Only a MariaDB or MySQL server on another machine does.")
	}
	s, seen := mariadb.Connect(ctx, database.Login{Server: d.Server, User: "tivset", Account: a.Name,
		Certificate: certificates.Seeing().Judge(to, host)})
	if seen == nil {
		seen = s.Close()
	}
	return known.Accept(to, seen, print)
}

// through leads a login through the account's SSH connection where its server
// begins with tunnel:.
func (r *Reach) through(a *account.Account, d *account.Database, l database.Login) (database.Login, error) {
	l.Account = a.Name
	server, tunnel := strings.CutPrefix(d.Server, account.Tunnel)
	if !tunnel {
		if host, _, err := net.SplitHostPort(l.Server); err == nil && !database.Loopback(l.Server) && r.Certificates != nil {
			l.Certificate = r.Certificates.Judge(DatabaseServer(a, d), host)
		}
		return l, nil
	}
	if a.Remote() == nil || !a.Line().Shell {
		return l, fault.New(fault.Usage, "the database is to be reached through SSH, and the account has none", d.Name,
			"Give files: sftp://…, or the server's address without tunnel:.")
	}
	client, err := r.client(a)
	l.Server, l.Dial = server, func(ctx context.Context, network, address string) (net.Conn, error) {
		return client.Dial(ctx, network, address)
	}
	return l, err
}

// client is the account's SSH connection, made once.
func (r *Reach) client(a *account.Account) (*ssh.Client, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if c, ok := r.clients[a.Name]; ok {
		return c, nil
	}
	to := a.Remote()
	l := ssh.Login{Account: a.Name, Address: to.Address, User: to.User, Agent: r.Agent}
	var err error
	if a.Login != nil {
		if l.Password, err = r.secret(a, a.Login.Password); err != nil {
			return nil, err
		}
		if l.Passphrase, err = r.secret(a, a.Login.Passphrase); err != nil {
			return nil, err
		}
		if a.Login.Key != "" {
			if l.Key, err = os.ReadFile(a.Login.Key); err != nil {
				return nil, fault.New(fault.Usage, "the key cannot be read", a.Login.Key,
					"Correct login: {key: FILE} in the account.").Wrap(err)
			}
		}
	}
	if !l.Password.Empty() || l.Key != nil {
		l.Agent = "" // the account says with what; an agent's many keys could use up the server's patience
	} else {
		l.Key = r.usualKey()
	}
	if r.clients == nil {
		r.clients = map[string]*ssh.Client{}
	}
	r.clients[a.Name] = ssh.New(l, r.Hosts)
	return r.clients[a.Name], nil
}

func (r *Reach) usualKey() []byte {
	for _, name := range r.Keys {
		if text, err := os.ReadFile(name); err == nil {
			return text
		}
	}
	return nil
}

// secret reads what an account keeps in the vault; "" is none.
func (r *Reach) secret(a *account.Account, reference string) (secret.Text, error) {
	name, ok := strings.CutPrefix(reference, "vault:")
	if !ok {
		return secret.Text{}, nil
	}
	s, err := r.Vault.Get(name)
	if errors.Is(err, fs.ErrNotExist) {
		return s, fault.New(fault.Usage, "the vault has no such password", name, "Add the account again: "+
			fault.Call("account", "add", a.Name, "--from", "FILE", "--replace"))
	}
	return s, err
}

// Forget ends what is open of an account: its description has changed.
func (r *Reach) Forget(name string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if c, ok := r.clients[name]; ok {
		c.Close()
		delete(r.clients, name)
	}
	delete(r.pools, name)
}
