package command

import (
	"context"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/screen"
	"tivset/internal/secret"
	"tivset/internal/site"
)

// find looks a question up as it is now: its default and whether it is needed
// follow from other answers.
func (c *conversation) find(id string) (site.Asked, error) {
	all, err := c.service.Questions(*c.request)
	for _, q := range all {
		if q.ID == id {
			return q, err
		}
	}
	return site.Asked{}, err
}

// question asks one of the questions.
func (c *conversation) question(ctx context.Context, id string) error {
	q, err := c.find(id)
	if err != nil || q.ID == "" {
		return err
	}
	if q.What != "" && !c.mine[id] {
		c.ask.Refuse(q.ID+": "+q.What, q.Remedy)
		q.Answer = q.Default
	}
	var value string
	switch {
	case id == "licence":
		return c.licence(ctx)
	case id == "admin.password":
		value, err = c.password(ctx, q)
	case q.Kind == "yes-no":
		value, err = c.yesNo(ctx, q.Ask, q.Answer, q.Help)
	case q.Kind == "long-text":
		value, err = c.longText(ctx, q)
	default:
		value, err = c.ask.Ask(ctx, prompt(q))
	}
	if err != nil {
		return err
	}
	if value == emptied && !q.Needed && q.Default == "" {
		value = ""
	}
	if id == "data.from" && value != q.Answer { // the names belonged to another database
		for _, name := range []string{"data.name", "data.user", "data.password"} {
			c.put(name, "")
			delete(c.done, name)
		}
	}
	c.again(id)
	c.put(id, value)
	return c.dropRuledOut()
}

// dropRuledOut takes away answers of this conversation to questions that the
// other answers rule out by now.
func (c *conversation) dropRuledOut() error {
	all, err := c.service.Questions(*c.request)
	if err != nil {
		return err
	}
	for id := range c.request.Answers {
		applies := slices.ContainsFunc(all, func(q site.Asked) bool { return q.ID == id })
		if !applies && c.done[id] {
			delete(c.request.Answers, id)
			delete(c.done, id)
		}
	}
	return nil
}

// emptied is what takes an answer away that was given before.
const emptied = "-"

func prompt(q site.Asked) screen.Prompt {
	p := screen.Prompt{Text: q.Ask, Fallback: q.Answer, Help: q.Help, Unseen: q.Secret}
	if q.Secret {
		p.Fallback = ""
	}
	options := strings.Join(q.Options, ", ")
	if q.Kind == "several-of" {
		options += "; commas between them"
	}
	switch {
	case len(q.Options) == 0:
	case len(q.Ask+options+p.Fallback) > 60: // too much for one line
		p.Above = "There are " + options + "."
	default:
		p.Text += " (" + options + ")"
	}
	if q.Form != "" {
		p.Help = strings.TrimSpace(p.Help + " The form is: " + q.Form + ".")
	}
	switch {
	case !q.Needed && q.Answer == "":
		p.Text += " (may stay empty)"
	case !q.Needed && q.Default == "":
		p.Help = strings.TrimSpace(p.Help + " - takes the answer away.")
	}
	p.Check = func(value string) (string, string) {
		if value == "" && q.Needed {
			return "this needs an answer", ""
		}
		if value == "" || value == emptied && !q.Needed && q.Default == "" {
			return "", ""
		}
		return q.Wrong(value)
	}
	return p
}

// yesNo takes y and n as well.
func (c *conversation) yesNo(ctx context.Context, text, fallback, help string) (string, error) {
	whole := func(word string) string {
		return map[string]string{"y": "yes", "yes": "yes", "n": "no", "no": "no"}[strings.ToLower(strings.TrimSpace(word))]
	}
	word, err := c.ask.Ask(ctx, screen.Prompt{Text: text + "? yes or no", Fallback: fallback, Help: help, Check: func(word string) (string, string) {
		if whole(word) == "" {
			return fmt.Sprintf("%q is neither yes nor no", word), "Type yes or no."
		}
		return "", ""
	}})
	return whole(word), err
}

// longText takes lines until an empty one.
func (c *conversation) longText(ctx context.Context, q site.Asked) (string, error) {
	first := prompt(q)
	first.Text = q.Ask + " (several lines; an empty one ends it)"
	first.Fallback = screen.OneLine(first.Fallback)
	given, err := c.ask.Ask(ctx, first)
	if err != nil || given == "" || given == first.Fallback || given == emptied {
		if given == first.Fallback {
			given = q.Answer
		}
		return given, err
	}
	lines := []string{given}
	for {
		line, err := c.ask.Ask(ctx, screen.Prompt{Text: "  …", Check: func(line string) (string, string) {
			return q.Wrong(strings.Join(append(slices.Clone(lines), line), "\n") + "x")
		}})
		if err != nil || line == "" {
			return strings.Join(lines, "\n"), err
		}
		lines = append(lines, line)
	}
}

// more shows what will be taken for the questions that are folded away, and
// opens them on request.
func (c *conversation) more(ctx context.Context, group string, folded []site.Asked) error {
	var taken []string
	for _, q := range folded {
		taken = append(taken, short(q)+": "+shown(q))
	}
	if group == "What" {
		taken = append(taken, "release: "+c.releaseShown())
	}
	c.ask.Explain("As usual: " + strings.Join(taken, " · "))
	yes, err := c.yesNo(ctx, "Choose any of these yourself", "no", "yes asks for each of them in turn, with what is usual in brackets.")
	if err != nil {
		return err
	}
	c.open[group] = yes == "yes"
	return nil
}

func short(q site.Asked) string {
	if q.Short != "" {
		return q.Short
	}
	return q.ID
}

