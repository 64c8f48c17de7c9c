package talk

import (
	"context"
	"fmt"
	"regexp"
	"strings"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
)

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
