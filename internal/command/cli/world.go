package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/term"

	"tivset/internal/accounts"
	"tivset/internal/app/catalogue"
	"tivset/internal/app/release"
	"tivset/internal/core"
	"tivset/internal/demo"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/certificates"
	"tivset/internal/hosting/reach"
	"tivset/internal/hosting/runtime"
	"tivset/internal/hosting/ssh"
	"tivset/internal/notify/mail"
	"tivset/internal/records/catalogues"
	"tivset/internal/records/home"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/records/team"
	"tivset/internal/records/vault"
	"tivset/internal/screen"
	"tivset/internal/work"
	"tivset/kits"
)

// World is what the program knows of the machine that it runs on.
type World struct {
	In       io.Reader
	Out, Err io.Writer
	Env      func(string) string
	FullName func() string // of the login, "" where it has none
	Now      func() time.Time

	Order  int64      // the number of the order that is carried out; 0 for a command that was typed
	Behalf string     // who asked for it
	Team   *team.Team // the team's database, where it is open already; orders of a worker share it
}

// System is the real world.
func System() World {
	return World{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Env: os.Getenv, FullName: fullName, Now: time.Now}
}

func terminal(v any) (*os.File, bool) {
	f, ok := v.(*os.File)
	return f, ok && term.IsTerminal(int(f.Fd()))
}

func (w World) Streams() *screen.Streams {
	s := &screen.Streams{In: w.In, Out: screen.Spelling(w.Out), Err: screen.Spelling(w.Err), Width: 80,
		Dumb: w.Env("TERM") == "dumb"}
	_, s.InTerminal = terminal(w.In)
	_, s.OutTerminal = terminal(w.Out)
	f, errTerminal := terminal(w.Err)
	s.ErrTerminal = errTerminal
	if errTerminal {
		s.Terminal = f
		s.Measure()
	}
	s.Color = s.ErrTerminal && s.OutTerminal && w.Env("NO_COLOR") == "" && !s.Dumb
	return s
}

// Home says where Tivset keeps its own files.
func (w World) Home() home.Home {
	if folder := w.Env("TIVSET_HOME"); folder != "" {
		return home.At(folder)
	}
	return home.Usual()
}

// Core puts the rooms together in this machine's world. Close lets go of the
// ledger.
func (a *App) Core(ctx context.Context) (c *core.Core, close func(), err error) {
	kits, _, err := a.Catalogue(ctx)
	if err != nil {
		return nil, nil, err
	}
	p, as, done, err := a.Records(ctx)
	if err != nil {
		return nil, nil, err
	}
	opens := a.World.reach(p.Home, p.Vault)
	w := a.Machine()
	w.Runtimes = runtime.Set{demo.Pages{}}
	w.Home, w.Catalogue, w.Ledger, w.Vault, w.Journals, w.Progress = p.Home, kits, p.Ledger, p.Vault, p.Journals,
		a.progress()
	if as != "" {
		w.Who = cmp.Or(a.World.Behalf, as)
	}
	w.Order = a.World.Order
	w.Forget, w.OpenFiles, w.OpenServer, w.OpenSession = opens.Forget, opens.Files, opens.Server, opens.Session
	c = core.In(w)
	c.Desk.Plans = a.Ordering != nil // whatever the command goes on to do
	return c, done, nil
}

// Machine is what this machine gives to the core: all but what has to be opened.
func (a *App) Machine() core.World {
	return core.World{
		Home: a.World.Home(), Now: a.World.Now, Who: a.World.Operator(),
		Settle:    hosting.UsualSettle,
		Patience:  work.UsualPatience,
		Download:  http.DefaultClient,
		Apt:       os.DirFS("/etc/apt"),
		Keyring:   "/usr/share/keyrings/debian-archive-keyring.gpg",
		SendMail:  sendMail,
		Notify:    a.notifies,
		OwnMail:   mail.Sendmail() != "",
		Certified: hosting.Certified,
		TakesMail: mail.Takes,
		Crontab:   crontab,
		Systemd:   accounts.Systemd{Units: a.World.units(), Systemctl: systemctl},
	}
}

// sendMail sends a mail of the core, with the calls in it spelled.
func sendMail(ctx context.Context, server mail.Server, m mail.Message) error {
	m.Text = screen.Spelled(m.Text)
	return mail.Send(ctx, server, m)
}

// crontab runs this machine's crontab(1).
func crontab(ctx context.Context, input string, args ...string) ([]byte, error) {
	c := exec.CommandContext(ctx, "crontab", args...)
	c.Stdin = strings.NewReader(input)
	var said bytes.Buffer
	c.Stderr = &said
	out, err := c.Output()
	if errors.Is(err, exec.ErrNotFound) {
		return nil, fmt.Errorf("%w: %w", fs.ErrNotExist, err)
	}
	if err != nil {
		err = fmt.Errorf("%w: %s", err, strings.TrimSpace(said.String()))
	}
	return out, err
}

