package talk

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"tivset/internal/hosting/account"

	"tivset/internal/accounts"
	"tivset/internal/fault"
	"tivset/internal/hosting/database"
	"tivset/internal/secret"
	"tivset/internal/site"
)

// NewAccount is the conversation in which an account comes together.
type NewAccount struct {
	Ask      Asker
	Book     *site.Book
	Accounts *accounts.Keeper
	Env      func(string) string // the environment's variables
	Truster  Truster

	account *account.Account
	asked   int // questions answered
}

// Truster says what an account's server shows for itself ("key" or
// "certificate"), and gives the function that keeps it: with "" that only tells
// what is shown.
type Truster func(ctx context.Context, x *account.Account) (what string,
	trust func(print string) (shown string, err error), err error)

// Run asks for an account of a name, finds out what it can, and keeps it.
func (c *NewAccount) Run(ctx context.Context, name string, replace bool) error {
	names, err := c.Book.Home.Accounts()
	if err != nil {
		return err
	}
	if slices.Contains(names, name) && !replace {
		return fault.New(fault.Decision, "an account of this name is kept already", name,
			"Add --replace to describe it anew.")
	}
	defer func() { _ = c.Book.Vault.Forget(name + drafted) }()
	c.account = &account.Account{Name: name, Store: account.DefaultStore}
	parts := []func(context.Context) error{c.files, c.domains, c.databases, c.keep}
	for at := 0; at < len(parts); {
		asked := c.asked
		switch err := parts[at](ctx); {
		case errors.Is(err, ErrBack):
			if c.asked == asked { // at its first question
				at = max(0, at-1)
			}
		case err != nil:
			return endedTalk(err)
		default:
			at++
		}
	}
	return nil
}

// question asks one, and counts those answered: “<” goes to the beginning of a
// part, and from there to the part before.
func (c *NewAccount) question(ctx context.Context, p Prompt) (string, error) {
	answer, err := c.Ask.Ask(ctx, p)
	if err == nil {
		c.asked++
	}
	return answer, err
}

// endedTalk words a conversation that was left.
func endedTalk(err error) error {
	if errors.Is(err, ErrNoAnswer) || errors.Is(err, context.Canceled) {
		return fault.New(fault.Decision, "nothing is kept", "", "Begin again when you are ready.")
	}
	return err
}

// one asks for one of some words.
func (c *NewAccount) one(ctx context.Context, text, fallback, help string, options ...string) (string, error) {
	return c.question(ctx, Prompt{Text: text + " (" + strings.Join(options, ", ") + ")", Fallback: fallback, Help: help,
		Check: func(value string) (string, string) {
			if !slices.Contains(options, value) {
				return fmt.Sprintf("%q cannot be chosen", value), "Choose one of: " + strings.Join(options, ", ") + "."
			}
			return "", ""
		}})
}

// text asks for something that is needed, unless it has a fallback.
func (c *NewAccount) text(ctx context.Context, text, fallback, help string) (string, error) {
	return c.question(ctx, Prompt{Text: text, Fallback: fallback, Help: help, Check: func(value string) (string, string) {
		if strings.TrimSpace(value) == "" {
			return "this needs an answer", ""
		}
		return "", ""
	}})
}

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
	c.account.Reach = fmt.Sprintf("%s://%s@%s/%s", line.Scheme, user, host, strings.TrimPrefix(folder, "/"))
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

var domainWord = regexp.MustCompile(`^[a-z0-9]([a-z0-9.-]*[a-z0-9])?$`)

// domains asks for domains until there is no other.
func (c *NewAccount) domains(ctx context.Context) error {
	c.Ask.Heading("Domains")
	c.account.Domains = nil
	found, err := c.find(ctx)
	if err != nil {
		return err
	}
	for {
		text := "Another domain (may stay empty)"
		if len(c.account.Domains) == 0 {
			text = "A domain of the account"
		}
		name, err := c.question(ctx, Prompt{Text: text,
			Help: "Such as quillmere.example or shop.quillmere.example, without http://. Sites are installed into domains.",
			Check: func(value string) (string, string) {
				switch {
				case value == "" && len(c.account.Domains) > 0:
				case !domainWord.MatchString(strings.ToLower(value)):
					return fmt.Sprintf("%q is not a domain", value), "Write the name alone."
				}
				return "", ""
			}})
		if err != nil {
			return err
		}
		if name == "" {
			return nil
		}
		if err := c.domain(ctx, strings.ToLower(name), found.Folders); err != nil {
			return err
		}
	}
}

