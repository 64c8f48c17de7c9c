package command

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/catalogue"
	"tivset/internal/fault"
	"tivset/internal/near"
	"tivset/internal/screen"
	"tivset/internal/site"
)

// conversation asks on a terminal for what an install was not told and cannot
// do without: app, domain, directory, then what has no default. Everything
// else has a default, which the review shows.
type conversation struct {
	*app
	ask     *screen.Asker
	service *site.Service
	request *site.Request
	begun   bool
}

// errNotInstalled ends an install that was not wanted after all.
func errNotInstalled() error {
	return fault.New(fault.Decision, "not installed", "", "Nothing was touched.")
}

// converse asks for what is missing. Going back asks the question before anew.
func (a *app) converse(ctx context.Context, ask *screen.Asker, s *site.Service, r *site.Request) error {
	c := &conversation{app: a, ask: ask, service: s, request: r}
	var parts []func(context.Context) error
	if r.App == "" {
		parts = append(parts, c.chooseApp)
	}
	if r.At == "" {
		parts = append(parts, c.chooseDomain, c.chooseDirectory)
	}
	parts = append(parts, c.rest)
	for i := 0; i < len(parts); {
		err := parts[i](ctx)
		switch {
		case errors.Is(err, screen.ErrBack):
			i = max(0, i-1)
			continue
		case errors.Is(err, screen.ErrNoAnswer):
			return errNotInstalled()
		case err != nil:
			return err
		}
		i++
	}
	return nil
}

func (c *conversation) begin(group string) {
	if !c.begun {
		c.begun = true
		c.ask.Note("Press Enter for what stands in brackets; ? helps, < goes back, Ctrl-C ends and leaves nothing behind.")
	}
	c.ask.Note("\n" + group)
}

func (c *conversation) chooseApp(ctx context.Context) error {
	all, err := c.service.Catalogue.All()
	if err != nil {
		return err
	}
	c.begin("What to install")
	names := make([]string, len(all))
	for i, e := range all {
		names[i] = e.App
		c.ask.Note(fmt.Sprintf("  %d  %-12s %s", i+1, screen.Clean(e.Title), screen.Clean(e.Summary)))
	}
	c.request.App, err = c.pick(ctx, "App", "", names, "Type the number or the name. More about one: tivset about APP.")
	return err
}

// pick asks for one of several, by number or name.
func (c *conversation) pick(ctx context.Context, question, fallback string, names []string, help string) (string, error) {
	chosen := func(word string) string {
		if n, err := strconv.Atoi(word); err == nil && n >= 1 && n <= len(names) {
			return names[n-1]
		}
		if slices.Contains(names, strings.ToLower(word)) {
			return strings.ToLower(word)
		}
		return ""
	}
	word, err := c.ask.Ask(ctx, question, fallback, help, func(word string) (string, string) {
		if chosen(word) == "" {
			return "that is none of them", near.Hint(word, names)
		}
		return "", ""
	})
	return chosen(word), err
}

func (c *conversation) chooseDomain(ctx context.Context) error {
	spots, err := c.service.Spots(ctx, c.account)
	if err != nil {
		return err
	}
	c.begin("Where")
	names := make([]string, len(spots))
	for i, s := range spots {
		names[i] = s.Domain
		c.ask.Note(fmt.Sprintf("  %d  %-40s %s", i+1, s.URL, screen.Clean(s.State)))
	}
	fallback := ""
	if len(names) == 1 {
		fallback = names[0]
	}
	domain, err := c.pick(ctx, "Domain", fallback, names, "The name at which visitors will find the site. Type the number or the name.")
	if err != nil {
		return err
	}
	spot := spots[slices.Index(names, domain)]
	c.request.At, c.request.Account = spot.URL, spot.Account
	return nil
}

func (c *conversation) chooseDirectory(ctx context.Context) error {
	spots, err := c.service.Spots(ctx, c.request.Account)
	if err != nil {
		return err
	}
	root, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(c.request.At, "http://"), "https://"), "/")
	spot := spots[slices.IndexFunc(spots, func(s site.Spot) bool { return strings.HasSuffix(s.URL, "://"+root) })]
	fallback := "/"
	if !spot.Free {
		fallback = c.kind()
	}
	dir, err := c.ask.Ask(ctx, "Directory", fallback,
		"The part of the address behind the domain: with “forum” the site is at "+spot.URL+"/forum/. With / it is at the domain itself, and visitors see it first.",
		func(dir string) (string, string) {
			f := fault.Of(c.service.TryAddress(ctx, c.request.Account, spot.URL+"/"+strings.Trim(dir, "/")))
			if f.Kind == fault.Decision {
				return f.What + ": " + strings.Join(f.Details, "; "), "Choose another directory."
			}
			return f.What, f.Remedy
		})
	if err != nil {
		return err
	}
	c.request.At = spot.URL + "/" + strings.Trim(dir, "/")
	c.ask.Note("  The site will be at " + strings.TrimSuffix(c.request.At, "/") + "/")
	return nil
}

// kind proposes a directory: what the app is for.
func (c *conversation) kind() string {
	e, err := c.service.Catalogue.Find(c.request.App)
	if err != nil {
		return "site"
	}
	return e.Kind
}

// rest asks what has no default, and what was answered wrongly.
func (c *conversation) rest(ctx context.Context) error {
	open, err := c.service.Open(*c.request)
	if err != nil || len(open) == 0 {
		// An app or address that was given wrongly is for the plan to say, with
		// all else that is wrong.
		return nil
	}
	e, err := c.service.Catalogue.Find(c.request.App)
	if err != nil {
		return err
	}
	c.begin("The site")
	for i := 0; i < len(open); {
		err := c.one(ctx, e, open[i])
		if errors.Is(err, screen.ErrBack) && i > 0 {
			i--
			continue
		}
		if err != nil {
			return err
		}
		i++
	}
	return nil
}

func (c *conversation) one(ctx context.Context, e catalogue.Entry, q site.Asked) error {
	if q.What != "" {
		c.ask.Refuse(q.ID+": "+q.What, q.Remedy)
	}
	if q.ID == "licence" {
		return c.licence(ctx, e)
	}
	given, err := c.ask.Ask(ctx, q.Ask, q.Default, q.Help, func(value string) (string, string) {
		if value == "" && q.Needed {
			return "this needs an answer", ""
		}
		return q.Wrong(value)
	})
	if err != nil {
		return err
	}
	c.put(q.ID, given)
	return nil
}

func (c *conversation) put(id, value string) {
	if c.request.Answers == nil {
		c.request.Answers = answer.Given{}
	}
	c.request.Answers[id] = value
}

// licence asks for the licence to be accepted, and shows it on request.
func (c *conversation) licence(ctx context.Context, e catalogue.Entry) error {
	for {
		word, err := c.ask.Ask(ctx, "Accept the "+e.Licence.Name+"? yes, no, or show", "no", "The app can only be installed when its licence is accepted.", func(string) (string, string) { return "", "" })
		if err != nil {
			return err
		}
		switch strings.ToLower(word) {
		case "y", "yes":
			c.put("licence", "accept")
			return nil
		case "s", "show":
			text, err := fs.ReadFile(e.Files(), e.Licence.Text)
			if err != nil {
				return err
			}
			c.ask.Note(screen.Clean(string(text)))
		default:
			return fault.New(fault.Decision, "the licence was not accepted", e.Title, "Nothing was touched.")
		}
	}
}
