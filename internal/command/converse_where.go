package command

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/near"
	"tivset/internal/screen"
	"tivset/internal/site"
)

func (c *conversation) chooseApp(ctx context.Context) error {
	all, err := c.service.Catalogue.All()
	if err != nil {
		return err
	}
	names := make([]string, len(all))
	var rows [][]string
	for i, e := range all {
		names[i] = e.App
		rows = append(rows, []string{e.Title, e.Kind, e.Summary})
	}
	c.ask.List(rows)
	before := c.request.App
	if c.request.App, err = c.pick(ctx, "App", before, names, "Type the number or the name. More about one: tivset about APP."); err != nil {
		c.request.App = before
	}
	return err
}

// pick asks for one of several, by number or name.
func (c *conversation) pick(ctx context.Context, question, fallback string, names []string, help string) (string, error) {
	chosen := func(word string) string {
		word = strings.ToLower(strings.TrimSpace(word))
		if n, err := strconv.Atoi(word); err == nil && n >= 1 && n <= len(names) {
			return names[n-1]
		}
		if slices.Contains(names, word) {
			return word
		}
		return ""
	}
	word, err := c.ask.Ask(ctx, screen.Prompt{Text: question, Fallback: fallback, Help: help, Check: func(word string) (string, string) {
		if chosen(word) == "" {
			return "that is none of them", strings.TrimSpace(near.Hint(word, names) + " Type a number or a name of the list.")
		}
		return "", ""
	}})
	return chosen(word), err
}

func (c *conversation) chooseDomain(ctx context.Context) error {
	spots, err := c.service.Spots(ctx, c.account)
	if err != nil {
		return err
	}
	names := make([]string, len(spots))
	var rows [][]string
	for i, s := range spots {
		names[i] = s.Domain
		state := s.State
		if s.Primary {
			state = "main site; " + state
		}
		rows = append(rows, []string{s.URL, state})
	}
	c.ask.List(rows)
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

// spot finds the domain that was chosen.
func (c *conversation) spot(ctx context.Context) (site.Spot, error) {
	spots, err := c.service.Spots(ctx, c.request.Account)
	for _, s := range spots {
		if c.request.At == s.URL || strings.HasPrefix(c.request.At, s.URL+"/") {
			return s, err
		}
	}
	return site.Spot{}, err
}

func (c *conversation) chooseDirectory(ctx context.Context) error {
	spot, err := c.spot(ctx)
	if err != nil {
		return err
	}
	fallback := "/"
	if !spot.Free {
		fallback = c.kind()
	}
	at := func(dir string) string { return spot.URL + "/" + strings.Trim(dir, "/") }
	dir, err := c.ask.Ask(ctx, screen.Prompt{Text: "Directory", Fallback: fallback,
		Help: "The part of the address behind the domain: with “forum” the site is at " + spot.URL + "/forum/. With / it is at the domain itself, and visitors see it first.",
		Check: func(dir string) (string, string) {
			request := *c.request
			request.At = at(dir)
			if _, err := c.service.LookAt(ctx, request); err != nil {
				f := fault.Of(err)
				return f.What, f.Remedy
			}
			return "", ""
		}})
	if err != nil {
		return err
	}
	c.request.At = at(dir)
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

// lookAtPlace shows the address that results, names its traps, and asks about
// what is in the way.
func (c *conversation) lookAtPlace(ctx context.Context) error {
	look, err := c.service.LookAt(ctx, *c.request)
	if err != nil {
		return err
	}
	c.ask.Address(look.URL)
	for _, w := range look.Warnings {
		c.ask.Warn(w)
	}
	if len(look.InTheWay) > 0 && c.request.Answers["occupied"] != "set-aside" {
		if err := c.setAside(ctx, look); err != nil {
			return err
		}
	}
	if !look.Main {
		return nil
	}
	typed, err := c.ask.Ask(ctx, screen.Prompt{Text: "To go on, type the name " + look.Domain, Help: "What is asked twice is not done by accident. < chooses another place."})
	if err == nil && typed != look.Domain {
		return c.elsewhere()
	}
	return err
}

func (c *conversation) setAside(ctx context.Context, look site.Look) error {
	c.ask.Warn("something is in the way there:")
	for _, line := range look.InTheWay[:min(len(look.InTheWay), 12)] {
		c.ask.Note("    " + screen.Clean(line))
	}
	if n := len(look.InTheWay) - 12; n > 0 {
		c.ask.Note(fmt.Sprintf("    … and %d more", n))
	}
	yes, err := c.yesNo(ctx, "Set it aside", "no", "yes: it is moved into the account's store; undoing the install puts it back. no: choose another place.")
	if err != nil || yes == "no" {
		if err == nil {
			err = c.elsewhere()
		}
		return err
	}
	c.put("occupied", "set-aside")
	c.mine["occupied"] = true
	return nil
}

// elsewhere has the place chosen again, where it was chosen here.
func (c *conversation) elsewhere() error {
	if c.fixed["at"] {
		return errNotInstalled()
	}
	c.ask.Note("  Then choose another place.")
	return screen.ErrBack
}

// chooseRelease asks for a release, with what speaks for and against each.
func (c *conversation) chooseRelease(ctx context.Context) error {
	e, err := c.service.Catalogue.Find(c.request.App)
	if err != nil {
		return err
	}
	names := e.Versions()
	var rows [][]string
	for i, r := range e.Releases {
		rows = append(rows, []string{r.Release, r.Date, c.service.Standing(e.Kit, i)})
	}
	c.ask.List(rows)
	fallback := c.request.Release
	if fallback == "" {
		fallback = names[0]
	}
	c.request.Release, err = c.pick(ctx, "Release", fallback, names, "The newest is usually right. An older one only for a server that is too old for it.")
	if c.request.Release == names[0] {
		c.request.Release = "" // the newest that fits
	}
	return err
}
