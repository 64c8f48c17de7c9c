package wizard

import (
	"context"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
)

var domainWord = regexp.MustCompile(`^[a-z0-9]([a-z0-9.-]*[a-z0-9])?$`)

// mostFolders is how many folders are tried for a domain.
const mostFolders = 12

// domains finds the folders of the domains that are known, or asks for one. Others come in
// by the form.
func (c *NewAccount) domains(ctx context.Context) error {
	c.Ask.Heading("Domains")
	c.account.Domains = nil
	found, err := c.find(ctx)
	if err != nil {
		return err
	}
	if len(c.Letter.Domains) == 0 {
		return c.oneDomain(ctx, "", found.Folders)
	}
	for _, d := range c.Letter.Domains {
		if err := c.oneDomain(ctx, d.Name, found.Folders); err != nil {
			return err
		}
	}
	return nil
}

// oneDomain asks for a domain, if it has no name, and finds its folder. Folders are those
// that it may show; nil to look for them.
func (c *NewAccount) oneDomain(ctx context.Context, name string, folders []string) error {
	if folders == nil {
		found, err := c.find(ctx)
		if err != nil {
			return err
		}
		folders = found.Folders
	}
	var err error
	if name == "" {
		name, err = c.question(ctx, Prompt{Text: "Domain",
			Help: "Such as quillmere.example or shop.quillmere.example, without http://. Sites are installed into domains.",
			Check: func(value string) (string, string) {
				if !domainWord.MatchString(strings.ToLower(value)) {
					return fmt.Sprintf("%q is not a domain", value), "Write the name alone."
				}
				return "", ""
			}})
		if err != nil {
			return err
		}
	}
	d := account.Domain{Name: strings.ToLower(name), Primary: len(c.account.Domains) == 0}
	for _, said := range c.Letter.Domains {
		if said.Name == d.Name {
			d.URL, d.Connect = said.URL, said.Connect
		}
	}
	if d, err = c.placed(ctx, d, c.likely(d.Name, folders)); err != nil {
		return err
	}
	c.account.Domains = slices.DeleteFunc(c.account.Domains, func(x account.Domain) bool { return x.Name == d.Name })
	c.account.Domains = append(c.account.Domains, d)
	return nil
}

// domainAgain looks for a domain's folder anew; nothing for its name takes it out.
func (c *NewAccount) domainAgain(ctx context.Context, i int) error {
	d := c.account.Domains[i]
	name, err := c.question(ctx, Prompt{Text: "Domain (- takes it out)", Fallback: d.Name})
	if err != nil {
		return err
	}
	if name == emptied {
		if len(c.account.Domains) == 1 {
			c.Ask.Refuse("an account has a domain", "Add the right one first.")
			return nil
		}
		c.account.Domains = slices.Delete(c.account.Domains, i, i+1)
		c.account.Domains[0].Primary = true
		return nil
	}
	d.Name = name
	if d, err = c.inFolder(ctx, d, d.Folder); err == nil {
		c.account.Domains[i] = d
	}
	return err
}

// likely sorts the folders that a domain may show: what the mail says, what is named like
// the domain, the rest.
func (c *NewAccount) likely(name string, folders []string) []string {
	score := func(folder string) int {
		switch {
		case strings.Contains(folder, name):
			return 0
		case strings.Contains(folder, strings.Split(name, ".")[0]):
			return 1
		}
		return 2
	}
	out := slices.Clone(folders)
	slices.SortStableFunc(out, func(a, b string) int { return score(a) - score(b) })
	said := c.Letter.Folder
	for _, d := range c.Letter.Domains {
		if d.Name == name && d.Folder != "" {
			said = d.Folder
		}
	}
	if said, ok := c.below(said); ok {
		out = append([]string{said}, out...)
	}
	return slices.Compact(out)
}

// below is a folder that the mail names as one below the account's top; false where it is none.
func (c *NewAccount) below(said string) (folder string, ok bool) {
	if r := c.account.Remote(); r != nil && strings.HasPrefix(said, r.Top+"/") {
		said = strings.TrimPrefix(said, r.Top)
	}
	said = strings.Trim(path.Clean("/"+said), "/")
	return said, said != "" && account.Inside(said)
}

// placed finds the folder that a domain shows, by trying those that are likely; where none
// is, or the domain does not answer, it asks.
func (c *NewAccount) placed(ctx context.Context, d account.Domain, folders []string) (account.Domain, error) {
	for {
		draft, err := c.draft()
		if err != nil {
			return d, err
		}
		answers := true
		for _, folder := range folders[:min(len(folders), mostFolders)] {
			d.Folder = folder
			web, err := c.Accounts.FindWeb(ctx, draft, d)
			if ctx.Err() != nil {
				return d, ctx.Err()
			}
			if err == nil {
				return c.shows(d, web.URL, web.PHP, web.Folder), nil
			}
			if web.URL == "" {
				c.Ask.Refuse(fault.Of(err).What+": "+d.Name, fault.Of(err).Remedy)
				answers = false
				break
			}
			d.URL = web.URL
		}
		if !answers {
			if d, err = c.elsewhere(ctx, d); err != nil {
				return d, err
			}
			continue
		}
		if len(folders) > 0 {
			c.Ask.Refuse("none of these folders is what "+d.Name+" shows: "+strings.Join(folders[:min(len(folders),
				mostFolders)], ", "), "Type the right one.")
		}
		return c.inFolder(ctx, d, "")
	}
}

// shows notes what was found of a domain that shows its folder.
func (c *NewAccount) shows(d account.Domain, url, php, seen string) account.Domain {
	d.URL = url
	c.Ask.Good(url + " shows the folder " + d.Folder)
	if php != "" {
		c.Ask.Good("PHP " + php + " runs there")
	}
	if !c.account.Line().Rooted && seen != "" {
		c.account.Runtime.Folder = seen
	}
	return d
}

// inFolder asks for the folder of a domain until the two belong together, or the owner
// says that they will.
func (c *NewAccount) inFolder(ctx context.Context, d account.Domain, proposal string) (account.Domain, error) {
	for {
		folder, err := c.text(ctx, "Its folder", proposal, "What visitors of the domain see, from the account's top: its "+
			"document root.")
		if err != nil {
			return d, err
		}
		d.Folder = strings.Trim(folder, "/")
		draft, err := c.draft()
		if err != nil {
			return d, err
		}
		web, err := c.Accounts.FindWeb(ctx, draft, d)
		if ctx.Err() != nil {
			return d, ctx.Err()
		}
		if err == nil {
			return c.shows(d, web.URL, web.PHP, web.Folder), nil
		}
		f := fault.Of(err)
		c.Ask.Refuse(f.What, f.Remedy)
		if web.URL == "" {
			if d, err = c.elsewhere(ctx, d); err != nil {
				return d, err
			}
		} else if c.Ask.Confirm(ctx, "Keep it anyway? (It may start to answer later.)") {
			d.URL = web.URL
			return d, nil
		}
		proposal = d.Folder
	}
}

// elsewhere asks where a domain answers that does not resolve yet.
func (c *NewAccount) elsewhere(ctx context.Context, d account.Domain) (account.Domain, error) {
	url, err := c.text(ctx, "Its address", "http://"+d.Name,
		"With https:// or http://, and the port where it is unusual.")
	if err != nil {
		return d, err
	}
	d.URL = strings.TrimSuffix(url, "/")
	d.Connect, err = c.question(ctx,
		Prompt{Text: "Where it is reached until its name leads there (host:port, may stay empty)",
			Help: "The web server's own address, for a domain that does not lead here yet."})
	return d, err
}
