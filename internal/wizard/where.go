package wizard

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/fault"
	"tivset/internal/plan"
	"tivset/internal/suggest"
)

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
				return "that is none of them", strings.TrimSpace(
					suggest.Hint(word, names) + " Type a number or a name of the list.",
				)
			}
			return "", ""
		}})
	return chosen(word), err
}

// chooseAddress asks for the whole address: of a domain by its number, with a directory or
// without, or as it will be read.
func (c *Conversation) chooseAddress(ctx context.Context) error {
	spots, err := c.Planner.Spots(ctx, c.Account)
	if err != nil {
		return err
	}
	c.listSpots(spots)
	fallback := c.Request.At
	if fallback == "" && len(spots) == 1 {
		fallback = c.proposed(spots[0])
	}
	var words []string
	for _, s := range spots {
		words = append(words, s.Domain, s.URL)
	}
	request := *c.Request
	_, err = c.Ask.Ask(ctx, Prompt{Text: "Address", Fallback: fallback, Words: words,
		Help: "Where visitors will find the site. 2 takes what the list says, 2/forum a directory of that domain, 2/ the " +
			"domain itself; or type the address.",
		Check: func(word string) (string, string) {
			if what, remedy := c.address(word, spots, &request); what != "" {
				return what, remedy
			}
			if _, err := c.Planner.LookAt(ctx, request); err != nil {
				f := fault.Of(err)
				return f.What, f.Remedy
			}
			return "", ""
		}})
	if err == nil {
		c.Request.At, c.Request.Account = request.At, request.Account
	}
	return err
}

// listSpots shows the domains, each with the address that its number stands for.
func (c *Conversation) listSpots(spots []plan.Spot) {
	accounts := map[string]bool{}
	for _, s := range spots {
		accounts[s.Account] = true
	}
	var rows [][]string
	for _, s := range spots {
		state := s.State
		if !s.Free {
			state = "above it: " + state
		}
		if s.Primary {
			state = "main site; " + state
		}
		row := []string{c.proposed(s), state}
		if len(accounts) > 1 {
			row = []string{row[0], s.Account, state}
		}
		rows = append(rows, row)
	}
	c.Ask.List(rows)
}

// proposed is the address at a domain that is taken when no directory is named: the domain
// itself, or, where something is there, a directory named after what the app is for.
func (c *Conversation) proposed(s plan.Spot) string {
	if s.Free {
		return s.URL + "/"
	}
	return s.URL + "/" + c.kind() + "/"
}

// address puts what was typed into a request.
func (c *Conversation) address(word string, spots []plan.Spot, r *plan.Request) (what, remedy string) {
	word = strings.TrimSpace(word)
	scheme, bare, found := strings.Cut(word, "://")
	if !found {
		scheme, bare = "", word
	}
	head, dir, slash := strings.Cut(bare, "/")
	if head == "" && scheme == "" && dir != "" { // /forum: on the main domain
		if i := slices.IndexFunc(spots, func(s plan.Spot) bool { return s.Primary }); i >= 0 {
			head = strconv.Itoa(i + 1)
		}
	}
	if head == "" && len(spots) > 1 || word == "" {
		return "this needs an answer", "Type a number, such as 1 or 1/forum, or an address."
	}
	at := func(s plan.Spot, dir string) { r.At, r.Account = s.URL+"/"+strings.Trim(dir, "/"), s.Account }
	if n, err := strconv.Atoi(head); err == nil && n >= 1 && n <= len(spots) {
		if at(spots[n-1], dir); !slash {
			r.At = c.proposed(spots[n-1])
		}
		return "", ""
	}
	if n, err := strconv.Atoi(head); err == nil {
		return fmt.Sprintf("there is no line %d: they go from 1 to %d", n, len(spots)), "Type one of them, or an address."
	}
	for _, s := range spots {
		is, host, _ := strings.Cut(s.URL, "://")
		if scheme != "" && scheme != is && (head == s.Domain || head == host) {
			return "the account has this domain at " + s.URL, "Write that, or change the account's url of the domain."
		}
		if head == s.Domain || head == host {
			at(s, dir)
			return "", ""
		}
	}
	if !strings.ContainsAny(head, ".:") && len(spots) == 1 {
		at(spots[0], bare)
		return "", ""
	}
	if !strings.ContainsAny(head, ".:") {
		return "that is a directory without a domain", "Put the domain's number before it: 1/" + bare + "."
	}
	r.At, r.Account = word, c.Account
	return "", ""
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
	if len(look.InTheWay) > 0 && c.Request.Answers[answer.Occupied] != "set-aside" {
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
		"yes: it is moved to Tivset's own folder in the account; undoing the install puts it back. no: choose another place.")
	if err != nil || yes == "no" {
		if err == nil {
			err = c.elsewhere()
		}
		return err
	}
	c.put(answer.Occupied, "set-aside")
	c.mine[answer.Occupied] = true
	return nil
}

// elsewhere has the place chosen again.
func (c *Conversation) elsewhere() error {
	c.Ask.Note("  Then choose another place.")
	c.rewind(addressItem)
	return errRewound
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
