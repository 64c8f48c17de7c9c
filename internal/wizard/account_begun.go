package wizard

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"strings"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/hostmail"
)

// begunForm is what was answered about an account that is not kept yet. It has the form of a
// mail, so that going on is as if the host had written it: all of it is tried again.
type begunForm struct {
	Name   string         `json:"name"`
	Hosted bool           `json:"hosted,omitempty"` // the host's mail told of it
	Letter answeredLetter `json:"letter"`
}

// answeredLetter is a letter with all that was answered, but for secrets.
type answeredLetter struct {
	Servers   []hostmail.Server
	User      string
	Folder    string
	Domains   []hostmail.Domain
	Databases []hostmail.Data
	Mail      hostmail.Mail
	Panel     string
}

// begun is an account that was begun and left.
type begun struct {
	Name   string
	Hosted bool
	Letter hostmail.Letter
	At     time.Time
}

// begunAccount gives the account that was begun and left; nil for none, or one that cannot be read
// any more.
func (c *NewAccount) begunAccount() *begun {
	text, at, err := c.Book.Home.BegunAccount()
	if err != nil {
		return nil
	}
	var b begunForm
	if err := json.Unmarshal(text, &b); err != nil || b.Name == "" {
		return nil
	}
	l := b.Letter
	out := &begun{Name: b.Name, Hosted: b.Hosted, At: at, Letter: hostmail.Letter{Servers: l.Servers, User: l.User,
		Folder: l.Folder, Domains: l.Domains, Databases: l.Databases, Mail: l.Mail, Panel: l.Panel}}
	out.Letter.Facts = factsOf(out.Letter)
	return out
}

// GoOn offers an account that was begun and left, unless another name is wanted, and gives the name
// to go on with.
func (c *NewAccount) GoOn(ctx context.Context, name string, now time.Time) string {
	b := c.begunAccount()
	if b == nil || name != "" && account.NameOf(name) != b.Name {
		return name
	}
	if !c.Ask.Confirm(ctx, "Go on with the account "+b.Name+", which was begun "+b.since(now)+"?") {
		return name
	}
	c.Letter, c.begun, c.hosted = b.Letter, true, b.Hosted
	c.Ask.Heading("You answered")
	c.Ask.Facts(b.Letter.ByLine())
	return b.Name
}

// factsOf are what was answered, in the words of a mail's facts.
func factsOf(l hostmail.Letter) (out []hostmail.Fact) {
	add := func(what, value string) {
		if value != "" {
			out = append(out, hostmail.Fact{What: what, Value: value})
		}
	}
	for _, s := range l.Servers {
		add("server", strings.TrimSuffix(s.Host+":"+s.Port, ":"))
	}
	add("user", l.User)
	for _, d := range l.Domains {
		add("domain", d.Name)
	}
	for _, d := range l.Databases {
		add("database server", d.Server())
		add("database user", d.User)
	}
	add("mail server", l.Mail.Server())
	return out
}

// keepBegun keeps what was answered so far, without secrets; false where there is nothing, or it
// cannot be kept.
func (c *NewAccount) keepBegun() bool {
	b := begunForm{Name: c.account.Name, Hosted: c.hosted, Letter: c.answered()}
	if len(factsOf(hostmail.Letter{Servers: b.Letter.Servers, User: b.Letter.User, Domains: b.Letter.Domains})) == 0 {
		return false
	}
	text, err := json.Marshal(b)
	return err == nil && c.Book.Home.KeepBegunAccount(text) == nil
}

// answered is all that is known so far: by answers, and for what was not reached yet by the mail.
func (c *NewAccount) answered() answeredLetter {
	l := answeredLetter{Servers: c.Letter.Servers, User: c.user, Folder: c.Letter.Folder, Domains: c.Letter.Domains,
		Mail: c.Letter.Mail, Panel: c.Letter.Panel}
	if c.server != "" && len(l.Servers) == 0 {
		s := hostmail.Server{Host: c.server}
		if host, port, err := net.SplitHostPort(c.server); err == nil {
			s.Host, s.Port = host, port
		}
		l.Servers = []hostmail.Server{s}
	}
	if len(c.account.Domains) > 0 {
		l.Domains = nil
	}
	for _, d := range c.account.Domains {
		l.Domains = append(l.Domains, hostmail.Domain{Name: d.Name, Folder: d.Folder, URL: d.URL, Connect: d.Connect})
	}
	for _, d := range c.Letter.Databases {
		d.Password = ""
		l.Databases = append(l.Databases, d)
	}
	if len(c.account.Databases) > 0 {
		l.Databases = []hostmail.Data{c.answeredData(c.account.Databases[0])}
	}
	if c.account.Mail != nil {
		l.Mail.Host, l.Mail.Port, _ = net.SplitHostPort(c.account.Mail.Server)
	}
	l.Mail.Password = ""
	return l
}

func (c *NewAccount) answeredData(d account.Database) hostmail.Data {
	out := hostmail.Data{Engine: d.Engine}
	at := strings.TrimPrefix(strings.TrimPrefix(d.Server, account.Tunnel), account.FromSites)
	if host, port, err := net.SplitHostPort(at); err == nil {
		out.Host, out.Port = host, port
	} else {
		out.Host = at
	}
	if d.Admin != nil {
		out.User = d.Admin.User
	}
	return out
}

// left ends the conversation, and keeps what was answered.
func (c *NewAccount) left() error {
	remedy := "Begin again when you are ready."
	if c.keepBegun() {
		remedy = "What you answered is kept, but for passwords; to go on with it: " +
			fault.Call("account", "add", c.account.Name)
	}
	return fault.New(fault.NeedsConfirmation, "no account was added", "", remedy)
}

// since says of a moment of today when it was, of any other the day too.
func (b *begun) since(now time.Time) string {
	if b.At.Local().Format(time.DateOnly) == now.Local().Format(time.DateOnly) {
		return "today at " + b.At.Local().Format("15:04")
	}
	return fmt.Sprint("on ", b.At.Local().Format("2 January 2006"))
}