// domain asks for a domain's folder, and sees that both belong together.
func (c *NewAccount) domain(ctx context.Context, name string, folders []string) error {
	d := account.Domain{Name: name, Primary: len(c.account.Domains) == 0}
	proposal := ""
	for _, f := range folders {
		if proposal == "" || strings.Contains(f, name) || strings.Contains(f, strings.Split(name, ".")[0]) &&
			!strings.Contains(proposal, name) {
			proposal = f
		}
	}
	if len(folders) > 1 {
		c.Ask.Explain("Folders that a domain may serve: " + strings.Join(folders[:min(len(folders), 12)], ", ") + ".")
	}
	for {
		folder, err := c.text(ctx, "Its folder", proposal, "The document root, from the account's top.")
		if err != nil {
			return err
		}
		d.Folder = strings.Trim(folder, "/")
		draft, err := c.draft()
		if err != nil {
			return err
		}
		web, err := c.Accounts.FindWeb(ctx, draft, d)
		if web.URL != "" && d.URL == "" {
			d.URL = web.URL
		}
		if err == nil {
			c.Ask.Good(web.URL + " leads there")
			if web.PHP != "" {
				c.Ask.Good("PHP " + web.PHP + " runs there")
			}
			if !c.account.Line().Rooted && web.Folder != "" {
				c.account.Runtime.Folder = web.Folder
				c.Ask.Good("PHP sees the account as " + web.Folder)
			}
			c.account.Domains = append(c.account.Domains, d)
			return nil
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		f := fault.Of(err)
		c.Ask.Refuse(f.What, f.Remedy)
		if web.URL == "" {
			if d, err = c.elsewhere(ctx, d); err != nil {
				return err
			}
			continue
		}
		if c.Ask.Confirm(ctx, "Keep it all the same, as it will work later?") {
			c.account.Domains = append(c.account.Domains, d)
			return nil
		}
		proposal = d.Folder
	}
}

// elsewhere asks where a domain answers that does not resolve yet.
func (c *NewAccount) elsewhere(ctx context.Context, d account.Domain) (account.Domain, error) {
	url, err := c.text(ctx, "Its address", "http://"+d.Name, "With https:// or http://, and the port where it is unusual.")
	if err != nil {
		return d, err
	}
	d.URL = strings.TrimSuffix(url, "/")
	d.Connect, err = c.question(ctx,
		Prompt{Text: "Where it is reached until its name resolves (host:port, may stay empty)",
			Help: "The web server's own address, for a domain that does not lead here yet."})
	return d, err
}

// databases asks for a database server, and what its user may do.
func (c *NewAccount) databases(ctx context.Context) error {
	c.Ask.Heading("Databases")
	c.account.Databases = nil
	name, err := c.one(ctx, "Which database server is there", database.MariaDB.Name,
		"mariadb is for MySQL too. sqlite keeps databases in files of the account. none: for apps without one.",
		append(database.EngineNames(), "none")...)
	if err != nil || name == "none" {
		return err
	}
	engine, _ := database.EngineOf(name)
	d := account.Database{Name: "main", Engine: name}
	if engine.InFiles {
		d.Server, err = c.text(ctx, "Folder for database files", "data",
			"From the account's top, outside of every domain's folder.")
		c.account.Databases = append(c.account.Databases, d)
		return err
	}
	for {
		if err := c.server(ctx, &d); err != nil {
			return err
		}
		if d.Admin == nil {
			break
		}
		password := strings.TrimPrefix(d.Admin.Password, "plain:")
		draft, err := c.draft()
		if err != nil {
			return err
		}
		_, version, err := c.Accounts.TryServer(ctx, draft, d, database.Login{Server: d.Server, User: d.Admin.User,
			Password: secret.Of(password)})
		if err == nil {
			c.Ask.Good(engine.Title + " " + version + " answers; databases and users can be made")
			break
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		f := fault.Of(err)
		c.Ask.Refuse(f.What, f.Remedy)
		if c.Ask.Confirm(ctx, "Make databases by hand in the hosting's own pages instead?") {
			d.Admin, d.Make = nil, account.ByHand
			break
		}
	}
	d.Prefix, err = c.question(ctx, Prompt{Text: "Names there begin with (may stay empty)",
		Help: "Many hosts make names of databases and users begin with the account's, such as quill_."})
	c.account.Databases = append(c.account.Databases, d)
	return err
}

// server asks for a database server's address and user. Through SSH it is the
// address as the account's own machine sees it.
func (c *NewAccount) server(ctx context.Context, d *account.Database) error {
	engine, _ := database.EngineOf(d.Engine)
	port := engine.Port
	fallback, tunnelled := "127.0.0.1:"+port, false
	line := c.account.Line()
	if line.Shell {
		fallback, tunnelled = "tunnel:localhost:"+port, true
	} else if !line.OwnMachine {
		fallback = "courier:localhost:" + port
	}
	help := "host:port as seen from here."
	if tunnelled {
		help += " With tunnel: before it, as the account's own machine sees it, through SSH."
	}
	help += " With courier: before it, a server that only the sites can reach; databases are made by hand then."
	server, err := c.question(ctx, Prompt{Text: "The server", Fallback: fallback, Help: help, Check: account.WrongServer})
	if err != nil {
		return err
	}
	d.Server, d.Admin, d.Make = server, nil, account.ByHand
	if strings.HasPrefix(server, account.Courier) {
		c.Ask.Note("  Only the sites can reach it: you make databases in the hosting's own pages, and Tivset says which.")
		return nil
	}
	user, err := c.question(ctx, Prompt{Text: "A user who may create databases (may stay empty)",
		Help: "Without one, databases are made by hand in the hosting's own pages; Tivset says what, and tries it."})
	if err != nil || user == "" {
		return err
	}
	password, err := c.question(ctx, Prompt{Text: "Password", Unseen: true, Help: "It is kept in the vault, encrypted."})
	d.Admin, d.Make = &account.Login{User: user, Password: "plain:" + password}, ""
	return err
}

// keep shows what came together, and keeps it.
func (c *NewAccount) keep(ctx context.Context) error {
	shown := *c.account
	shown.Login = nil
	shown.Databases = nil
	for _, d := range c.account.Databases {
		if d.Admin != nil {
			d.Admin = &account.Login{User: d.Admin.User}
		}
		shown.Databases = append(shown.Databases, d)
	}
	text, err := shown.Format()
	if err != nil {
		return err
	}
	c.Ask.Heading("The account")
	for _, line := range strings.Split(strings.TrimSpace(string(text)), "\n") {
		c.Ask.Note("  " + line)
	}
	if !c.Ask.Confirm(ctx, "Keep it?") {
		return fault.New(fault.Decision, "nothing is kept", c.account.Name,
			"Begin again, or write the account's file: docs/hosting.md")
	}
	whole, err := c.account.Format()
	if err != nil {
		return err
	}
	if _, err := c.Accounts.Add(c.account.Name, whole, true, c.Env); err != nil {
		return err
	}
	return nil
}