// shown is what holds for a question, for people.
func shown(q site.Asked) string {
	switch {
	case q.Answer == "":
		return "none"
	case q.Secret && q.ID == "admin.password" && q.Answer == site.Generate:
		return madeForYou
	case q.Secret:
		return "given"
	}
	return screen.OneLine(q.Answer)
}

func (c *conversation) releaseShown() string {
	if c.request.Release != "" {
		return c.request.Release
	}
	e, err := c.service.Catalogue.Find(c.request.App)
	if err != nil {
		return ""
	}
	return e.Newest().Release + ", the newest"
}

// licence asks for the licence to be accepted, and shows it on request.
func (c *conversation) licence(ctx context.Context) error {
	e, err := c.service.Catalogue.Find(c.request.App)
	if err != nil {
		return err
	}
	for {
		word, err := c.ask.Ask(ctx, screen.Prompt{Text: "Accept the " + e.Licence.Name + "? yes, no, or show", Fallback: "no", Help: "The app can only be installed when its licence is accepted. show prints it."})
		if err != nil {
			return err
		}
		switch strings.ToLower(strings.TrimSpace(word)) {
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

const madeForYou = "made for you"

// password has one made, shows one first, or takes one that is typed twice.
func (c *conversation) password(ctx context.Context, q site.Asked) (string, error) {
	word, err := c.ask.Ask(ctx, screen.Prompt{Above: "Enter has one made; show makes one and shows it; own is for one that you type.", Text: q.Ask, Fallback: madeForYou, Help: q.Help,
		Check: func(word string) (string, string) {
			if !slices.Contains([]string{madeForYou, "show", "own", site.Generate}, word) {
				return "passwords are typed unseen", "Type own first; or show, or nothing."
			}
			return "", ""
		}})
	switch {
	case err != nil:
		return "", err
	case word == "show":
		return c.madePassword(ctx)
	case word == "own":
		return c.ownPassword(ctx, q)
	}
	return site.Generate, nil
}

func (c *conversation) madePassword(ctx context.Context) (string, error) {
	length, of := site.GeneratedLength, secret.All
	if n, err := strconv.Atoi(c.request.Answers["admin.password-length"]); err == nil {
		length = n
	}
	if a := c.request.Answers["admin.password-of"]; a != "" {
		of = secret.Alphabet(a)
	}
	for {
		made, err := c.service.Maker.Password(length, of)
		if err != nil {
			return "", err
		}
		c.ask.Note("  " + made.Reveal())
		word, err := c.ask.Ask(ctx, screen.Prompt{Text: "Enter takes it, another makes another", Check: func(word string) (string, string) {
			if word != "" && word != "another" {
				return "type another, or nothing", ""
			}
			return "", ""
		}})
		if err != nil || word == "" {
			return made.Reveal(), err
		}
	}
}

// ownPassword asks twice, until both are the same.
func (c *conversation) ownPassword(ctx context.Context, q site.Asked) (string, error) {
	for {
		first := prompt(q)
		first.Text, first.Check = "Your password", func(v string) (string, string) {
			if v == "" || v == site.Generate {
				return "this needs an answer", ""
			}
			return q.Wrong(v)
		}
		typed, err := c.ask.Ask(ctx, first)
		if err != nil {
			return "", err
		}
		c.ask.Good(fmt.Sprintf("it scores %d of 100", secret.Rate(typed, c.request.Answers["title"], c.request.Answers["admin.name"]).Points))
		again, err := c.ask.Ask(ctx, screen.Prompt{Text: "The same once more", Unseen: true})
		if err != nil {
			return "", err
		}
		if typed == again {
			return typed, nil
		}
		c.ask.Refuse("the two are not the same", "Type it twice again; all other answers are kept.")
	}
}

// tryData tries a database that is not made by us. One to be made by hand is
// described first.
func (c *conversation) tryData(ctx context.Context) error {
	q, err := c.find("data.from")
	if err != nil {
		return err
	}
	byHand := q.Answer == "by-hand"
	if byHand {
		if err := c.describeTask(); err != nil {
			return err
		}
	}
	for {
		if byHand {
			if _, err := c.ask.Ask(ctx, screen.Prompt{Text: "Press Enter when that is done", Help: "Tivset then signs in as the site will, and says what is still missing."}); err != nil {
				return err
			}
		}
		found, err := c.service.TryData(ctx, *c.request)
		if err == nil {
			c.ask.Good(fmt.Sprintf("%s answers: version %s, all rights, %d tables in it and none in the way", found.Name, found.Version, found.Tables))
			return nil
		}
		f := fault.Of(err)
		c.ask.Refuse(f.What, f.Remedy)
		for _, d := range f.Details {
			c.ask.Note("    " + screen.Clean(d))
		}
		if !byHand || ctx.Err() != nil {
			c.open["Data"] = true
			c.rewind("data.name")
			return errRewound
		}
	}
}

// describeTask prints exactly what to make, with a password made here.
func (c *conversation) describeTask() error {
	for _, id := range []string{"data.name", "data.user"} {
		q, err := c.find(id)
		if err != nil {
			return err
		}
		c.put(id, q.Answer)
	}
	if c.request.Answers["data.password"] == "" {
		made, err := c.service.Maker.Password(24, secret.Alnum)
		if err != nil {
			return err
		}
		c.put("data.password", made.Reveal())
	}
	task, err := c.service.DataTask(*c.request)
	if err != nil {
		return err
	}
	c.ask.Note("  Make in the hosting's own pages:")
	for _, line := range task {
		c.ask.Note("  " + screen.Clean(line))
	}
	return nil
}
