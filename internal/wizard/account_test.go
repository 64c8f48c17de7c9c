package wizard_test

import (
	"context"
	"crypto/ed25519"
	"encoding/pem"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/hostmail"
	"tivset/internal/site"
	"tivset/internal/testing/sitetest"
	"tivset/internal/wizard"
)

// describe runs a conversation about an account, with a server whose key has the
// fingerprint of the stand-in's.
func describe(t *testing.T, w *sitetest.World, name string, yes bool, lines ...line) (*script, error) {
	t.Helper()
	s := &script{t: t, lines: lines, yes: yes}
	c := &wizard.NewAccount{Ask: s, Book: w.Book, Accounts: w.Accounts, Env: os.Getenv, Truster: truster(w)}
	_, err := c.Run(ctx, name, false)
	return s, err
}

func truster(w *sitetest.World) wizard.Truster {
	at := w.Demo.Standin.SSH.Address()
	return func(context.Context, *account.Account, *account.Database) (wizard.Shown, error) {
		return wizard.Shown{What: "key", At: at, Trust: func(print string) (string, error) {
			if print == "" {
				return w.Demo.Standin.SSH.Fingerprint(), nil
			}
			return w.Reach.Hosts.Trust(at, print)
		}}, nil
	}
}

// domain are the answers about the demo's domain, whose name does not resolve, and the
// rest.
func domain(w *sitetest.World) []line {
	d := w.Demo.Standin.Web.Address()
	return []line{{question: "Domain", answer: "http://lockside"}, {question: "Domain", answer: "lockside.localhost"},
		{question: "Its address", answer: "http://lockside.localhost:" + d[strings.LastIndex(d, ":")+1:]},
		{question: "Where it is reached", answer: d}, {question: "Database server", answer: "-"},
		{question: "Mail server"}, {question: "Keep it?", answer: "what"}, {question: "Keep it?", answer: "y"}}
}

// here and far are two ways to the demo account's files.
func here(w *sitetest.World) []line {
	return append([]line{{question: "The host's mail, or its server", answer: w.Root}}, domain(w)...)
}

func far(w *sitetest.World) []line {
	return append([]line{{question: "The host's mail", answer: w.Demo.Standin.SSH.Address()},
		{question: "User", answer: "quill"}, {question: "Password", answer: w.Demo.Password}}, domain(w)...)
}

func TestAnAccountIsTriedWhileItIsDescribed(t *testing.T) {
	for how, lines := range map[string]func(*sitetest.World) []line{"local": here, "sftp": far} {
		t.Run(how, func(t *testing.T) {
			w := sitetest.Demo(t)
			before := w.Snapshot()
			s, err := describe(t, w, "second", true, lines(w)...)
			require.NoError(t, err, s.heard())
			assert.Equal(t, len(s.lines), s.at, "the whole script was played")
			for _, said := range []string{"is not a domain", "the domain does not answer", "shows the folder web/lockside"} {
				assert.Contains(t, s.heard(), said)
			}
			kept, err := w.Home.Account("second")
			require.NoError(t, err)
			assert.Equal(t, how, kept.Line().Scheme, "the way is found out")
			assert.Equal(t, "web/lockside", kept.Domains[0].Folder)
			assert.True(t, kept.Domains[0].Primary)
			assert.NotContains(t, s.heard(), w.Demo.Password, "the password is shown nowhere")
			_, err = w.Accounts.Test(ctx, "second")
			require.NoError(t, err)
			sitetest.Same(t, before, w.Snapshot(), "looking changes nothing")
		})
	}
}

// mailed is a host's mail about the demo account.
func mailed(w *sitetest.World, password string) string {
	data, port, _ := strings.Cut(w.Demo.Standin.Database.Address(), ":")
	return "Welcome!\n\nDomain: lockside.localhost\n\nSFTP access\nServer: " + w.Demo.Standin.SSH.Address() +
		"\nUser: quill\nPassword: " + password + "\nFolder: web/lockside\n\nMySQL\nHost: " + data + ":" + port +
		"\nDatabase: quill_one\nUser: root\nPassword: " + w.Demo.Password +
		"\n\nSMTP server: " + w.Demo.Standin.Mail.Address() + "\n"
}

