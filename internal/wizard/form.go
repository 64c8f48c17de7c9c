package wizard

import (
	"context"
	"errors"
	"maps"
	"os"
	"strings"

	"fmt"
	"tivset/internal/answer"
	"tivset/internal/answer/care"
	"tivset/internal/answer/language"
	"tivset/internal/fault"
	"tivset/internal/plan"
	"tivset/internal/question"
)

// Form is the review as what it is made of: lines that can be changed, each by its number.
type Form struct {
	Lines  []Line
	Folded map[string][]string // by group: what is taken as usual and has no line
}

// Line is one of them.
type Line struct {
	Group  string
	ID     string // app, at, release, the group for all of it, or that of a question
	Text   string // what holds, in words
	Number string // by which it is changed: 4, or 4a
}

// Lines that stand for a whole group, which their number unfolds.
const (
	DataLine = "Data"
	CareLine = "Care"
)

const usage = "y installs · 4 changes line 4 · ?4 explains it · more shows every line · save · n stops"

// agree plans, shows the review, and asks until the owner says yes.
func (c *Conversation) agree(ctx context.Context) (*plan.Plan, error) {
	var p *plan.Plan
	var form Form
	for show := true; ; {
		if show {
			var err error
			if p, form, err = c.review(ctx); err != nil {
				return nil, err
			}
			c.Ask.Explain(usage)
		}
		word, err := c.Ask.Word(ctx, c.subject(p)+"? y, n or a number:")
		line, _, numbered := form.numbered(word)
		show = true
		switch {
		case err != nil, word == "n", word == "no":
			return nil, c.left()
		case (word == "y" || word == "yes") && p != nil:
			return p, nil
		case word == "y" || word == "yes": // what was in its way may be gone
		case word == "more":
			c.unfold()
		case word == "save" || word == "s":
			err, show = c.save(ctx, p), false
		case numbered:
			err = c.change(ctx, line)
		default:
			c.explain(word, form)
			show = false
		}
		if err != nil {
			return nil, err
		}
	}
}

// subject says what the answer is about: a form may be taller than the screen.
func (c *Conversation) subject(p *plan.Plan) string {
	if p == nil {
		return "Install"
	}
	return "Install " + p.Title + " at " + strings.TrimSuffix(strings.TrimPrefix(p.Place.URL, "http://"), "/")
}

// review plans and shows the form. Where no plan comes of the answers, that is said, and
// the form shows them all the same, unless nothing of them came from here.
func (c *Conversation) review(ctx context.Context) (*plan.Plan, Form, error) {
	p, err := c.Planner.Plan(ctx, *c.Request)
	if err != nil && (len(c.mine) == 0 && !c.begun || ctx.Err() != nil) {
		return nil, Form{}, err
	}
	form, formErr := c.form()
	if formErr != nil {
		return nil, form, formErr
	}
	c.Ask.Review(p, form) // even in a quiet run: it is what the question is about
	if err != nil {
		c.Ask.Fault(err)
	}
	return p, form, nil
}

// unfold shows every line, or folds them again.
func (c *Conversation) unfold() {
	all := !c.open["Site"]
	for _, g := range answer.Groups {
		c.open[g] = all
	}
}

// form lists the lines.
func (c *Conversation) form() (Form, error) {
	e, err := c.Book.Catalogue.Find(c.Request.App)
	if err != nil {
		return Form{}, err
	}
	f := Form{Folded: map[string][]string{}, Lines: []Line{{Group: "Where", ID: addressItem, Text: c.Request.At}}}
	all, err := c.Planner.Questions(*c.Request)
	if err != nil {
		return f, err
	}
	for _, group := range answer.Groups[1:] {
		if group == "Site" {
			f.Lines = append(f.Lines, Line{Group: group, ID: appItem, Text: e.Title},
				Line{Group: group, ID: releaseItem, Text: "release " + c.releaseShown()})
		}
		f.add(group, all, c.open[group], c.mine)
	}
	c.numbers.give(f.Lines)
	return f, nil
}

// add adds a group's lines.
func (f *Form) add(group string, all []question.Asked, open bool, mine map[string]bool) {
	var of []question.Asked
	for _, q := range all {
		if q.Group == group && q.ID != answer.Licence && (!q.Quiet || q.What != "") {
			of = append(of, q)
		}
	}
	if whole := group == DataLine || group == CareLine; whole && !open && len(of) > 0 {
		f.Lines = append(f.Lines, Line{Group: group, ID: group, Text: together(group, of)})
		return
	}
	for _, q := range of {
		if text := short(q) + ": " + shown(q); open || !q.Rare || q.Given || mine[q.ID] || q.What != "" {
			f.Lines = append(f.Lines, Line{Group: group, ID: q.ID, Text: text})
		} else {
			f.Folded[group] = append(f.Folded[group], text)
		}
	}
}

