package command

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

	"tivset/internal/app/catalogue"
	"tivset/internal/app/release"
	"tivset/internal/core"
	"tivset/internal/hosting"
	"tivset/internal/hosting/files/ftp"
	"tivset/internal/hosting/reach"
	"tivset/internal/hosting/ssh"
	"tivset/internal/mail"
	"tivset/internal/records/catalogues"
	"tivset/internal/records/home"
	"tivset/internal/records/job"
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
	Now      func() time.Time

	order  int64      // the number of the order that is carried out; 0 for a command that was typed
	behalf string     // who asked for it
	team   *team.Team // the team's database, where it is open already; orders of a worker share it
}

// System is the real world.
func System() World {
	return World{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Env: os.Getenv, Now: time.Now}
}

func terminal(v any) (*os.File, bool) {
	f, ok := v.(*os.File)
	return f, ok && term.IsTerminal(int(f.Fd()))
}

func (w World) streams() *screen.Streams {
	s := &screen.Streams{In: w.In, Out: screen.Spelling(w.Out), Err: screen.Spelling(w.Err), Width: 80,
		Dumb: w.Env("TERM") == "dumb"}
	_, s.InTerminal = terminal(w.In)
	_, s.OutTerminal = terminal(w.Out)
	f, errTerminal := terminal(w.Err)
	s.ErrTerminal = errTerminal
	if errTerminal {
		s.Terminal = f
		if width, _, err := term.GetSize(int(f.Fd())); err == nil && width > 0 {
			s.Width = width
		}
	}
	s.Color = s.ErrTerminal && s.OutTerminal && w.Env("NO_COLOR") == "" && !s.Dumb
	return s
}

// home says where Tivset keeps its own files.
func (w World) home() home.Home {
	if folder := w.Env("TIVSET_HOME"); folder != "" {
		return home.At(folder)
	}
	return home.Usual()
}

// core puts the rooms together in this machine's world. Close lets go of the
// ledger.
func (a *app) core(ctx context.Context) (c *core.Core, close func(), err error) {
	kits, _, err := a.catalogue(ctx)
	if err != nil {
		return nil, nil, err
	}
	p, as, done, err := a.records(ctx)
	if err != nil {
		return nil, nil, err
	}
	opens := a.world.reach(p.Home, p.Vault)
	w := a.machine()
	w.Home, w.Catalogue, w.Ledger, w.Vault, w.Journals, w.Progress = p.Home, kits, p.Ledger, p.Vault, p.Journals,
		a.progress()
	if as != "" {
		w.Who = cmp.Or(a.world.behalf, as)
	}
	w.Order = a.world.order
	w.Forget, w.OpenFiles, w.OpenServer, w.OpenSession = opens.Forget, opens.Files, opens.Server, opens.Session
	c = core.In(w)
	c.Desk.Plans = a.ordering != nil // whatever the command goes on to do
	return c, done, nil
}

// machine is what this machine gives to the core: all but what has to be opened.
func (a *app) machine() core.World {
	return core.World{
		Home: a.world.home(), Now: a.world.Now, Who: who(),
		Settle:    hosting.UsualSettle,
		Patience:  work.UsualPatience,
		Download:  http.DefaultClient,
		Apt:       os.DirFS("/etc/apt"),
		Keyring:   "/usr/share/keyrings/debian-archive-keyring.gpg",
		SendMail:  sendMail,
		Certified: hosting.Certified,
		TakesMail: mail.Takes,
		Crontab:   crontab,
	}
}

// sendMail sends a mail of the core, with the calls in it spelled.
func sendMail(ctx context.Context, server string, m mail.Message) error {
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

func (a *app) progress() func(job.Event) {
	p := screen.NewProgress(a.streams, a.world.Now)
	return p.Show
}

// catalogue is the kits at hand, and where the archives of apps are had from.
func (a *app) catalogue(ctx context.Context) (*catalogue.Catalogue, *release.Archives, error) {
	all, err := a.keeper().All(ctx)
	m := a.machine()
	m.Progress = a.progress()
	return all, core.Archives(m, a.world.Now), err
}

// keeper keeps the catalogues.
func (a *app) keeper() *catalogues.Keeper {
	if a.kits != nil {
		return a.kits
	}
	a.kits = &catalogues.Keeper{Home: a.world.home(), BuiltIn: kits.Files, Client: a.machine().Download, Now: a.world.Now,
		Known: core.Archives(a.machine(), a.world.Now).Known}
	return a.kits
}

// reach opens accounts with this machine's SSH agent, keys and known hosts.
func (w World) reach(h home.Home, v *vault.Vault) *reach.Reach {
	r := &reach.Reach{Vault: v, Hosts: w.hosts(h), Certificates: w.certificates(h), Agent: w.Env("SSH_AUTH_SOCK")}
	for _, name := range []string{"id_ed25519", "id_ecdsa", "id_rsa"} {
		r.Keys = append(r.Keys, filepath.Join(w.Env("HOME"), ".ssh", name))
	}
	return r
}

func (w World) hosts(h home.Home) *ssh.Hosts {
	return &ssh.Hosts{Own: h.KnownHosts(), Others: []string{filepath.Join(w.Env("HOME"), ".ssh", "known_hosts"),
		"/etc/ssh/ssh_known_hosts"}}
}

func (w World) certificates(h home.Home) *ftp.Certificates {
	return &ftp.Certificates{Own: h.KnownCertificates()}
}

func who() string {
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
