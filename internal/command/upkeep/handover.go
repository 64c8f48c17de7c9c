package upkeep

import (
	"context"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/atomicfile"
	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/notify/mail"
	"tivset/internal/site/handover"
	"tivset/internal/work/batch"
)

type handing struct {
	into, to string
	password bool
	sites    cli.Selection
}

func (a *app) handover() *cobra.Command {
	h := handing{}
	c := &cobra.Command{
		Use:   "handover SITE… [--into FILE] [--to ADDRESS]",
		Short: "Make the page to give to a site's owner",
		Long: "One page with all that one has to know of a site: its addresses, the name, what is installed, who looks\n" +
			"after it and how, its backups, what is left to set up. Without --into and --to it is shown. Several sites\n" +
			"make one document with a page each. The password is on it only with --with-password.",
		Example: "  tivset handover forum\n  tivset handover forum --into forum.html\n" +
			"  tivset handover forum journal --to wharfinger@lockside.localhost",
		Annotations: cli.NoDryRun(), ValidArgsFunction: a.AllSiteWords,
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error { return a.handOver(ctx, s, args, h) }),
	}
	f := c.Flags()
	cli.AllOf(c, &h.sites)
	f.StringVar(&h.sites.Table, "table", "", "the sites of a table (CSV) with the columns site and into, to: a page for "+
		"each; - for standard input")
	h.sites.AtOnce, h.sites.Columns = 1, []string{"into", "to"}
	f.StringVar(&h.into, "into", "", "the file to write: a page (.html), or plain text (.txt)")
	f.StringVar(&h.to, "to", "", "the address to mail it to, through the account's mail server")
	f.BoolVar(&h.password, "with-password", false, "put the admin's password on the page")
	return c
}

// handOver makes one document of all sites, or with a table that says to whom each goes, one
// of each.
func (a *app) handOver(ctx context.Context, s *core.Core, words []string, h handing) error {
	rows, err := a.Rows(ctx, s, words, &h.sites)
	if err != nil {
		return err
	}
	apart := slices.ContainsFunc(rows, func(r *batch.Row) bool { return r.Values["into"]+r.Values["to"] != "" })
	if !apart {
		document, err := a.runHandover(ctx, s, cli.Named(rows), h)
		if err == nil && a.JSON {
			err = a.Streams.WriteJSON(document)
		}
		return err
	}
	if _, err := batch.Sites(ctx, s.Book, cli.Named(rows), a.Account); err != nil { // before the first is mailed
		return err
	}
	lines := map[string]*batch.Row{}
	var names []string
	for _, r := range rows {
		lines[r.Name()], names = r, append(names, r.Name())
	}
	return a.Each(ctx, names, func(name string) (any, error) {
		one, r := h, lines[name]
		one.into, one.to = r.Value("into", h.into), r.Value("to", h.to)
		return a.runHandover(ctx, s, []string{r.Site}, one)
	})
}

func (a *app) runHandover(ctx context.Context, s *core.Core, words []string, h handing) (document any, err error) {
	if end := strings.ToLower(filepath.Ext(h.into)); h.into != "" && end != ".html" && end != ".txt" {
		return nil, fault.New(fault.Usage, "no page can be written into "+h.into, "--into",
			"Name a file that ends with .html or .txt.")
	}
	pages, err := a.pages(ctx, s, words, h.password)
	if err != nil {
		return nil, err
	}
	html, err := handover.HTML(pages...)
	if err != nil {
		return nil, err
	}
	text := handover.Text(pages...)
	if h.into != "" {
		content := html
		if strings.EqualFold(filepath.Ext(h.into), ".txt") {
			content = []byte(text)
		}
		if err := atomicfile.Write(h.into, content, 0o600); err != nil {
			return nil, fault.New(fault.Usage, "the page cannot be written", h.into,
				"Name a file in a folder that you can write.").Wrap(err)
		}
	}
	if h.to != "" {
		if err := a.mailPages(ctx, s, words[0], pages, h.to, text, string(html)); err != nil {
			return nil, err
		}
	}
	return a.handed(pages, h, text)
}

// pages makes the pages of sites.
func (a *app) pages(ctx context.Context, s *core.Core, words []string, password bool) ([]handover.Page, error) {
	var out []handover.Page
	idle, _ := a.Upkeep(ctx, s)
	for _, word := range words {
		x, err := s.Book.Find(ctx, word)
		if err != nil {
			return nil, err
		}
		from := handover.From{Record: x, By: s.Desk.Who, Now: a.World.Now(), Idle: idle != ""}
		if from.Site, err = s.Book.From(x); err != nil {
			a.Streams.Warn("of " + x.Address + " the page says only what is on record: " + fault.Of(err).Error())
		} else if m := from.Site.In.Mail; m != nil {
			from.Told, from.Ask = true, m.From
		}
		if password {
			found, err := s.Book.Reveal(ctx, x.Address)
			if err != nil {
				return nil, err
			}
			from.Password = found.Password
			if err := cli.Seen(ctx, s, found.Site.Address, "password put on the handover page"); err != nil {
				return nil, err
			}
		}
		out = append(out, handover.Of(from))
	}
	return out, nil
}

// mailPages mails pages through the mail server of the first site's account.
func (a *app) mailPages(
	ctx context.Context,
	s *core.Core,
	word string,
	pages []handover.Page,
	to, text, html string,
) error {
	x, err := s.Book.Find(ctx, word)
	if err != nil {
		return err
	}
	in, err := s.Book.Home.Account(x.Account)
	if err != nil {
		return err
	}
	if in.Mail == nil {
		return fault.New(fault.Usage, "the account "+in.Name+" has no mail server", "--to",
			"Write mail: into the account (docs/hosting.md), or make a file with --into FILE.")
	}
	subject := "Your site: " + pages[0].Title
	if len(pages) > 1 {
		subject = "Your sites"
	}
	err = s.Desk.Mail(ctx, in, mail.Message{To: to, Subject: subject, Text: text, HTML: html})
	if err != nil {
		return fault.New(fault.Failed, "the page could not be mailed", to,
			"Look at the address and at mail: of the account; or make a file with --into FILE.").Wrap(err)
	}
	return nil
}

// handed says what became of the pages.
func (a *app) handed(pages []handover.Page, h handing, text string) (document any, err error) {
	if a.JSON {
		sites := []string{}
		for _, p := range pages {
			sites = append(sites, p.URL)
		}
		return map[string]any{"sites": sites, "into": h.into, "to": h.to, "password": h.password,
			"text": text}, nil
	}
	if h.into == "" && h.to == "" {
		a.Streams.Print("%s", strings.TrimRight(text, "\n"))
		return nil, nil
	}
	if h.into != "" {
		a.Streams.Print("The page is in %s.", h.into)
	}
	if h.to != "" {
		a.Streams.Print("The page is mailed to %s.", h.to)
	}
	return nil, nil
}
