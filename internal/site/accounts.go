package site

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"
	"time"

	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/web"
	"tivset/internal/secret"
)

// AddAccount keeps an account from the text of its file; passwords in it move
// into the vault. Env looks a variable of the environment up.
func (s *Service) AddAccount(name string, text []byte, replace bool, env func(string) string) (*account.Account, error) {
	a, err := account.Parse(text)
	if err != nil {
		return nil, err
	}
	if a.Name != name {
		return nil, fault.New(fault.Usage, "the file is for the account "+a.Name, name, "Use the same name in both places.")
	}
	have, err := s.Home.Accounts()
	if err != nil {
		return nil, err
	}
	if !replace && slices.Contains(have, name) {
		return nil, fault.New(fault.Decision, "an account of this name is kept already", name, "Add --replace to take the new file instead.")
	}
	secrets := map[string]secret.Text{}
	for i := range a.Databases {
		if d := &a.Databases[i]; d.Admin != nil {
			if err := intoVault(&d.Admin.Password, a.Name+"/"+d.Name, secrets, env); err != nil {
				return nil, err
			}
		}
	}
	if l := a.Login; l != nil {
		if err := intoVault(&l.Password, a.Name+"/login", secrets, env); err != nil {
			return nil, err
		}
		if err := intoVault(&l.Passphrase, a.Name+"/passphrase", secrets, env); err != nil {
			return nil, err
		}
	}
	if err := s.Vault.Set(secrets); err != nil {
		return nil, err
	}
	return a, s.Home.PutAccount(a)
}

// intoVault replaces a password by the name of its vault entry.
func intoVault(password *string, entry string, secrets map[string]secret.Text, env func(string) string) error {
	if *password == "" {
		return nil
	}
	how, what, _ := strings.Cut(*password, ":")
	switch how {
	case "vault":
		return nil
	case "plain":
		secrets[entry] = secret.Of(what)
	case "env":
		if env(what) == "" {
			return fault.New(fault.Usage, "the variable "+what+" is not set", "password of "+entry, "Set it, or use file:PATH.")
		}
		secrets[entry] = secret.Of(env(what))
	case "file":
		text, err := os.ReadFile(what)
		if err != nil {
			return fault.New(fault.Usage, "the password's file cannot be read", what, "Correct the path.").Because(err)
		}
		secrets[entry] = secret.Of(strings.TrimRight(string(text), "\r\n"))
	default:
		return fault.New(fault.Usage, "the password of "+entry+" does not say where it is", "", "Write plain:…, file:PATH, env:NAME or vault:NAME.")
	}
	*password = "vault:" + entry
	return nil
}

// ForgetAccount drops an account and its passwords. Sites of it stay recorded
// and so it is refused while there are any.
func (s *Service) ForgetAccount(ctx context.Context, name string) error {
	if _, err := s.Home.Account(name); err != nil {
		return err
	}
	sites, err := s.Ledger.Sites(ctx)
	if err != nil {
		return err
	}
	for _, x := range sites {
		if x.Account == name {
			return fault.New(fault.Decision, "the account has sites", x.Address, "Nothing can look after them without the account; it is kept.")
		}
	}
	if err := s.Vault.Forget(name + "/"); err != nil {
		return err
	}
	return s.Home.ForgetAccount(name)
}

// TestAccount tries every part of an account and says what works.
func (s *Service) TestAccount(ctx context.Context, name string) ([]Checked, error) {
	a, err := s.account(name, "")
	if err != nil {
		return nil, err
	}
	var out []Checked
	add := func(part string, err error, fine string) {
		if err != nil {
			f := fault.Of(err)
			text := err.Error()
			if f.Remedy != "" {
				text += ". " + f.Remedy
			}
			out = append(out, Checked{part, false, text})
			return
		}
		out = append(out, Checked{part, true, fine})
	}
	fsys, err := s.OpenFiles(ctx, a)
	if err != nil {
		add("files", unreachable(a, err), "")
	} else {
		defer fsys.Close()
		how, err := s.tryFiles(ctx, a, fsys)
		add("files", err, a.Reach+" can be written"+how)
		s.tryPrograms(ctx, a, fsys, add)
	}
	for _, d := range a.Domains {
		fine, err := s.tryDomain(ctx, a, d, fsys)
		add(d.Name, err, fine)
	}
	for i := range a.Databases {
		fine, err := s.tryServer(ctx, a, &a.Databases[i])
		add("database "+a.Databases[i].Name, err, fine)
	}
	if a.Mail != nil {
		add("mail", tryMail(ctx, a.Mail.Server), a.Mail.Server+" answers")
	}
	return out, nil
}

