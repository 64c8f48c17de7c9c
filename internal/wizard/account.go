package wizard

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"tivset/internal/accounts"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/hostmail"
	"tivset/internal/site"
)

// NewAccount is the conversation in which an account comes together: of the mail that the
// host sent, as far as it says something, and of questions for the rest. How the files are
// reached, and which folder a domain shows, is found out.
type NewAccount struct {
	Ask      Asker
	Book     *site.Book
	Accounts *accounts.Keeper
	Env      func(string) string // the environment's variables
	Truster  Truster
	Letter   hostmail.Letter // what the host's mail says, if there is one

	account  *account.Account
	server   string // host, host:port, or a folder here
	user     string
	password string
	keyed    bool   // signing in goes by a key
	key      string // its file, "" for those of an agent and the usual ones
	opens    string // the key's passphrase
	mailed   bool   // the mail server was asked for
	hosted   bool   // the host's mail tells of the account
	begun    bool   // it is gone on with
	asked    int    // questions answered
}

// Truster says what an account's server shows for itself, or one of its database servers where one is given.
type Truster func(ctx context.Context, x *account.Account, d *account.Database) (Shown, error)

// Shown is what a server shows for itself.
type Shown struct {
	What string // "key" or "certificate"
	At   string // the server's address

	// Trust keeps it; with "" it only tells the fingerprint that is shown.
	Trust func(print string) (shown string, err error)
}

// Run asks for an account of a name, finds out what it can, and keeps it. An empty name is asked
// for; one that is no account's is put right. What was answered is kept when it is left. It gives the name.
func (c *NewAccount) Run(ctx context.Context, name string, replace bool) (called string, err error) {
	c.hosted = c.hosted || len(c.Letter.Facts) > 0 && !c.begun
	name, err = c.name(ctx, name, replace)
	if err != nil {
		return "", err
	}
	defer func() { _ = c.Book.Vault.Forget(name + drafted) }()
	c.account = &account.Account{Name: name, Store: account.DefaultStore}
	parts := []func(context.Context) error{c.files, c.domains, c.databases, c.mail, c.keep}
	for at := 0; at < len(parts); {
		asked := c.asked
		switch err := parts[at](ctx); {
		case errors.Is(err, ErrBack):
			if c.asked == asked { // at its first question
				at = max(0, at-1)
			}
		case err != nil:
			return "", c.endedTalk(err)
		default:
			at++
		}
	}
	return name, c.Book.Home.DropBegunAccount()
}

// name is what the account is called: as it was given, put right, or asked for.
func (c *NewAccount) name(ctx context.Context, given string, replace bool) (string, error) {
	names, err := c.Book.Home.Accounts()
	if err != nil {
		return "", err
	}
	name := account.NameOf(given)
	if name == "" {
		asked, err := c.Ask.Ask(ctx, Prompt{Text: "Name of the account", Fallback: c.proposed(names),
			Help: "What you call it here, such as boatclub. It is not the name with which you sign in at the host.",
			Check: func(value string) (string, string) {
				switch name := account.NameOf(value); {
				case name == "":
					return "nothing of that can be a name", "Use letters and digits, such as boatclub."
				case slices.Contains(names, name) && !replace:
					return "there is an account " + name + " already", "Choose another name."
				}
				return "", ""
			}})
		if err != nil {
			return "", c.endedTalk(err)
		}
		given, name = asked, account.NameOf(asked)
	}
	if name != given {
		c.Ask.Note("  The account is called " + name + ".")
	}
	if slices.Contains(names, name) && !replace {
		return "", fault.New(fault.NeedsConfirmation, "an account of this name is kept already", name,
			"Add --replace to describe it anew, or choose another name.")
	}
	return name, nil
}

