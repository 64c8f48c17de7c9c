package talk

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/near"
	"tivset/internal/plan"
)

func (c *Conversation) chooseApp(ctx context.Context) error {
	all, _, err := c.Book.Catalogue.Cards()
	if err != nil {
		return err
	}
	names := make([]string, len(all))
	var rows [][]string
	for i, e := range all {
		names[i] = e.App
		rows = append(rows, []string{e.Title, e.Kind, e.Summary})
	}
	c.Ask.List(rows)
	before := c.Request.App
	if c.Request.App, err = c.pick(ctx, "App", before, names, "Type the number or the name. More about one: "+
		fault.Call("about", "APP")+"."); err != nil {
		c.Request.App = before
		return err
	}
	return c.Planner.LookUp(ctx, c.Request.App)
}

// pick asks for one of several, by number or name.
func (c *Conversation) pick(ctx context.Context, question, fallback string, names []string, help string) (string,
	error) {
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
	word, err := c.Ask.Ask(ctx, Prompt{Text: question, Fallback: fallback, Help: help,
		Check: func(word string) (string, string) {
			if chosen(word) == "" {
				return "that is none of them", strings.TrimSpace(near.Hint(word, names) + " Type a number or a name of the list.")
			}
			return "", ""
		}})
	return chosen(word), err
}

func (c *Conversation) chooseDomain(ctx context.Context) error {
	spots, err := c.Planner.Spots(ctx, c.Account)
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
	c.Ask.List(rows)
	fallback := ""
	if len(names) == 1 {
		fallback = names[0]
	}
	domain, err := c.pick(ctx, "Domain", fallback, names,
		"The name at which visitors will find the site. Type the number or the name.")
	if err != nil {
		return err
	}
	spot := spots[slices.Index(names, domain)]
	c.Request.At, c.Request.Account = spot.URL, spot.Account
	return nil
}

// spot finds the domain that was chosen.
func (c *Conversation) spot(ctx context.Context) (plan.Spot, error) {
	spots, err := c.Planner.Spots(ctx, c.Request.Account)
	for _, s := range spots {
		if c.Request.At == s.URL || strings.HasPrefix(c.Request.At, s.URL+"/") {
			return s, err
		}
	}
	return plan.Spot{}, err
}

func (c *Conversation) chooseDirectory(ctx context.Context) error {
	spot, err := c.spot(ctx)
	if err != nil {
		return err
	}
	fallback := "/"
	if !spot.Free {
		fallback = c.kind()
	}
	at := func(dir string) string { return spot.URL + "/" + strings.Trim(dir, "/") }
	dir, err := c.Ask.Ask(ctx, Prompt{Text: "Directory", Fallback: fallback,
		Help: "The part of the address behind the domain: with “forum” the site is at " + spot.URL +
			"/forum/. With / it is at the domain itself, and visitors see it first.",
		Check: func(dir string) (string, string) {
			request := *c.Request
			request.At = at(dir)
			if _, err := c.Planner.LookAt(ctx, request); err != nil {
				f := fault.Of(err)
				return f.What, f.Remedy
			}
			return "", ""
		}})
	if err != nil {
		return err
	}
	c.Request.At = at(dir)
	return nil
}

// kind proposes a directory: what the app is for.
func (c *Conversation) kind() string {
	e, err := c.Book.Catalogue.Find(c.Request.App)
	if err != nil {
		return "site"
	}
	return e.Kind
}

// lookAtPlace shows the address that results, names its traps, and asks about
// what is in the way.
func (c *Conversation) lookAtPlace(ctx context.Context) error {
	look, err := c.Planner.LookAt(ctx, *c.Request)
	if err != nil {
		return err
	}
	c.Ask.Address(look.URL)
	for _, w := range look.Warnings {
		c.Ask.Warn(w)
	}
	if len(look.InTheWay) > 0 && c.Request.Answers["occupied"] != "set-aside" {
		if err := c.setAside(ctx, look); err != nil {
			return err
		}
	}
	if !look.Main {
		return nil
	}
	typed, err := c.Ask.Ask(ctx, Prompt{Text: "To go on, type the name " + look.Domain,
		Help: "What is asked twice is not done by accident. < chooses another place."})
	if err == nil && typed != look.Domain {
		return c.elsewhere()
	}
	return err
}

func (c *Conversation) setAside(ctx context.Context, look plan.Look) error {
	c.Ask.Warn("something is in the way there:")
	for _, line := range look.InTheWay[:min(len(look.InTheWay), 12)] {
		c.Ask.Note("    " + line)
	}
	if n := len(look.InTheWay) - 12; n > 0 {
		c.Ask.Note(fmt.Sprintf("    … and %d more", n))
	}
	yes, err := c.yesNo(ctx, "Set it aside", "no",
		"yes: it is moved into the account's store; undoing the install puts it back. no: choose another place.")
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
func (c *Conversation) elsewhere() error {
	if c.fixed["at"] {
		return errNotInstalled()
	}
	c.Ask.Note("  Then choose another place.")
	return ErrBack
}

// chooseRelease asks for a release, with what speaks for and against each.
func (c *Conversation) chooseRelease(ctx context.Context) error {
	e, err := c.Book.Catalogue.Find(c.Request.App)
	if err != nil {
		return err
	}
	names := e.Versions()
	var rows [][]string
	for i, r := range e.Releases {
		rows = append(rows, []string{r.Release, r.Date, c.Book.Standing(e.Kit, i)})
	}
	c.Ask.List(rows)
	fallback := c.Request.Release
	if fallback == "" {
		fallback = names[0]
	}
	c.Request.Release, err = c.pick(ctx, "Release", fallback, names,
		"The newest is usually right. An older one only for a server that is too old for it.")
	if c.Request.Release == names[0] {
		c.Request.Release = "" // the newest that fits
	}
	return err
}
