package wizard

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"tivset/internal/accounts"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/hostmail"
	"tivset/internal/hosting/ssh"
	"tivset/internal/secret"
)

// files asks for what is not known of how the account's files are reached, until they are.
func (c *NewAccount) files(ctx context.Context) error {
	c.Ask.Heading("Files")
	c.fromLetter()
	for {
		if err := c.missing(ctx); err != nil {
			return err
		}
		found, err := c.reach(ctx)
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err == nil:
			c.account.Runtime = account.Runtime{PHP: found.PHP, Crontab: found.Crontab}
			return nil
		case refused(err): // one thing is asked again, and not all of them
			f := fault.Of(err)
			c.Ask.Refuse(f.What, "Type the password again; < goes back to the server.")
			c.password, c.keyed, c.key, c.opens = "", false, "", ""
		default:
			c.Ask.Fault(err)
			c.server, c.Letter.Servers = "", nil
		}
	}
}

// fromLetter takes what the host's mail says, once.
func (c *NewAccount) fromLetter() {
	l := c.Letter
	if c.server != "" {
		return
	}
	c.user, c.password = cmp.Or(c.user, l.User), cmp.Or(c.password, l.Password)
	if len(l.Servers) == 0 {
		return
	}
	c.server = l.Best().Host
	if len(l.Servers) > 1 {
		var names []string
		for _, s := range l.Servers {
			names = append(names, s.Host)
		}
		slices.Sort(names)
		if names = slices.Compact(names); len(names) > 1 {
			c.Ask.Note("  The mail names several servers, which are tried in turn: " + strings.Join(names, ", "))
		}
	}
}

// missing asks for server, user and password, as far as they are not known.
func (c *NewAccount) missing(ctx context.Context) error {
	if c.server == "" {
		if err := c.askServer(ctx); err != nil {
			return err
		}
	}
	if c.local() {
		return nil
	}
	var err error
	if c.user == "" {
		if c.user, err = c.text(ctx, "User", "", "Who signs in there, as the host says."); err != nil {
			return c.back(err, &c.server)
		}
	}
	if c.password == "" && !c.keyed {
		if err := c.askPassword(ctx); err != nil {
			return c.back(err, &c.user)
		}
	}
	return nil
}

// back forgets an answer that is gone back to.
func (c *NewAccount) back(err error, to *string) error {
	if errors.Is(err, ErrBack) {
		*to = ""
		c.Letter.Servers = nil
		c.asked++ // it is this part that is asked again
	}
	return err
}

// local says whether the files are on this machine: a path was typed.
func (c *NewAccount) local() bool { return strings.HasPrefix(c.server, "/") }

// askServer takes the host's mail, a server, or a folder of this machine.
func (c *NewAccount) askServer(ctx context.Context) error {
	text := "The host's mail, or its server"
	answer, err := c.question(ctx, Prompt{Text: text, Check: needed, Pasted: true,
		Help: "Paste the mail with which the host sent you names and passwords, or type the server's name as it stands " +
			"there, such as ftp.example.org. On the account's own machine: its folder, from the root."})
	if err != nil {
		return err
	}
	if strings.Contains(answer, "\n") {
		read := hostmail.Read([]byte(answer))
		if len(read.Facts) == 0 {
			c.Ask.Refuse("nothing of an account can be found in that", "Type the server's name.")
			return c.askServer(ctx)
		}
		c.Letter, c.hosted = read, true
		c.Told()
		c.server = ""
		if c.fromLetter(); c.server == "" {
			c.Ask.Refuse("no server of files can be found in that", "Type the server's name; the rest is kept.")
			return c.askServer(ctx)
		}
		return nil
	}
	c.server, c.Letter.Servers = strings.TrimSpace(answer), nil
	if scheme, rest, is := strings.Cut(c.server, "://"); is {
		c.server = strings.Trim(rest, "/")
		c.Letter.Servers = []hostmail.Server{{Scheme: scheme, Host: c.server}}
		if host, port, err := net.SplitHostPort(c.server); err == nil {
			c.Letter.Servers[0].Host, c.Letter.Servers[0].Port = host, port
		}
	}
	return nil
}

// Told says what was understood of a mail, without its passwords, and in which of its lines.
func (c *NewAccount) Told() {
	c.Ask.Heading("The host's mail says")
	c.Ask.Facts(c.Letter.ByLine())
}

// askPassword asks for a password, or for a key.
func (c *NewAccount) askPassword(ctx context.Context) error {
	password, err := c.question(ctx, Prompt{Text: "Password, or nothing for a key of SSH", Unseen: true,
		Help: "It is kept in the vault, encrypted. With nothing, the file of a key is asked for."})
	if c.password = password; err != nil || password != "" {
		return err
	}
	if err := c.askKey(ctx); err != nil {
		return err
	}
	c.keyed = true
	return nil
}