// units is the folder of the user's own units of systemd (systemd.unit(5)).
func (w World) units() string {
	if base := w.Env("XDG_CONFIG_HOME"); base != "" {
		return filepath.Join(base, "systemd/user")
	}
	if home := w.Env("HOME"); home != "" {
		return filepath.Join(home, ".config/systemd/user")
	}
	return ""
}

// systemctl runs that of the user's own systemd.
func systemctl(ctx context.Context, args ...string) ([]byte, error) {
	out, err := exec.CommandContext(ctx, "systemctl", args...).CombinedOutput()
	if errors.Is(err, exec.ErrNotFound) {
		return nil, fmt.Errorf("%w: %w", fs.ErrNotExist, err)
	}
	if err != nil {
		err = fmt.Errorf("%w: %s", err, strings.TrimSpace(string(out)))
	}
	return out, err
}

func (a *App) progress() func(job.Event) {
	p := screen.NewProgress(a.Streams, a.World.Now)
	return p.Show
}

// Catalogue is the kits at hand, and where the archives of apps are had from.
func (a *App) Catalogue(ctx context.Context) (*catalogue.Catalogue, *release.Archives, error) {
	all, err := a.Keeper().All(ctx)
	m := a.Machine()
	m.Progress = a.progress()
	return all, core.Archives(m, a.World.Now), err
}

// Keeper keeps the catalogues.
func (a *App) Keeper() *catalogues.Keeper {
	if a.Kits != nil {
		return a.Kits
	}
	a.Kits = &catalogues.Keeper{Home: a.World.Home(), BuiltIn: kits.Files, Client: a.Machine().Download, Now: a.World.Now,
		Known: core.Archives(a.Machine(), a.World.Now).Known}
	return a.Kits
}

// reach opens accounts with this machine's SSH agent, keys and known hosts.
func (w World) reach(h home.Home, v *vault.Vault) *reach.Reach {
	r := &reach.Reach{Vault: v, Hosts: w.Hosts(h), Certificates: w.Certificates(h), Agent: w.Env("SSH_AUTH_SOCK")}
	for _, name := range []string{"id_ed25519", "id_ecdsa", "id_rsa"} {
		r.Keys = append(r.Keys, filepath.Join(w.Env("HOME"), ".ssh", name))
	}
	return r
}

func (w World) Hosts(h home.Home) *ssh.Hosts {
	return &ssh.Hosts{Own: h.KnownHosts(), Others: []string{filepath.Join(w.Env("HOME"), ".ssh", "known_hosts"),
		"/etc/ssh/ssh_known_hosts"}}
}

func (w World) Certificates(h home.Home) *certificates.Known {
	return &certificates.Known{Own: h.KnownCertificates()}
}

// Operator is who works here, as owners read it: the name that was told, the full name of the
// login, or else the login and its machine.
func (w World) Operator() string {
	told, err := w.Home().Operator()
	if err != nil {
		told = "" // whoever it is, the command goes on
	}
	return cmp.Or(told, w.fullName(), Who())
}

func (w World) fullName() string {
	if w.FullName == nil {
		return ""
	}
	return w.FullName()
}

// fullName is that of the login, "" where it has none or only repeats the login.
func fullName() string {
	u, err := user.Current()
	if err != nil || strings.EqualFold(strings.TrimSpace(u.Name), u.Username) {
		return ""
	}
	return strings.TrimSpace(u.Name)
}

// Nameless says whether owners would read nothing but a login and a machine's name, and nobody
// was asked yet.
func (w World) Nameless() bool {
	told, err := w.Home().Operator()
	return err == nil && told == "" && w.fullName() == ""
}

// Who is the login and its machine.
func Who() string {
	name := "somebody"
	if u, err := user.Current(); err == nil {
		name = u.Username
	}
	host, err := os.Hostname()
	if err != nil {
		host = "an unnamed machine"
	}
	return fmt.Sprintf("%s on %s", name, host)
}

// Freshen asks for published catalogues, once a day at most.
func (a *App) Freshen(ctx context.Context) {
	for _, err := range a.Keeper().Freshen(ctx) {
		f := fault.Of(err)
		a.Streams.Warn(f.Error() + ". " + f.Remedy)
	}
}

// CanMail says whether a site's account has a mail server.
func CanMail(s *core.Core, x ledger.Site) bool {
	in, err := s.Book.Home.Account(x.Account)
	return err == nil && in.Mail != nil
}
