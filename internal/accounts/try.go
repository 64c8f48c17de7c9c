package accounts

import (
	"context"
	"errors"
	"fmt"
	"net"
	"time"

	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/web"
	"tivset/internal/notify/mail"
)

// Test tries every part of an account and says what works.
func (k *Keeper) Test(ctx context.Context, name string) ([]check.Checked, error) {
	a, err := k.Book.Account(name, "")
	if err != nil {
		return nil, err
	}
	t := &tester{Keeper: k, account: a}
	t.files(ctx)
	for _, d := range a.Domains {
		fine, err := t.domain(ctx, d)
		t.add(d.Name, err, fine)
	}
	for i := range a.Databases {
		fine, err := t.server(ctx, &a.Databases[i])
		t.add("database "+a.Databases[i].Name, err, fine)
	}
	if a.Mail != nil {
		server, err := k.Book.MailServer(a)
		if err == nil {
			err = hosting.RefusedAs(a, TryMail(ctx, server))
		}
		t.add("mail", err, a.Mail.Server+" answers")
	}
	if t.in != nil {
		return t.out, t.in.Close()
	}
	return t.out, nil
}

// tester tries the parts of one account.
type tester struct {
	*Keeper
	account *account.Account
	in      *hosting.Account // nil where the files cannot be reached
	out     []check.Checked
}

func (t *tester) add(part string, err error, fine string) {
	if err == nil {
		t.out = append(t.out, check.Checked{Name: part, OK: true, Detail: fine})
		return
	}
	text := err.Error()
	if f := fault.Of(err); f.Remedy != "" {
		text += ". " + f.Remedy
	}
	t.out = append(t.out, check.Checked{Name: part, Detail: text})
}

// files opens the account, writes a file into the store, and takes it away again.
func (t *tester) files(ctx context.Context) {
	var err error
	if t.in, err = t.Hosting.Open(ctx, t.account); err != nil {
		t.in = nil
		t.add("files", err, "")
		return
	}
	how, err := t.write(ctx)
	t.add("files", err, t.account.Reach+" can be written"+how)
	t.programs(ctx)
}

// write says how fast a file of the account is written; nothing where that is on
// this machine, whose disk's speed tells nothing.
func (t *tester) write(ctx context.Context) (string, error) {
	token, err := t.Maker.Token(12)
	if err != nil {
		return "", err
	}
	store := t.in.Store().Top()
	made, err := files.MkdirAll(ctx, t.in.Files, store, 0o700)
	if err != nil {
		return "", err
	}
	how, err := speed(ctx, t.in.Files, store+"/test-"+token, t.Now)
	if made != "" {
		err = errors.Join(err, files.DropEmpty(ctx, t.in.Files, store))
	}
	line := t.account.Line()
	if line.OwnMachine {
		return "", err
	}
	how = ": " + how
	if !line.Encrypted {
		how += "; everybody on the way can read along, ask the host for SFTP or FTPS"
	}
	if t.account.Remote().User == "root" {
		how += "; this signs in as root: a program on the site that replaces folders by links could then reach files " +
			"outside of the account. Ask the host for a user of the account's own"
	}
	return how, err
}

// programs runs what the account names.
func (t *tester) programs(ctx context.Context) {
	names := t.account.Runtime
	if _, ok := t.in.Programs(); !ok && names.PHP+names.Crontab != "" {
		t.add("programs", fault.New(fault.Failed, "the account names programs, and its files are reached without commands",
			t.account.Reach,
			"Reach it over SSH, or leave php and crontab out of runtime."), "")
		return
	}
	if names.PHP != "" {
		have, err := t.in.AskPHP(ctx, nil, nil)
		t.add("php", err, names.PHP+" is PHP "+have.Version)
	}
	if names.Crontab != "" {
		crontab, err := t.in.Crontab(ctx)
		t.add("crontab", err, fmt.Sprintf("can be read; %d timers run", len(hosting.TimersIn(crontab))))
	}
}

func (t *tester) domain(ctx context.Context, d account.Domain) (string, error) {
	if t.in != nil {
		if there, err := files.Exists(ctx, t.in.Files, d.Folder); err != nil || !there {
			return "", fault.New(fault.Failed, "its document root is not there", d.Folder,
				"Correct the folder, or make it.").Wrap(err)
		}
	}
	began := t.Now()
	page, err := web.NewVisitor(hosting.Connections(t.account)).Get(ctx, d.URL+"/")
	if err != nil {
		return "", fault.NewAs(fault.NoAnswer, fault.Failed, "its address does not answer", d.URL,
			"Check the url; where the name does not resolve yet, give connect: ADDRESS:PORT.").Wrap(err)
	}
	return fmt.Sprintf("%s answers in %d ms (status %d)", d.URL, 1+t.Now().Sub(began).Milliseconds(), page.Status), nil
}

func (t *tester) server(ctx context.Context, d *account.Database) (string, error) {
	if d.FromInside() {
		return d.Server + " is reached by the sites only; installs look at it", nil
	}
	if d.Make == account.ByHand {
		return d.Server + ": databases are made by hand, and tried when they are there", nil
	}
	began := t.Now()
	server, err := t.Hosting.Connect(ctx, t.account, d)
	if err != nil {
		return "", err
	}
	defer server.Close()
	name, version, err := server.Version(ctx)
	if err != nil {
		return "", err
	}
	took := 1 + t.Now().Sub(began).Milliseconds()
	engine, _ := database.EngineOf(name)
	return fmt.Sprintf("%s %s at %s; databases and users can be made; signed in within %d ms", engine.Title, version,
		d.Server, took), server.MayCreate(ctx)
}

// TryMail signs in to a mail server, or waits for its greeting (RFC 5321, 4.2: code 220).
func TryMail(ctx context.Context, s mail.Server) error {
	if s.Address == mail.Own || s.User != "" {
		return tried(s, mail.Try(ctx, s))
	}
	c, err := (&net.Dialer{Timeout: 10 * time.Second}).DialContext(ctx, "tcp", s.Address)
	if err != nil {
		return tried(s, err)
	}
	defer c.Close()
	_ = c.SetReadDeadline(time.Now().Add(10 * time.Second))
	greeting := make([]byte, 3)
	if _, err := c.Read(greeting); err != nil || string(greeting) != "220" {
		return fault.New(fault.Failed, "what answers is no mail server", s.Address, "Check the address.")
	}
	return nil
}

// tried words why a mail server will not do.
func tried(s mail.Server, err error) error {
	switch {
	case err == nil:
		return nil
	case s.Address == mail.Own:
		return fault.New(fault.Failed, err.Error(), "", "Name a mail server as host:port.")
	case mail.Refused(err):
		return fault.NewAs(fault.SignInRefused, fault.Failed, "the mail server refused the user or password", s.User+" on "+
			s.Address, "").Wrap(err)
	}
	return fault.NewAs(fault.NoAnswer, fault.Failed, "the mail server does not answer as one should", s.Address,
		"Check the address and the port: 587 or 465 where one signs in, else 25.").Wrap(err)
}