// together words a group that stands on one line.
func together(group string, of []question.Asked) string {
	answers := map[string]string{}
	for _, q := range of {
		answers[q.ID] = q.Answer
	}
	if group == CareLine {
		return care.Of(answers).Sentence(answers["care.notify"] != "", "the admin")
	}
	var words []string
	for _, q := range of {
		if q.Answer != "" && (q.Given || !q.Rare) || q.ID == answer.DataFrom {
			words = append(words, short(q)+": "+shown(q))
		}
	}
	return strings.Join(words, " · ")
}

// change has a line answered anew, and then what follows from it. Going back leaves all as
// it was.
func (c *Conversation) change(ctx context.Context, l Line) error {
	if l.ID == l.Group { // it stands for several
		c.open[l.Group] = true
		return nil
	}
	c.heading = l.Group
	x := item{l.ID, l.Group, func(ctx context.Context) error { return c.question(ctx, l.ID) }}
	switch l.ID {
	case appItem:
		x.ask = c.chooseApp
	case addressItem:
		x.ask = c.chooseAddress
	case releaseItem:
		x.ask = c.chooseRelease
	}
	if err := c.allDone(); err != nil {
		return err
	}
	before, request := maps.Clone(c.done), *c.Request
	request.Answers = maps.Clone(request.Answers)
	app := c.Request.App
	err := c.one(ctx, x)
	switch {
	case err != nil:
	case l.ID == appItem && c.Request.App != app:
		c.forget()
	case l.ID == addressItem:
		c.again(addressItem)
		c.done[addressItem] = true
	}
	if err == nil {
		err = c.goOn(ctx)
	}
	switch {
	case errors.Is(err, ErrNoAnswer):
		return c.left()
	case err == nil, ctx.Err() != nil, fault.CodeOf(err) == fault.NotInstalled:
		return err
	case !errors.Is(err, ErrBack):
		c.Ask.Fault(err)
	}
	c.done, *c.Request = before, request
	return nil
}

// allDone marks what is not asked as done: only what follows from a change is asked then.
func (c *Conversation) allDone() error {
	items, err := c.items()
	for _, x := range items {
		c.done[x.id] = true
	}
	return err
}

// explain answers whatever is no answer: ?4 with what line 4 is, and the rest with what can
// be typed.
func (c *Conversation) explain(word string, f Form) {
	about, asked := strings.CutPrefix(word, "?")
	about = strings.TrimSpace(about)
	l, last, found := f.numbered(about)
	if !found && isNumber(about) {
		c.Ask.Explain(fmt.Sprintf("There is no line %s: they go from 1 to %d.", about, last))
		return
	}
	if !asked || !found {
		c.Ask.Explain(usage)
		return
	}
	help := map[string]string{
		appItem:     "What is installed; another app keeps title, name and e-mail.",
		addressItem: "Where visitors will find the site.",
		releaseItem: "The newest that fits is usually right. An older one only for a server that is too old for it.",
		DataLine:    "Where the site keeps its data; its number shows each part of it on a line of its own.",
		CareLine:    "How the site is looked after. Type its number to see and change it.",
	}[l.ID]
	if q, err := c.find(l.ID); err == nil && q.ID != "" {
		help = q.Text + ". " + q.Help
	}
	c.Ask.Explain(strings.TrimSpace(help))
}

// save writes the answers to a file that is not there yet.
func (c *Conversation) save(ctx context.Context, p *plan.Plan) error {
	if p == nil {
		c.Ask.Refuse("only answers that can be installed are saved", "Change what is named above first.")
		return nil
	}
	name, err := c.Ask.Ask(ctx, Prompt{Text: "Save to the file", Fallback: p.App + ".yaml",
		Help: "A name, or a path. Secrets are left out. To install from it: " + fault.Call("install", "--answers", "FILE"),
		Check: func(name string) (string, string) {
			if _, err := os.Stat(name); err == nil {
				return "a file of this name is there already", "Choose another name."
			}
			if err := c.Save(name, p); err != nil {
				f := fault.Of(err)
				return f.What, f.Remedy
			}
			return "", ""
		}})
	if errors.Is(err, ErrBack) {
		return nil
	}
	if err != nil {
		return c.left()
	}
	c.Ask.Good("saved; to install from it: " + fault.Call("install", "--answers", name))
	return nil
}

func (c *Conversation) releaseShown() string {
	if c.Request.Release != "" {
		return c.Request.Release
	}
	e, err := c.Book.Catalogue.Find(c.Request.App)
	if err != nil {
		return ""
	}
	return e.Newest().Release + ", the newest"
}

func short(q question.Asked) string {
	if q.Short != "" {
		return q.Short
	}
	return q.ID
}

// shown is what holds for a question, for people.
func shown(q question.Asked) string {
	switch {
	case q.Answer == "":
		return "none"
	case q.Secret && q.ID == answer.AdminPassword && q.Answer == question.Generate:
		return madeForYou
	case q.Secret:
		return "given"
	case q.ID == "language":
		return language.English(q.Answer)
	}
	return OneLine(q.Answer)
}
