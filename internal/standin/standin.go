// Package standin is a simulated hosting account in one process: a web server
// with several domains, a database server, SFTP, FTP, a mailbox. It stands in for a real
// account in the demo and in tests; nothing has to be installed for it.
//
// It imports nothing of what it stands in for.
package standin

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"

	"tivset/internal/standin/ftpd"
	"tivset/internal/standin/mailbox"
	"tivset/internal/standin/mysqld"
	"tivset/internal/standin/pages"
	"tivset/internal/standin/sftpd"
)

// Options describe the account.
type Options struct {
	Folder       string            // holds account/, database/ and mailbox/
	Domains      map[string]string // domain to document root, below account/
	RootPassword string            // of the database server
	User         string            // who may sign in over SSH and FTP
	Password     string            // and with what
	Ports        Ports             // 0 for free ones
}

// Ports are the ports of the servers, all on 127.0.0.1.
type Ports struct{ Web, Database, Mail, SSH, FTP int }

// Account is a running stand-in.
type Account struct {
	Root     string // the account's folder
	Mailbox  string // the folder of mails
	Web      *pages.Server
	Database *mysqld.Server
	Mail     *mailbox.Server
	SSH      *sftpd.Server
	FTP      *ftpd.Server
}

// Start makes what is missing of the folders and starts the servers.
func Start(o Options) (*Account, error) {
	a := &Account{Root: filepath.Join(o.Folder, "account"), Mailbox: filepath.Join(o.Folder, "mailbox")}
	roots := map[string]string{}
	for domain, folder := range o.Domains {
		roots[domain] = filepath.Join(a.Root, folder)
		if err := os.MkdirAll(roots[domain], 0o755); err != nil {
			return nil, err
		}
	}
	var err error
	if a.Database, err = mysqld.Start(filepath.Join(o.Folder, "database"), at(o.Ports.Database),
		o.RootPassword); err != nil {
		return nil, err
	}
	if a.Mail, err = mailbox.Start(a.Mailbox, at(o.Ports.Mail)); err != nil {
		return nil, errors.Join(err, a.Close())
	}
	a.SSH, err = sftpd.Start(sftpd.Options{Address: at(o.Ports.SSH), Folder: filepath.Join(o.Folder, "ssh"), Home: a.Root,
		User: o.User, Password: o.Password})
	if err != nil {
		return nil, errors.Join(err, a.Close())
	}
	a.FTP, err = ftpd.Start(ftpd.Options{Address: at(o.Ports.FTP), Folder: filepath.Join(o.Folder, "ftp"), Home: a.Root,
		User: o.User, Password: o.Password})
	if err != nil {
		return nil, errors.Join(err, a.Close())
	}
	a.Web, err = pages.Start(pages.Options{Address: at(o.Ports.Web), Home: a.Root, Roots: roots})
	if err != nil {
		return nil, errors.Join(err, a.Close())
	}
	return a, nil
}

func at(port int) string { return net.JoinHostPort("127.0.0.1", fmt.Sprint(port)) }

// Ports gives the ports in use.
func (a *Account) Ports() Ports {
	port := func(address string) int {
		var n int
		_, text, err := net.SplitHostPort(address)
		if err == nil {
			_, _ = fmt.Sscan(text, &n)
		}
		return n
	}
	return Ports{port(a.Web.Address()), port(a.Database.Address()), port(a.Mail.Address()), port(a.SSH.Address()),
		port(a.FTP.Address())}
}

// Close ends the servers. The folders stay.
func (a *Account) Close() error {
	var all []error
	if a.Web != nil {
		all = append(all, a.Web.Close())
	}
	if a.FTP != nil {
		all = append(all, a.FTP.Close())
	}
	if a.SSH != nil {
		all = append(all, a.SSH.Close())
	}
	if a.Mail != nil {
		all = append(all, a.Mail.Close())
	}
	if a.Database != nil {
		all = append(all, a.Database.Close())
	}
	return errors.Join(all...)
}
