package wizard

import (
	"cmp"
	"context"
	"net"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/hostmail"
	"tivset/internal/secret"
)

// databases finds out how the database server is reached, and what its user may do.
func (c *NewAccount) databases(ctx context.Context) error {
	c.Ask.Heading("Databases")
	c.account.Databases = nil
	var data hostmail.Data
	if said := c.Letter.Databases; len(said) > 0 {
		data = said[0]
	}
	if data.Host == "" {
		var err error
		if data, err = c.askData(ctx, data); err != nil || data.Host == "" {
			return err
		}
	}
	d := account.Database{Name: "main", Engine: cmp.Or(data.Engine, database.MariaDB.Name)}
	if d.Engine == database.SQLite.Name {
		d.Server = data.Host
		c.account.Databases = []account.Database{d}
		return nil
	}
	if err := c.signIn(ctx, &d, data); err != nil {
		return err
	}
	c.given(&d, data.Host)
	if own := c.user + "_"; d.Admin != nil && strings.HasPrefix(data.Name, own) {
		d.Prefix = own // as the host names them
	}
	c.account.Databases = []account.Database{d}
	return nil
}

// given keeps the databases that the host made, where nobody here may make any: the first sites get them.
func (c *NewAccount) given(d *account.Database, server string) {
	if d.Admin != nil {
		return
	}
	for _, said := range c.Letter.Databases {
		if said.Name == "" || said.User == "" || said.Password == "" || said.Host != "" && said.Host != server {
			continue
		}
		d.Given = append(d.Given, account.Given{Name: said.Name, User: said.User, Password: "plain:" + said.Password})
		c.Ask.Good("The database " + said.Name + " is kept for the first site that needs one")
	}
}

// askData asks for a database server and its user.
func (c *NewAccount) askData(ctx context.Context, data hostmail.Data) (hostmail.Data, error) {
	answer, err := c.question(ctx, Prompt{Text: "Database server (- for none)", Fallback: "localhost",
		Help: "As the host names it, with :PORT where it is unusual; postgresql:// before it for PostgreSQL; files for " +
			"databases in files (SQLite). It is tried through the way to the files, and directly."})
	switch {
	case err != nil || answer == emptied:
		return hostmail.Data{}, err
	case answer == "files":
		return hostmail.Data{Engine: database.SQLite.Name, Host: "data"}, nil
	}
	if rest, is := strings.CutPrefix(answer, "postgresql://"); is {
		data.Engine, answer = database.PostgreSQL.Name, rest
	}
	data.Host = strings.TrimPrefix(answer, "mysql://")
	if host, port, err := net.SplitHostPort(data.Host); err == nil {
		data.Host, data.Port = host, port
	}
	data.User, err = c.question(ctx, Prompt{Text: "A user who may make databases (may stay empty)",
		Help: "Without one you make databases in the host's control panel; Tivset says what to make, and tries it."})
	if err == nil && data.User != "" {
		data.Password, err = c.question(ctx,
			Prompt{Text: "Password", Unseen: true, Help: "It is kept in the vault, encrypted."})
	}
	return data, err
}

// ways are the addresses at which a database server may be reached, the likeliest first.
func (c *NewAccount) ways(d account.Database, data hostmail.Data) []string {
	engine, _ := database.EngineOf(d.Engine)
	at := net.JoinHostPort(data.Host, cmp.Or(data.Port, engine.Port))
	if strings.HasPrefix(data.Host, "/") { // a socket
		return []string{data.Host}
	}
	line := c.account.Line()
	switch {
	case line.Shell:
		return []string{account.Tunnel + at, at}
	case line.OwnMachine, data.Host != "localhost":
		return []string{at}
	}
	return nil
}

// signIn tries the ways with the user that there is. Without one, or where none works,
// databases are made by hand.
func (c *NewAccount) signIn(ctx context.Context, d *account.Database, data hostmail.Data) error {
	engine, _ := database.EngineOf(d.Engine)
	ways := c.ways(*d, data)
	d.Make = account.ByHand
	if len(ways) > 0 {
		d.Server = ways[0]
	} else {
		d.Server = account.FromSites + net.JoinHostPort(data.Host, cmp.Or(data.Port, engine.Port))
	}
	if data.User == "" || len(ways) == 0 {
		c.Ask.Note("  You make databases in the host's control panel; Tivset says which, and tries them.")
		return nil
	}
	for {
		answered, err := c.tryWays(ctx, d, data, ways)
		if err == nil || ctx.Err() != nil {
			return ctx.Err()
		}
		c.Ask.Refuse(fault.Of(err).What, "")
		if !refused(err) {
			if line := c.account.Line(); !answered && !line.Shell && !line.OwnMachine { // only the sites may reach it
				d.Server = account.FromSites + ways[0]
			}
			c.Ask.Note("  You make databases in the host's control panel; Tivset says which, and tries them.")
			return nil
		}
		data.Password, err = c.question(
			ctx,
			Prompt{Text: "Password of " + data.User + " (nothing: you make databases by hand)",
				Unseen: true},
		)
		if err != nil || data.Password == "" {
			return err
		}
	}
}

// tryWays signs in by one way after the other, and sees whether the user may make
// databases. Answered says that the server lets the user in, whatever it may.
func (c *NewAccount) tryWays(ctx context.Context, d *account.Database, data hostmail.Data,
	ways []string) (answered bool,
	err error) {
	var first error
	for _, way := range ways {
		draft, err := c.draft()
		if err != nil {
			return false, err
		}
		try := *d
		try.Server, try.Make = way, ""
		engine, version := "", ""
		err = c.accepting(ctx, draft, &try, func() (err error) {
			engine, version, err = c.Accounts.TryServer(ctx, draft, try, database.Login{Server: way, User: data.User,
				Password: secret.Of(data.Password)})
			return err
		})
		if err == nil {
			d.Server, d.Make = way, ""
			d.Admin = &account.Login{User: data.User, Password: "plain:" + data.Password}
			c.Ask.Good(titled(engine) + " " + version + " answers, and " + data.User + " may make databases and users")
			return true, nil
		}
		if version != "" { // it lets the user in, who may not make any
			d.Server = way
			c.Ask.Good(titled(engine) + " " + version + " answers")
			return true, err
		}
		if first == nil || refused(err) {
			first = err
		}
	}
	return false, first
}

func (c *NewAccount) dataAgain(ctx context.Context) error {
	before := c.account.Databases
	c.Letter.Databases = nil
	err := c.databases(ctx)
	if err != nil {
		c.account.Databases = before
	}
	return err
}

func (c *NewAccount) prefix(ctx context.Context) error {
	prefix, err := c.question(
		ctx,
		Prompt{Text: "Names begin with (may stay empty)", Fallback: c.account.Databases[0].Prefix,
			Help: "Many hosts make names of databases and users begin with the account's, such as quill_; - for nothing."},
	)
	if err == nil {
		c.account.Databases[0].Prefix = strings.TrimPrefix(prefix, emptied)
	}
	return err
}

// titled is an engine as people write it.
func titled(engine string) string {
	if e, known := database.EngineOf(engine); known {
		return e.Title
	}
	return engine
}
