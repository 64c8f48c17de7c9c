package wizard

import (
	"context"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/answer/language"
	"tivset/internal/question"
	"tivset/internal/records/ledger"
)

// find looks a question up as it is now: its default and whether it is needed
// follow from other answers.
func (c *Conversation) find(id string) (question.Asked, error) {
	all, err := c.Planner.Questions(*c.Request)
	for _, q := range all {
		if q.ID == id {
			return q, err
		}
	}
	return question.Asked{}, err
}

// question asks one of the questions.
func (c *Conversation) question(ctx context.Context, id string) error {
	q, err := c.find(id)
	if err != nil || q.ID == "" {
		return err
	}
	if q.What != "" && !c.mine[id] {
		c.Ask.Refuse(q.ID+": "+q.What, q.Remedy)
		q.Answer = q.Default
	}
	var value string
	switch {
	case id == answer.Licence:
		return c.licence(ctx)
	case id == answer.AdminPassword && q.Default == question.Generate:
		value, err = c.password(ctx, q)
	case id == "language":
		value, err = c.language(ctx, q)
	case id == answer.AdminEmail:
		value, err = c.Ask.Ask(ctx, c.email(ctx, q))
	case q.Kind == "yes-no":
		value, err = c.yesNo(ctx, q.Text, q.Answer, q.Help)
	case q.Kind == "long-text":
		value, err = c.longText(ctx, q)
	default:
		value, err = c.Ask.Ask(ctx, prompt(q))
	}
	if err != nil {
		return err
	}
	if value == emptied && !q.Needed && q.Default == "" {
		value = ""
	}
	if id == answer.DataFrom && value != q.Answer { // the names belonged to another database
		for _, name := range []string{answer.DataName, answer.DataUser, answer.DataPassword} {
			c.put(name, "")
			delete(c.done, name)
		}
	}
	c.again(id)
	c.put(id, value)
	return c.dropRuledOut()
}

// language takes a language by its tag or by a name of it.
func (c *Conversation) language(ctx context.Context, q question.Asked) (string, error) {
	p := prompt(q)
	var named []string
	for _, tag := range q.Options {
		named = append(named, language.Named(tag))
		p.Words = append(p.Words, language.English(tag), language.Own(tag))
	}
	p.Text, p.Above, p.Fallback = q.Text, "There are "+strings.Join(named, "; ")+".", language.English(q.Answer)
	p.Check = func(word string) (string, string) {
		if tag := language.Find(word, q.Options); tag != "" {
			return q.Wrong(tag)
		}
		return q.Wrong(word)
	}
	word, err := c.Ask.Ask(ctx, p)
	if tag := language.Find(word, q.Options); tag != "" {
		word = tag
	}
	return word, err
}

// email proposes the address that the newest site's admin has; Tab completes domains.
func (c *Conversation) email(ctx context.Context, q question.Asked) Prompt {
	p := prompt(q)
	if a, err := c.Book.Account(c.Request.Account, c.Request.At); err == nil {
		for _, d := range a.Domains {
			p.Words = append(p.Words, d.Name)
		}
	}
	if sites, err := c.Book.Ledger.Sites(ctx); err == nil && p.Fallback == "" && len(sites) > 0 {
		newest := slices.MaxFunc(sites, func(a, b ledger.Site) int { return a.InstalledAt.Compare(b.InstalledAt) })
		p.Fallback = newest.Admin.Email
	}
	return p
}

// dropRuledOut takes away answers of this conversation to questions that the
// other answers rule out by now.
func (c *Conversation) dropRuledOut() error {
	all, err := c.Planner.Questions(*c.Request)
	if err != nil {
		return err
	}
	for id := range c.Request.Answers {
		applies := slices.ContainsFunc(all, func(q question.Asked) bool { return q.ID == id })
		if !applies && c.done[id] {
			delete(c.Request.Answers, id)
			delete(c.done, id)
		}
	}
	return nil
}

// emptied is what takes an answer away that was given before.
const emptied = "-"

func prompt(q question.Asked) Prompt {
	p := Prompt{Text: q.Text, Fallback: q.Answer, Help: q.Help, Unseen: q.Secret}
	if q.Secret {
		p.Fallback = ""
	}
	options := strings.Join(q.Options, ", ")
	if q.Kind == "several-of" {
		options += "; commas between them"
	}
	switch {
	case len(q.Options) == 0:
	case len(q.Text+options+p.Fallback) > 60: // too much for one line
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
func (c *Conversation) yesNo(ctx context.Context, text, fallback, help string) (string, error) {
	whole := func(word string) string {
		return map[string]string{"y": "yes", "yes": "yes", "n": "no", "no": "no"}[strings.ToLower(strings.TrimSpace(word))]
	}
	word, err := c.Ask.Ask(ctx, Prompt{Text: text + "? yes or no", Fallback: fallback, Help: help,
		Check: func(word string) (string, string) {
			if whole(word) == "" {
				return fmt.Sprintf("%q is neither yes nor no", word), "Type yes or no."
			}
			return "", ""
		}})
	return whole(word), err
}

// longText takes lines until an empty one.
func (c *Conversation) longText(ctx context.Context, q question.Asked) (string, error) {
	first := prompt(q)
	first.Text = q.Text + " (several lines; an empty one ends it)"
	first.Fallback = OneLine(first.Fallback)
	given, err := c.Ask.Ask(ctx, first)
	if err != nil || given == "" || given == first.Fallback || given == emptied {
		if given == first.Fallback {
			given = q.Answer
		}
		return given, err
	}
	lines := []string{given}
	for {
		line, err := c.Ask.Ask(ctx, Prompt{Text: "  …", Check: func(line string) (string, string) {
			return q.Wrong(strings.Join(append(slices.Clone(lines), line), "\n") + "x")
		}})
		if err != nil || line == "" {
			return strings.Join(lines, "\n"), err
		}
		lines = append(lines, line)
	}
}

// licence asks for the licence to be accepted, and shows it on request.
func (c *Conversation) licence(ctx context.Context) error {
	e, err := c.Book.Catalogue.Find(c.Request.App)
	if err != nil {
		return err
	}
	for {
		word, err := c.Ask.Ask(ctx, Prompt{Text: "Accept the " + e.Licence.Name + "? yes, no, or show", Fallback: "no",
			Help: "The app can only be installed when its licence is accepted. show prints it."})
		if err != nil {
			return err
		}
		switch strings.ToLower(strings.TrimSpace(word)) {
		case "y", "yes":
			c.put(answer.Licence, "accept")
			return nil
		case "s", "show":
			text, err := fs.ReadFile(e.Files(), e.Licence.Text)
			if err != nil {
				return err
			}
			c.Ask.Note(string(text))
		default:
			c.Ask.Refuse(e.Title+" can only be installed when its licence is accepted",
				"Type yes to accept it; < goes back, Ctrl-C ends.")
		}
	}
}
