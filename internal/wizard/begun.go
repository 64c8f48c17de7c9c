package wizard

import (
	"context"
	"errors"
	"fmt"

	"tivset/internal/answer"
	"tivset/internal/fault"
	"tivset/internal/plan"
)

// left ends an install that was not wanted after all, or not now: what was typed is kept.
func (c *Conversation) left() error {
	remedy := "Nothing was touched."
	if c.Keep() {
		remedy += " What you answered is kept, but for passwords; to go on with it: " + fault.Call("install")
	}
	return fault.NewAs(fault.NotInstalled, fault.NeedsConfirmation, notInstalled, "", remedy)
}

// notInstalled is what an install that was not wanted ends with.
const notInstalled = "not installed"

// Keep keeps what was answered here, without secrets, for an install later; false when
// nothing was answered or it cannot be kept.
func (c *Conversation) Keep() bool {
	if len(c.mine) == 0 && !c.begun {
		return false
	}
	text, err := c.answered().Format()
	return err == nil && c.Book.Home.KeepBegun(text) == nil
}

// answered are the answers so far, without secrets.
func (c *Conversation) answered() answer.File {
	r := *c.Request
	out := answer.File{Install: r.App, At: r.At, Release: r.Release, Answers: answer.Given{}}
	all, err := c.Planner.Questions(r)
	if err != nil { // so early that only app and address are known
		return out
	}
	for _, q := range all {
		if v := r.Answers[q.ID]; v != "" && !q.Secret {
			out.Answers[q.ID] = v
		}
	}
	return out
}

// goOnWithWhatWasBegun offers an install that was left, when nothing else was asked for.
func (c *Conversation) goOnWithWhatWasBegun(ctx context.Context) error {
	r := c.Request
	if r.App != "" || r.At != "" || len(r.Answers) > 0 {
		return nil
	}
	text, day, err := c.Book.Home.Begun()
	if err != nil {
		return nil //nolint:nilerr // there is none
	}
	begun, err := answer.Parse(text)
	if err != nil || !c.possible(begun) {
		return nil //nolint:nilerr // its app or address is no longer there
	}
	name := begun.Install
	if title := begun.Answers["title"]; title != "" {
		name = fmt.Sprintf("“%s” (%s)", title, begun.Install)
	}
	if begun.At != "" {
		name += " at " + begun.At
	}
	c.Ask.Explain("You began to install " + name + " on " + day.Format("2 January, 15:04") + ".")
	yes, err := c.yesNo(ctx, "Go on with it", "yes",
		"no begins anew; what you answered then is kept until you leave again.")
	switch {
	case errors.Is(err, ErrBack), err == nil && yes == "no":
		return nil
	case err != nil:
		return fault.NewAs(fault.NotInstalled, fault.NeedsConfirmation, notInstalled, "", "Nothing was touched.")
	}
	r.App, r.At, r.Release, r.Answers = begun.Install, begun.At, begun.Release, begun.Answers
	c.begun = true
	return nil
}

// possible says whether an install that was left can be gone on with as it is.
func (c *Conversation) possible(f answer.File) bool {
	if f.Install == "" {
		return false
	}
	if _, err := c.Book.Catalogue.Find(f.Install); err != nil {
		return false
	}
	if f.At == "" {
		return true
	}
	_, err := c.Planner.Questions(plan.Request{App: f.Install, At: f.At, Release: f.Release, Answers: f.Answers,
		Account: c.Account})
	return err == nil
}