// proposed is a name that is free: of the first domain, or of who signs in.
func (c *NewAccount) proposed(taken []string) string {
	from := c.Letter.User
	if len(c.Letter.Domains) > 0 {
		from, _, _ = strings.Cut(strings.TrimPrefix(c.Letter.Domains[0].Name, "www."), ".")
	}
	name := cmp.Or(account.NameOf(from), "main")
	for n := 2; slices.Contains(taken, name); n++ {
		name = fmt.Sprintf("%s-%d", strings.TrimRight(name, "-0123456789"), n)
	}
	return name
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

// endedTalk words a conversation that was left, or that something else has ended: nothing that was
// answered is lost.
func (c *NewAccount) endedTalk(err error) error {
	switch {
	case c.account == nil && (errors.Is(err, ErrNoAnswer) || errors.Is(err, ErrBack)):
		return fault.New(fault.NeedsConfirmation, "no account was added", "", "Begin again when you are ready.")
	case errors.Is(err, ErrNoAnswer) || errors.Is(err, context.Canceled):
		return c.left()
	}
	c.keepBegun()
	return err
}

// text asks for something that is needed, unless it has a fallback.
func (c *NewAccount) text(ctx context.Context, text, fallback, help string) (string, error) {
	return c.question(ctx, Prompt{Text: text, Fallback: fallback, Help: help, Check: needed})
}

// keep shows what came together as a form, and keeps it when the owner says so.
func (c *NewAccount) keep(ctx context.Context) error {
	const usage = "y keeps it · a number changes that line · n ends"
	for show := true; ; {
		lines := c.lines()
		if show {
			form := Form{}
			for i, l := range lines {
				l.Line.Number = strconv.Itoa(i + 1)
				form.Lines = append(form.Lines, l.Line)
			}
			c.Ask.Review(nil, form)
			c.Ask.Explain(usage)
		}
		word, err := c.Ask.Word(ctx, "Keep it? y, n or a number:")
		n, noNumber := strconv.Atoi(word)
		show = false
		switch {
		case err != nil:
			return err
		case word == "y" || word == "yes":
			return c.add()
		case word == "<":
			return ErrBack
		case word == "n" || word == "no":
			return ErrNoAnswer
		case noNumber == nil && n >= 1 && n <= len(lines):
			show = true
			if err := lines[n-1].change(ctx); err != nil && !errors.Is(err, ErrBack) {
				return err
			}
		default:
			c.Ask.Explain(usage)
		}
	}
}

func (c *NewAccount) add() error {
	whole, err := c.account.Format()
	if err != nil {
		return err
	}
	_, err = c.Accounts.Add(c.account.Name, whole, true, c.Env)
	return err
}

// accountLine is a line of the form, and how it is changed.
type accountLine struct {
	Line
	change func(context.Context) error
}

func (c *NewAccount) lines() []accountLine {
	var out []accountLine
	add := func(group, text string, change func(context.Context) error) {
		out = append(out, accountLine{Line{Group: group, Text: text}, change})
	}
	x := c.account
	if x.Remote() == nil {
		add("Files", "folder "+strings.TrimPrefix(x.Reach, "local:")+" on this machine", c.again(&c.server))
	} else {
		add("Files", "server "+c.server+", "+x.Line().Title, c.again(&c.server))
		add("Files", "user "+c.user, c.again(&c.user))
		add("Files", c.signsIn(), c.again(&c.password))
		add("Files", "folder "+x.Remote().Top, c.folder)
	}
	for i, d := range x.Domains {
		text := d.URL + ", folder " + d.Folder
		if d.Primary {
			text += ", the main site"
		}
		add("Domains", text, func(ctx context.Context) error { return c.domainAgain(ctx, i) })
	}
	add("Domains", "another domain", func(ctx context.Context) error { return c.oneDomain(ctx, "", nil) })
	for _, d := range x.Databases {
		text := d.Engine + " at " + d.Server
		if d.Admin != nil {
			text += ", " + d.Admin.User + " makes databases"
		} else if d.Make == account.ByHand {
			text += "; you make databases in the host's control panel"
		}
		add("Data", text, c.dataAgain)
		if d.Admin != nil {
			add("Data", namesBegin(d.Prefix), c.prefix)
		}
	}
	if len(x.Databases) == 0 {
		add("Data", "no database server", c.dataAgain)
	}
	text := "no mail server: nobody is told of anything"
	if x.Mail != nil {
		text = x.Mail.Server + ", as " + x.Mail.From
	}
	add("Mail", text, func(ctx context.Context) error {
		c.mailed, c.hosted = false, false
		c.Letter.Mail = hostmail.Mail{}
		return c.mail(ctx)
	})
	return out
}

// again has one thing of how the files are reached asked anew, and all of them tried.
func (c *NewAccount) again(what *string) func(context.Context) error {
	return func(ctx context.Context) error {
		server, user, password, keyed, key, before := c.server, c.user, c.password, c.keyed, c.key, *c.account
		*what = ""
		c.keyed, c.key = false, ""
		c.Letter.Servers = nil
		err := c.files(ctx)
		if err != nil {
			c.server, c.user, c.password, c.keyed, c.key, *c.account = server, user, password, keyed, key, before
		}
		return err
	}
}

// folder asks for the account's folder, where the one that one is in after signing in is
// not the right one.
func (c *NewAccount) folder(ctx context.Context) error {
	before := c.account.Reach
	_, err := c.question(ctx, Prompt{Text: "The account's folder", Fallback: c.account.Remote().Top,
		Help: "On the server, from its root. All domains' folders lie below it.",
		Check: func(folder string) (string, string) {
			scheme, rest, _ := strings.Cut(before, "://")
			who, _, _ := strings.Cut(rest, "/")
			if c.account.Line().Shell {
				folder = strings.TrimPrefix(folder, "/")
			}
			c.account.Reach = fmt.Sprintf("%s://%s/%s", scheme, who, folder)
			if _, err := c.find(ctx); err != nil {
				f := fault.Of(err)
				return f.What, f.Remedy
			}
			return "", ""
		}})
	if err != nil {
		c.account.Reach = before
	}
	return err
}

func namesBegin(prefix string) string {
	if prefix == "" {
		return "no name prefix"
	}
	return "names begin with " + prefix
}