// Of a host's mail all is taken that it says: pasted, or from a file. A wrong password in it
// is asked for again, and nothing else; lines of the form can be changed.
func TestAnAccountFromTheHostsMail(t *testing.T) {
	w := sitetest.Demo(t)
	d := w.Demo.Standin.Web.Address()
	port := d[strings.LastIndex(d, ":")+1:]
	elsewhere := []line{{question: "Its address", answer: "http://lockside.localhost:" + port},
		{question: "Where it is reached", answer: d}}
	s, err := describe(t, w, "second", true, append(append([]line{
		{
			question: "The host's mail",
			answer:   mailed(w, "not-the-password"),
		}, {question: "Password", answer: w.Demo.Password}},
		elsewhere...), line{question: "Keep it?", answer: "y"})...)
	require.NoError(t, err, s.heard())
	kept, err := w.Home.Account("second")
	require.NoError(t, err)
	require.Len(t, kept.Databases, 1)
	assert.Equal(
		t,
		[]string{"sftp", "web/lockside", "root", "quill_"},
		[]string{kept.Line().Scheme, kept.Domains[0].Folder,
			kept.Databases[0].Admin.User, kept.Databases[0].Prefix},
	)
	require.NotNil(t, kept.Mail, s.heard())
	assert.Equal(t, "hosting@lockside.localhost", kept.Mail.From)
	assert.NotContains(t, s.heard(), w.Demo.Password)
	assert.NotContains(t, s.heard(), "not-the-password")
	parts, err := w.Accounts.Test(ctx, "second")
	require.NoError(t, err)
	for _, p := range parts {
		assert.True(t, p.OK, p)
	}

	s = &script{t: t, yes: true, lines: append(
		elsewhere,
		line{question: "Keep it?", answer: "6"},
		line{
			question: "Domain",
			answer:   "chandlery.localhost",
		},
		line{question: "Its address", answer: "http://chandlery.localhost:" +
			port},
		line{question: "Where it is reached", answer: d},
		line{question: "Keep it?", answer: "9"},
		line{question: "Names begin with", answer: "q_"},
		line{question: "Keep it?", answer: "n"},
	)}
	c := &wizard.NewAccount{Ask: s, Book: w.Book, Accounts: w.Accounts, Env: os.Getenv,
		Letter: hostmail.Read([]byte(mailed(w,
			w.Demo.Password)))}
	_, err = c.Run(ctx, "third", false)
	assert.ErrorContains(t, err, "no account was added")
	assert.Contains(t, s.heard(), "shows the folder web/chandlery")
	assert.Contains(t, s.heard(), "names begin with q_")
}

// A server with no password that fits, or that nobody has ever heard of: asked again.
func TestWrongAnswersAboutAnAccount(t *testing.T) {
	w := sitetest.Demo(t)
	s, err := describe(t, w, "second", true, line{question: "The host's mail", answer: "Hello,\nno server here\n"},
		line{question: "The host's mail", answer: "127.0.0.1:1"}, line{question: "User", answer: "quill"},
		line{question: "Password", answer: "x"}, line{question: "The host's mail", answer: w.Demo.Standin.SSH.Address()},
		line{question: "Password", answer: "<"}, line{question: "User", answer: "<"},
		line{question: "The host's mail", answer: stop})
	require.Error(t, err)
	assert.Contains(t, s.heard(), "nothing of an account can be found in that")
	assert.Contains(t, s.heard(), "refused the user")
	names, err := w.Home.Accounts()
	require.NoError(t, err)
	assert.NotContains(t, names, "second")
}

// Wherever somebody stops, no account is kept, and the vault has nothing of it.
func TestAnAccountIsKeptAtTheEndOnly(t *testing.T) {
	w := sitetest.Demo(t)
	all := far(w)
	vault, err := w.Book.Vault.Names("")
	require.NoError(t, err)
	for n := range all {
		s, err := describe(t, w, "second", true, append(append([]line{}, all[:n]...),
			line{question: all[n].question, answer: stop})...)
		require.Error(t, err, s.heard())
		assert.Equal(t, fault.NeedsConfirmation, fault.Of(err).Kind, err)
		names, err := w.Home.Accounts()
		require.NoError(t, err)
		assert.NotContains(t, names, "second")
		left, err := w.Book.Vault.Names("")
		require.NoError(t, err)
		assert.Equal(t, vault, left)
	}
}

// A server's key that the owner does not accept ends nothing: the question is
// asked again, and no advice is given that cannot be followed yet.
func TestAKeyThatIsNotAccepted(t *testing.T) {
	w := sitetest.Demo(t)
	lines := append(far(w)[:3], line{question: "The host's mail", answer: stop})
	s, err := describe(t, w, "second", false, lines...)
	require.Error(t, err)
	assert.Contains(t, s.heard(), "the server's key was not accepted")
	assert.NotContains(t, s.heard(), "trust")
	_, err = w.Home.Account("second")
	require.Error(t, err)
}