// askKey asks for the file of a private key, and for what opens it.
func (c *NewAccount) askKey(ctx context.Context) error {
	var locked bool
	name, err := c.question(ctx, Prompt{Text: "File of the key, or nothing for those of an SSH agent and the usual ones",
		Help: "The private key's file on this machine, such as ~/.ssh/id_ed25519; its other half is at the host, put " +
			"there in the control panel or by its support. The file stays where it is, and is read each time.",
		Check: func(name string) (what, remedy string) {
			if name == "" {
				return "", ""
			}
			var err error
			if _, locked, err = c.readKey(name); err != nil {
				f := fault.Of(err)
				return f.What, f.Remedy
			}
			return "", ""
		}})
	if err != nil || name == "" {
		c.key = ""
		return err
	}
	if c.key, _, err = c.readKey(name); err != nil || !locked {
		return err
	}
	c.opens, err = c.question(ctx, Prompt{Text: "Passphrase of the key", Unseen: true, Check: needed,
		Help: "It is kept in the vault, encrypted."})
	return err
}

// readKey reads the file of a key: it gives its whole name, and whether it has a passphrase.
func (c *NewAccount) readKey(name string) (full string, locked bool, err error) {
	if rest, home := strings.CutPrefix(name, "~/"); home {
		name = filepath.Join(c.Env("HOME"), rest)
	}
	if full, err = filepath.Abs(name); err != nil {
		return "", false, err
	}
	text, err := os.ReadFile(full)
	if err != nil {
		return "", false, fault.New(fault.Usage, "the file cannot be read", full,
			"Name the private key's file, such as ~/.ssh/id_ed25519.").Wrap(err)
	}
	if locked, err = ssh.Locked(text); err != nil {
		return "", false, fault.New(fault.Usage, "the file is no private key of SSH", full,
			"Name the file without .pub; a key of PuTTY has to be exported as an OpenSSH key first.")
	}
	return full, locked, nil
}

// signsIn words how one signs in.
func (c *NewAccount) signsIn() string {
	switch {
	case c.key != "":
		return "signs in with the key " + c.key
	case c.keyed:
		return "signs in with a key"
	}
	return "password given"
}

// refused says whether a server refused who signs in.
func refused(err error) bool {
	return fault.CodeOf(err) == fault.SignInRefused
}

// attempt is a way to the files that is tried.
type attempt struct {
	line account.Line
	at   string // host or host:port
}

// attempts are the ways to try, the best first. A port that is named counts for all but
// those that it cannot be.
func (c *NewAccount) attempts() []attempt {
	servers := c.Letter.Servers
	if len(servers) == 0 {
		host, port, err := net.SplitHostPort(c.server)
		if err != nil {
			host, port = c.server, ""
		}
		servers = []hostmail.Server{{Host: host, Port: port}}
	}
	var out []attempt
	for _, l := range account.Lines() {
		for _, s := range servers {
			if l.OwnMachine || s.Scheme == "ftps" && l == account.FTP {
				continue
			}
			at := s.Host
			otherKind := s.Scheme != "" && (s.Scheme == "sftp") != l.Shell
			usual := map[string]bool{"22": true, "21": true}[s.Port] && s.Port != l.Port
			if s.Port != "" && !otherKind && !usual {
				at = net.JoinHostPort(s.Host, s.Port)
			}
			if one := (attempt{l, at}); !slices.Contains(out, one) {
				out = append(out, one)
			}
		}
	}
	return out
}

// reach tries the ways to the files until one works.
func (c *NewAccount) reach(ctx context.Context) (accounts.Found, error) {
	if c.local() {
		c.account.Reach, c.account.Login = "local:"+filepath.Clean(c.server), nil
		found, err := c.find(ctx)
		if err == nil {
			c.Ask.Good(c.server + " can be read")
		}
		return found, err
	}
	var worst error
	for _, a := range c.attempts() {
		if c.keyed && !a.line.Keys || !a.line.Encrypted && refused(worst) {
			continue // a password that was refused is not sent again for everybody to read
		}
		if err := a.line.Answers(ctx, a.at); err != nil {
			if worst == nil {
				worst = err
			}
			continue
		}
		found, err := c.try(ctx, a)
		if err == nil {
			c.server = a.at
			c.Ask.Good("Signed in as " + c.user + " at " + a.at + ", over " + a.line.Title)
			return found, nil
		}
		if ctx.Err() != nil || errors.Is(err, errNotTrusted) {
			return found, err
		}
		if worst == nil || refused(err) {
			worst = err
		}
	}
	return accounts.Found{}, worst
}

