package talk

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/fault"
	"tivset/internal/plan"
)

// agree plans, shows the review, and asks until the owner says yes; answers
// can be changed and saved on the way.
func (c *Conversation) agree(ctx context.Context) (*plan.Plan, error) {
	for {
		plan, err := c.Planner.Plan(ctx, *c.Request)
		if err != nil {
			if again := c.mend(ctx, err); again != nil {
				return nil, again
			}
			continue
		}
		c.Ask.Review(plan) // even in a quiet run: it is what the question is about
		c.Ask.Explain("y installs; c changes an answer; s saves the answers to a file; n ends.")
		word, err := c.Ask.Word(ctx, "Install? [y/N]")
		switch {
		case err != nil:
			return nil, errNotInstalled()
		case word == "y" || word == "yes":
			return plan, nil
		case word == "s":
			err = c.save(ctx, plan)
		case word == "c" || word == "<":
			err = c.change(ctx)
		default:
			return nil, errNotInstalled()
		}
		if err != nil {
			return nil, err
		}
	}
}

// mend shows why there is no plan. Where something was asked, an answer can be
// changed; else the fault ends the install.
func (c *Conversation) mend(ctx context.Context, err error) error {
	if len(c.trail) == 0 || ctx.Err() != nil {
		return err
	}
	c.Ask.Fault(err)
	word, wordErr := c.Ask.Word(ctx, "Change an answer? [Y/n]")
	if wordErr != nil || word == "n" || word == "no" {
		f := *fault.Of(err)
		return fault.New(f.Kind, "not installed", "", "Nothing was touched.")
	}
	return c.change(ctx)
}

// change lists every answer and has one asked again.
func (c *Conversation) change(ctx context.Context) error {
	c.heading = ""
	if len(c.trail) == 0 { // everything was given with the command: now it can be changed
		c.done[placeItem] = true
	}
	for _, g := range answer.Groups {
		c.open[g] = true
	}
	items, err := c.items()
	if err != nil {
		return err
	}
	shownAs, err := c.answersShown()
	if err != nil {
		return err
	}
	var all []item
	for _, x := range items {
		c.done[x.id] = true
		if shownAs.of[x.id] != "" {
			all = append(all, x)
		}
	}
	slices.SortStableFunc(all, func(a, b item) int {
		return slices.Index(shownAs.order, a.id) - slices.Index(shownAs.order, b.id)
	})
	for i, x := range all {
		if i == 0 || all[i-1].group != x.group {
			c.Ask.Heading(x.group)
		}
		c.Ask.Note(fmt.Sprintf("  %2d  %s", i+1, shownAs.of[x.id]))
	}
	word, err := c.Ask.Ask(ctx, Prompt{Text: "Which one? Its number, or nothing to go back to the review",
		Check: func(word string) (string, string) {
			if n, err := strconv.Atoi(word); word != "" && (err != nil || n < 1 || n > len(all)) {
				return "that is none of them", fmt.Sprintf("Type a number from 1 to %d.", len(all))
			}
			return "", ""
		}})
	if errors.Is(err, ErrBack) || err == nil && word == "" {
		return nil
	}
	if err != nil {
		return errNotInstalled()
	}
	n, err := strconv.Atoi(word)
	if err != nil {
		return err
	}
	return c.anew(ctx, all[n-1])
}

// anew asks one thing again, and what follows from it. Going back leaves all as
// it was.
func (c *Conversation) anew(ctx context.Context, x item) error {
	before, request := maps.Clone(c.done), *c.Request
	request.Answers = maps.Clone(request.Answers)
	c.again(x.id)
	switch err := c.one(ctx, x); {
	case errors.Is(err, ErrBack):
		c.done, *c.Request = before, request
		return nil
	case errors.Is(err, ErrNoAnswer):
		return errNotInstalled()
	case err != nil && !errors.Is(err, errRewound):
		return err
	}
	return c.goOn(ctx)
}

// worded are answers as people read them, by item, and the items' order.
type worded struct {
	of    map[string]string
	order []string
}

func (w *worded) add(id, text string) {
	w.of[id] = text
	w.order = append(w.order, id)
}

// answersShown words every answer.
func (c *Conversation) answersShown() (worded, error) {
	out := worded{of: map[string]string{}}
	if !c.fixed["app"] {
		out.add("app", "App: "+c.Request.App)
	}
	if !c.fixed["at"] {
		domain, dir := c.address()
		out.add("domain", "Domain: "+domain)
		out.add("directory", "Directory: "+dir)
	}
	all, err := c.Planner.Questions(*c.Request)
	for i, q := range all {
		if i > 0 && q.Group == "Admin" && all[i-1].Group == "What" {
			out.add(releaseItem, "Release: "+c.releaseShown())
		}
		out.add(q.ID, q.Ask+": "+shown(q))
	}
	return out, err
}

// address takes the address apart as it was asked for.
func (c *Conversation) address() (domain, dir string) {
	scheme, rest, _ := strings.Cut(c.Request.At, "://")
	host, dir, _ := strings.Cut(rest, "/")
	if dir == "" {
		dir = "/"
	}
	return scheme + "://" + host, dir
}

// save writes the answers to a file that is not there yet.
func (c *Conversation) save(ctx context.Context, plan *plan.Plan) error {
	name, err := c.Ask.Ask(ctx, Prompt{Text: "Save to the file", Fallback: plan.App + ".yaml",
		Help: "A name, or a path. Secrets are left out. To install from it: " + fault.Call("install", "--answers", "FILE"),
		Check: func(name string) (string, string) {
			if _, err := os.Stat(name); err == nil {
				return "a file of this name is there already", "Choose another name."
			}
			if err := c.Save(name, plan); err != nil {
				f := fault.Of(err)
				return f.What, f.Remedy
			}
			return "", ""
		}})
	if errors.Is(err, ErrBack) {
		return nil
	}
	if err != nil {
		return errNotInstalled()
	}
	c.Ask.Good("saved; to install from it: " + fault.Call("install", "--answers", name))
	return nil
}