// A database that the host made, with its user and password, is kept, and the first site gets it without a
// question; the next one does not.
func TestADatabaseThatTheHostMade(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	password, err := w.Book.Vault.Get(site.VaultName(done.Site.Address, site.DataPassword))
	require.NoError(t, err)
	x, d := done.Site.Database, w.Demo.Standin.Web.Address()
	mail := "SFTP server: " + w.Demo.Standin.SSH.Address() + "\nUser: quill\nPassword: " + w.Demo.Password +
		"\nDomain: lockside.localhost\n\nMySQL\nServer: " + w.Demo.Standin.Database.Address() + "\nDatabase: " + x.Name +
		"\nUser: " + x.User + "\nPassword: " + password.Reveal() + "\n"
	s := &script{t: t, yes: true, lines: []line{
		{question: "Its address", answer: "http://lockside.localhost:" + d[strings.LastIndex(d, ":")+1:]},
		{question: "Where it is reached", answer: d}, {question: "Keep it?", answer: "y"}}}
	a := &wizard.NewAccount{Ask: s, Book: w.Book, Accounts: w.Accounts, Env: os.Getenv, Truster: truster(w),
		Letter: hostmail.Read([]byte(mail))}
	_, err = a.Run(ctx, "second", false)
	require.NoError(t, err, s.heard())
	assert.Contains(t, s.heard(), "is kept for the first site that needs one")
	kept, err := w.Home.Account("second")
	require.NoError(t, err)
	require.Len(t, kept.Databases[0].Given, 1)
	assert.Equal(t, "vault:second/main/"+x.Name, kept.Databases[0].Given[0].Password)
	request := sitetest.Request("inkreach", "lockside.localhost/second")
	request.Account = "second"
	again, err := w.Install(request)
	require.NoError(t, err)
	assert.Equal(t, []string{"existing", x.Name, x.User}, []string{again.Site.Database.From, again.Site.Database.Name,
		again.Site.Database.User})
	request.At = "lockside.localhost/third"
	_, err = w.Install(request)
	require.Error(t, err, "it is taken now: the next is made by hand")
	assert.NotContains(t, fault.Of(err).Error(), password.Reveal())
}

// A database user who may make none is no fault: databases are made by hand there. A server
// that does not answer from here is left to the sites.
func TestADatabaseUserWhoMayMakeNone(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	password, err := w.Book.Vault.Get(site.VaultName(done.Site.Address, site.DataPassword))
	require.NoError(t, err)
	x := done.Site.Database
	for _, c := range []struct{ server, says, kept string }{
		{w.Demo.Standin.Database.Address(), "you make databases in the host's control panel",
			w.Demo.Standin.Database.Address()},
		{"127.0.0.1:1", "does not answer", ""},
	} {
		lines := far(w)[:7]
		lines = append(lines, line{question: "Database server", answer: c.server},
			line{question: "A user who may", answer: x.User}, line{question: "Password", answer: password.Reveal()},
			line{question: "Mail server"}, line{question: "Keep it?", answer: "y"})
		s := &script{t: t, lines: lines, yes: true}
		a := &wizard.NewAccount{Ask: s, Book: w.Book, Accounts: w.Accounts, Env: os.Getenv, Truster: truster(w)}
		_, err := a.Run(ctx, "second", true)
		require.NoError(t, err, s.heard())
		assert.Contains(t, strings.ToLower(s.heard()), c.says)
		assert.NotContains(t, s.heard(), "--replace", "no remedy that cannot be followed here")
		kept, err := w.Home.Account("second")
		require.NoError(t, err)
		require.Len(t, kept.Databases, 1)
		assert.Equal(t, account.ByHand, kept.Databases[0].Make)
		assert.Contains(t, kept.Databases[0].Server, c.kept)
	}
}

// A key is named by its file: one that is none is asked for again, and one that is locked asks for its passphrase.
func TestAccountWithAKeyFile(t *testing.T) {
	w := sitetest.Demo(t)
	folder := t.TempDir()
	keyOf := func(name, passphrase string) string {
		_, private, err := ed25519.GenerateKey(nil)
		require.NoError(t, err)
		signer, err := ssh.NewSignerFromKey(private)
		require.NoError(t, err)
		w.Demo.Standin.SSH.Accept(signer.PublicKey())
		block, err := ssh.MarshalPrivateKey(private, "")
		if passphrase != "" {
			block, err = ssh.MarshalPrivateKeyWithPassphrase(private, "", []byte(passphrase))
		}
		require.NoError(t, err)
		full := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(full, pem.EncodeToMemory(block), 0o600))
		return full
	}
	public := filepath.Join(folder, "id.pub")
	require.NoError(t, os.WriteFile(public, []byte("ssh-ed25519 AAAA x"), 0o600))
	open, locked := keyOf("id", ""), keyOf("id-locked", "rope and anchor")
	for key, more := range map[string][]line{open: nil,
		locked: {{question: "Passphrase of the key", answer: "rope and anchor"}}} {
		lines := append([]line{{question: "The host's mail", answer: w.Demo.Standin.SSH.Address()},
			{question: "User", answer: "quill"}, {question: "Password", answer: ""},
			{question: "File of the key", answer: public}, {question: "File of the key", answer: key}}, more...)
		name := "boats" + strconv.Itoa(len(more))
		_, err := describe(t, w, name, true, append(lines, domain(w)...)...)
		require.NoError(t, err, "%v", fault.Of(err))
		a, err := w.Home.Account(name)
		require.NoError(t, err)
		assert.Equal(t, key, a.Login.Key)
		assert.NotContains(t, a.Login.Passphrase, "rope")
	}
}