// try tries one way, and finds the folder in which one is after signing in.
func (c *NewAccount) try(ctx context.Context, a attempt) (accounts.Found, error) {
	c.account.Login = nil
	if c.password != "" {
		c.account.Login = &account.Access{Password: "plain:" + c.password}
	}
	if c.keyed && c.key != "" {
		c.account.Login = &account.Access{Key: c.key}
		if c.opens != "" {
			c.account.Login.Passphrase = "plain:" + c.opens
		}
	}
	if !a.line.Encrypted {
		c.Ask.Warn("Only plain FTP is left: everybody on the way can read the password and all that is sent")
		if !c.Ask.Confirm(ctx, "Use it anyway?") {
			return accounts.Found{}, fault.New(fault.NeedsConfirmation, "the server has no encrypted way to the files", a.at,
				"Ask the host for SFTP or FTPS.")
		}
	}
	c.account.Reach = fmt.Sprintf("%s://%s@%s/", a.line.Scheme, c.user, a.at)
	if a.line.Shell {
		top := c.account.Reach
		c.account.Reach += strings.TrimPrefix(account.LoginFolder, "/")
		if err := c.trusted(ctx, func(x *account.Account) error {
			folder, err := c.Accounts.LoginFolder(ctx, x)
			c.account.Reach = top + strings.TrimPrefix(path.Clean("/"+folder), "/")
			return err
		}); err != nil {
			return accounts.Found{}, err
		}
	}
	return c.find(ctx)
}

// errNotTrusted is the cause where a server's key was not accepted.
var errNotTrusted = errors.New("not accepted")

// find looks at the account's files.
func (c *NewAccount) find(ctx context.Context) (found accounts.Found, err error) {
	err = c.trusted(ctx, func(x *account.Account) error {
		found, err = c.Accounts.Find(ctx, x)
		return err
	})
	return found, err
}

// trusted does something with the account as it is so far; a server that nobody has seen
// yet is shown first.
func (c *NewAccount) trusted(ctx context.Context, do func(*account.Account) error) error {
	draft, err := c.draft()
	if err != nil {
		return err
	}
	return c.accepting(ctx, draft, nil, func() error { return do(draft) })
}

// accepting does something with a server of an account, or with a database server of it; what one shows that nobody has
// seen yet is asked about first.
func (c *NewAccount) accepting(ctx context.Context, draft *account.Account, d *account.Database,
	do func() error,
) error {
	err := do()
	var f *fault.Error
	if !errors.As(err, &f) || f.Kind != fault.NeedsConfirmation || f.Code != fault.UnknownServer {
		return err
	}
	server, trustErr := c.Truster(ctx, draft, d)
	if trustErr != nil {
		return err
	}
	shown, trustErr := server.Trust("")
	if trustErr != nil {
		return trustErr
	}
	c.Ask.Warn(f.What)
	c.Ask.Note("  " + server.At + " shows the " + server.What + " " + shown)
	if !c.Ask.Sure(ctx, "Is that the one that the host publishes?", aboutKeys) {
		return fault.New(fault.NeedsConfirmation, "the server's "+server.What+" was not accepted", server.At,
			"Ask the host for the right one, then answer again.").Wrap(errNotTrusted)
	}
	if _, err := server.Trust(shown); err != nil {
		return err
	}
	return do()
}

// aboutKeys explains what is asked of a server that is new.
const aboutKeys = "By its key, or its certificate, a server proves that it is itself, and not somebody on the way " +
	"to it who would read along. Hosts publish it as a fingerprint: in the mail with which they sent your account, " +
	"in the control panel near SFTP or SSH, or on their help pages; their support tells it too. Compare the first " +
	"and the last six characters at least. If your host publishes none and you are where you trust the network, " +
	"such as at home, y is reasonable: it is kept, and from then on everything stops if the server ever shows " +
	"another one."

// drafted marks what the vault holds for the time of a conversation.
const drafted = ".draft/"

// draft is the account as it is so far, with its password in the vault under a
// name of its own: one that is kept already stays until the end.
func (c *NewAccount) draft() (*account.Account, error) {
	x := *c.account
	if x.Login != nil {
		login := *x.Login
		for name, of := range map[string]*string{"login": &login.Password, "passphrase": &login.Passphrase} {
			plain, ok := strings.CutPrefix(*of, "plain:")
			if !ok {
				continue
			}
			entry := x.Name + drafted + name
			if err := c.Book.Vault.Set(map[string]secret.Text{entry: secret.Of(plain)}); err != nil {
				return nil, err
			}
			*of = "vault:" + entry
		}
		x.Login = &login
	}
	c.Accounts.Let(x.Name)
	_, err := x.Top()
	if err != nil {
		return nil, fault.New(fault.Usage, err.Error(), "", "Answer again.")
	}
	return &x, nil
}