// tryFiles writes a file into the store and takes it away again.
func (s *Service) tryFiles(ctx context.Context, a *account.Account, f files.FS) (string, error) {
	token, err := s.Maker.Token(12)
	if err != nil {
		return "", err
	}
	made, err := files.MkdirAll(ctx, f, a.Store, 0o700)
	if err != nil {
		return "", err
	}
	how, err := speed(ctx, f, a.Store+"/test-"+token, s.Now)
	if made != "" {
		err = errors.Join(err, dropEmpty(ctx, f, a.Store))
	}
	to := a.Remote()
	if to == nil {
		return "", err // how fast this machine's disk is tells nothing
	}
	how = ": " + how
	if to.Scheme == account.FTP {
		how += "; everybody on the way can read along, ask the host for SFTP or FTPS"
	}
	return how, err
}

// tryPrograms runs what the account names, and the PHP that serves its sites.
func (s *Service) tryPrograms(ctx context.Context, a *account.Account, f files.FS, add func(part string, err error, fine string)) {
	commander, ok := f.(files.Commander)
	if !ok && a.Runtime.PHP+a.Runtime.Crontab != "" {
		add("programs", fault.New(fault.Failed, "the account names programs, and its files are reached without commands", a.Reach, "Reach it over SSH, or leave php and crontab out of runtime."), "")
		return
	}
	if a.Runtime.PHP != "" {
		have, err := askPHP(ctx, commander, a.Runtime.PHP, &kit.PHP{})
		add("php", err, a.Runtime.PHP+" is PHP "+have.Version)
	}
	if a.Runtime.Crontab != "" {
		crontab, err := readCrontab(ctx, commander, a.Runtime.Crontab)
		add("crontab", err, fmt.Sprintf("can be read; %d timers run", len(timersIn(crontab))))
	}
}

func (s *Service) tryDomain(ctx context.Context, a *account.Account, d account.Domain, f files.FS) (string, error) {
	if f != nil {
		if there, err := files.Exists(ctx, f, d.Folder); err != nil || !there {
			return "", fault.New(fault.Failed, "its document root is not there", d.Folder, "Correct the folder, or make it.").Because(err)
		}
	}
	began := s.Now()
	page, err := web.NewVisitor(connections(a)).Get(ctx, d.URL+"/")
	if err != nil {
		return "", fault.New(fault.Failed, "its address does not answer", d.URL, "Check the url; where the name does not resolve yet, give connect: ADDRESS:PORT.").Because(err)
	}
	return fmt.Sprintf("%s answers in %d ms (status %d)", d.URL, 1+s.Now().Sub(began).Milliseconds(), page.Status), nil
}

func (s *Service) tryServer(ctx context.Context, a *account.Account, d *account.Database) (string, error) {
	if inside(d) {
		return d.Server + " is reached by the sites only; installs look at it", nil
	}
	if d.Make == account.ByHand {
		return d.Server + ": databases are made by hand, and tried when they are there", nil
	}
	began := s.Now()
	server, err := s.connect(ctx, a, d)
	if err != nil {
		return "", err
	}
	defer server.Close()
	engine, version, err := server.Version(ctx)
	if err != nil {
		return "", err
	}
	took := 1 + s.Now().Sub(began).Milliseconds()
	return fmt.Sprintf("%s %s at %s; databases and users can be made; signed in within %d ms", cmp.Or(engineName(engine), engine), version, d.Server, took), server.MayCreate(ctx)
}

// tryMail waits for a mail server's greeting (RFC 5321, 4.2: code 220).
func tryMail(ctx context.Context, server string) error {
	c, err := (&net.Dialer{Timeout: 10 * time.Second}).DialContext(ctx, "tcp", server)
	if err != nil {
		return fault.New(fault.Failed, "the mail server does not answer", server, "Check the address.").Because(err)
	}
	defer c.Close()
	_ = c.SetReadDeadline(time.Now().Add(10 * time.Second))
	greeting := make([]byte, 3)
	if _, err := c.Read(greeting); err != nil || string(greeting) != "220" {
		return fault.New(fault.Failed, "what answers is no mail server", server, "Check the address.")
	}
	return nil
}
