package trial

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"tivset/internal/app/catalogue"
	"tivset/internal/core"
	"tivset/internal/demo"
	"tivset/internal/hosting"
	"tivset/internal/hosting/certificates"
	"tivset/internal/hosting/reach"
	"tivset/internal/hosting/ssh"
	"tivset/internal/notify/mail"
	"tivset/internal/records/home"
	"tivset/internal/records/ledger"
	"tivset/internal/records/vault"
	"tivset/internal/trial/servers"
)

// world is an account on private servers, and a core that works on it.
type world struct {
	*core.Core
	stage   servers.Stage
	root    string            // the account's folder
	web     string            // host:port of its web server
	try     *strings.Replacer // what kits' answers can name of it
	data    *servers.Database
	failing bool // the next release's migration is to fail
	close   func()
}

// The domain that the account has, and who may read mail there.
const (
	domain          = "lockside.localhost"
	mailbox         = "wharfinger"
	mailboxPassword = "Kranich-Teekanne-74"
)

// world starts what a ground needs.
func (t *Trial) world(ctx context.Context, s servers.Stage, g Ground, k catalogue.Entry) (*world, error) {
	own, err := os.MkdirTemp("", "tivset-trial-")
	if err != nil {
		return nil, err
	}
	w := &world{stage: s, root: servers.AccountFolder(s), close: func() { _ = os.RemoveAll(own) }}
	name, uid := servers.SiteUser(s)
	for _, dir := range []string{"web", "web/lockside"} {
		full := filepath.Join(w.root, dir)
		if err := errors.Join(os.Mkdir(full, 0o755), os.Chown(full, uid, uid)); err != nil {
			return nil, err
		}
	}
	serve := map[string]func(servers.Stage, []servers.Site, ...string) string{"nginx": servers.PHPWeb,
		"apache": servers.Apache}[g.Web]
	w.web = serve(s, []servers.Site{{Name: domain, Root: filepath.Join(w.root, "web/lockside")}})
	data := w.database(s, g.Engine)
	w.try = w.named(s, k)
	h := home.At(own)
	l, err := ledger.Open(ctx, h.Ledger())
	if err != nil {
		return nil, err
	}
	w.close = func() { _ = errors.Join(l.Close(), os.RemoveAll(own)) }
	v := vault.At(h.Vault(), h.VaultKey())
	r := &reach.Reach{Vault: v, Hosts: &ssh.Hosts{Own: h.KnownHosts()},
		Certificates: &certificates.Known{Own: h.KnownCertificates()}}
	w.Core = core.In(core.World{Home: h, Catalogue: catalogue.New(t.Kits), Ledger: l, Vault: v, Now: time.Now,
		Who: "a trial", Settle: hosting.UsualSettle, Patience: 5 * time.Second, Download: http.DefaultClient,
		SendMail:  func(context.Context, mail.Server, mail.Message) error { return nil },
		Certified: hosting.Certified, TakesMail: func(context.Context, string) error { return nil },
		Forget: r.Forget, OpenFiles: r.Files, OpenServer: r.Server, OpenSession: r.Session})
	w.Archives.Folder, w.Archives.Debian, w.Archives.Sources = t.Archives.Folder, t.Archives.Debian, t.Archives.Sources
	w.Book.Catalogue.Known = w.known
	w.Desk.KeepFailed = t.Keep
	to, login, err := w.reached(s, g.Reach, name, uid, r)
	if err != nil {
		return nil, err
	}
	_, port, _ := strings.Cut(w.web, ":")
	text := fmt.Sprintf("account: quillmere\nfiles: %s\nlogin: %s\ndomains:\n  - {name: %s, folder: web/lockside, "+
		"url: \"http://%s:%s\", connect: %q}\n%sruntime: {folder: %q}\n", to, login, domain, domain, port, w.web,
		data, w.root)
	_, err = w.Accounts.Add("quillmere", []byte(text), false, os.Getenv)
	return w, err
}

// named gives what the answers of a kit can name: a mail server, where it is named, and
// a user of the database server who may do all.
func (w *world) named(s servers.Stage, k catalogue.Entry) *strings.Replacer {
	of := []string{}
	for _, text := range k.Try.Answers {
		if strings.Contains(text, "{try.mail}") {
			of = append(of, "{try.mail}", servers.Mailboxes(s, mailbox, mailboxPassword))
			break
		}
	}
	if w.data != nil {
		of = append(of, "{try.data-user}", w.data.User, "{try.data-password}", w.data.Password)
	}
	return strings.NewReplacer(of...)
}

// database starts a server of an engine, and gives the account's lines for it.
func (w *world) database(s servers.Stage, engine string) string {
	switch engine {
	case "":
		return ""
	case "sqlite":
		return "databases:\n  - {name: main, engine: sqlite, server: data}\n"
	}
	start := map[string]func(servers.Stage) servers.Database{"mariadb": servers.MariaDB,
		"postgresql": servers.PostgreSQL}[engine]
	d := start(s)
	w.data = &d
	return fmt.Sprintf("databases:\n  - {name: main, engine: %s, server: %q, admin: {user: %q, password: %q}, prefix: "+
		"quill_}\n", engine, d.Address, d.User, "plain:"+d.Password)
}

// reached starts what the account is reached by.
func (w *world) reached(s servers.Stage, by, user string, uid int, r *reach.Reach) (to, login string, err error) {
	switch by {
	case "sftp":
		sshd := servers.OpenSSHAs(s, user, "ForceCommand internal-sftp\n")
		_, err := r.Hosts.Trust(sshd.Address, sshd.Fingerprint)
		return fmt.Sprintf("sftp://%s@%s%s", sshd.User, sshd.Address, w.root), "{key: " + sshd.KeyFile + "}", err
	case "ftps":
		ftpd := servers.ProFTPD(s, servers.FTPOptions{Home: w.root, TLS: true, UID: uid})
		r.Certificates.Roots = ftpd.Roots
		return fmt.Sprintf("ftps://%s@%s/", ftpd.User, ftpd.Address), fmt.Sprintf("{password: %q}", "plain:"+ftpd.Password),
			nil
	}
	return "local:" + w.root, "{}", nil
}

// snapshot lists the whole account: files with modes and checksums, databases, users.
func (w *world) snapshot() (string, error) {
	var out strings.Builder
	if err := demo.Tree(&out, w.root); err != nil {
		return "", err
	}
	if w.data != nil {
		out.WriteString(strings.Join(w.data.Catalogue(w.stage), "\n"))
	}
	return out.String(), nil
}

// unlike says in which lines two snapshots differ.
func unlike(before, after string) error {
	gone, come := demo.Difference(before, after)
	var out []string
	for _, line := range gone {
		out = append(out, "gone: "+line)
	}
	for _, line := range come {
		out = append(out, "come: "+line)
	}
	return wrongly(out)
}
