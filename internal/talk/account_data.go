package talk

import (
	"context"
	"strings"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/database"
	"tivset/internal/secret"
)

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
