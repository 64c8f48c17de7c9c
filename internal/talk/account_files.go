package talk

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"tivset/internal/accounts"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/secret"
)

// files asks how the account's files are reached, until they are.
func (c *NewAccount) files(ctx context.Context) error {
	c.Ask.Heading("Files")
	c.account.Runtime = account.Runtime{}
	for {
		if err := c.reach(ctx); err != nil {
			return err
		}
		found, err := c.find(ctx)
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			c.Ask.Fault(err)
			continue
		}
		c.Ask.Good(c.account.Reach + " can be read")
		if c.account.Remote() == nil {
			return nil
		}
		switch {
		case found.Shell:
			c.Ask.Good("There is a shell; archives are unpacked there" + map[bool]string{true: "",
				false: " one file at a time, as there is no tar"}[found.Tar])
			c.account.Runtime = account.Runtime{PHP: found.PHP, Crontab: found.Crontab}
		default:
			c.Ask.Note("  There is no shell: files go up many at a time.")
		}
		if found.PHP != "" {
			c.Ask.Good("PHP for programs is " + found.PHP)
		}
		if found.Crontab != "" {
			c.Ask.Good("Timers can be set with " + found.Crontab)
		}
		return nil
	}
}

// line asks for the way to the account's files.
func (c *NewAccount) line(ctx context.Context) (account.Line, error) {
	var names, help []string
	for _, l := range account.Lines() {
		name := l.Scheme
		if l.OwnMachine {
			name = "here"
		}
		names, help = append(names, name), append(help, name+": "+l.Title+".")
	}
	how, err := c.one(ctx, "How are the account's files reached", account.SFTP.Scheme, strings.Join(help, " "), names...)
	if err != nil {
		return account.Line{}, err
	}
	return account.Lines()[slices.Index(names, how)], nil
}

// reach asks how the account's files are reached.
func (c *NewAccount) reach(ctx context.Context) error {
	line, err := c.line(ctx)
	if err != nil {
		return err
	}
	if line.OwnMachine {
		folder, err := c.text(ctx, "The account's folder", "",
			"From the root, such as /srv/quillmere. All domains' folders lie below it.")
		c.account.Reach, c.account.Login = "local:"+folder, nil
		return err
	}
	if !line.Encrypted {
		c.Ask.Warn("Over plain FTP everybody on the way can read the password and all that is sent. Try ftps first (< " +
			"goes back): many servers take it.")
	}
	host, err := c.text(ctx, "Server", "", "As the hosting's own pages name it, with :PORT where it is unusual.")
	if err != nil {
		return err
	}
	user, err := c.text(ctx, "User", "", "Who signs in there.")
	if err != nil {
		return err
	}
	c.account.Login = &account.Access{}
	if err := c.access(ctx, line); err != nil {
		return err
	}
	usual := "/"
	if line.Shell {
		usual = "/home/" + user
	}
	folder, err := c.text(ctx, "The account's folder there", usual,
		"All domains' folders lie below it. Over FTP it is written as the server shows it, often just /.")
	if line.Shell || folder == "/" {
		folder = strings.TrimPrefix(folder, "/")
	} // else what begins with a slash begins at the FTP server's root, and stands after a second one
	c.account.Reach = fmt.Sprintf("%s://%s@%s/%s", line.Scheme, user, host, folder)
	return err
}

// access asks with what to sign in.
func (c *NewAccount) access(ctx context.Context, line account.Line) error {
	prompt := Prompt{Text: "Password", Unseen: true, Help: "It is kept in the vault, encrypted."}
	if line.Keys {
		prompt.Text, prompt.Help = "Password, or nothing for a key",
			"With nothing, an SSH agent's keys are tried, and the usual key files; or name one next. It is kept in the "+
				"vault, encrypted."
	}
	password, err := c.question(ctx, prompt)
	if err != nil || password != "" {
		c.account.Login.Password = "plain:" + password
		return err
	}
	c.account.Login.Password = ""
	if !line.Keys {
		c.Ask.Refuse("FTP needs a password", "")
		return c.access(ctx, line)
	}
	key, err := c.question(ctx, Prompt{Text: "Key file (may stay empty)",
		Help: "A private key on this machine, such as ~/.ssh/id_ed25519. Without one the agent and the " +
			"usual files are tried.",
		Check: func(name string) (string, string) {
			if name == "" {
				return "", ""
			}
			if _, err := os.Stat(c.home(name)); err != nil {
				return "the key cannot be read", "Correct its name."
			}
			return "", ""
		}})
	if key == "" {
		c.account.Login = nil
		return err
	}
	c.account.Login.Key = c.home(key)
	return err
}

// home writes a name with ~ in full.
func (c *NewAccount) home(name string) string {
	if rest, ok := strings.CutPrefix(name, "~/"); ok {
		return filepath.Join(c.Env("HOME"), rest)
	}
	return name
}

// find looks at the account's files; a server that nobody has seen yet is shown
// first.
func (c *NewAccount) find(ctx context.Context) (accounts.Found, error) {
	draft, err := c.draft()
	if err != nil {
		return accounts.Found{}, err
	}
	found, err := c.Accounts.Find(ctx, draft)
	var f *fault.Error
	if !errors.As(err, &f) || f.Kind != fault.Decision {
		return found, err
	}
	what, trust, trustErr := c.Truster(ctx, draft)
	if trustErr != nil {
		return found, err
	}
	shown, trustErr := trust("")
	if trustErr != nil {
		return found, trustErr
	}
	c.Ask.Warn(f.What)
	c.Ask.Note("  " + draft.Remote().Address + " shows the " + what + " " + shown)
	if !c.Ask.Confirm(ctx, "Is that the one that the host publishes?") {
		return found, fault.New(fault.Decision, "the server's "+what+" was not accepted", draft.Remote().Address,
			"Ask the host for the right one, then answer again.")
	}
	if _, err := trust(shown); err != nil {
		return found, err
	}
	return c.Accounts.Find(ctx, draft)
}

// drafted marks what the vault holds for the time of a conversation.
const drafted = ".draft/"

// draft is the account as it is so far, with its password in the vault under a
// name of its own: one that is kept already stays until the end.
func (c *NewAccount) draft() (*account.Account, error) {
	x := *c.account
	if x.Login != nil {
		login := *x.Login
		if password, ok := strings.CutPrefix(login.Password, "plain:"); ok {
			entry := x.Name + drafted + "login"
			if err := c.Book.Vault.Set(map[string]secret.Text{entry: secret.Of(password)}); err != nil {
				return nil, err
			}
			login.Password = "vault:" + entry
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
