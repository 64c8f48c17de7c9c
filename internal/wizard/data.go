package wizard

import (
	"context"
	"fmt"

	"tivset/internal/answer"
	"tivset/internal/fault"
	"tivset/internal/secret"
)

// tryData tries a database that is not made by us. One to be made by hand is
// described first.
func (c *Conversation) tryData(ctx context.Context) error {
	q, err := c.find(answer.DataFrom)
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
			if _, err := c.Ask.Ask(ctx, Prompt{Text: "Press Enter when that is done",
				Help: "Tivset then signs in as the site will, and says what is still missing."}); err != nil {
				return err
			}
		}
		found, err := c.Planner.TryData(ctx, *c.Request)
		if err == nil {
			c.Ask.Good(fmt.Sprintf("%s answers: version %s, all rights, %d tables in it and none in the way", found.Name,
				found.Version, found.Tables))
			return nil
		}
		f := fault.Of(err)
		c.Ask.Refuse(f.What, f.Remedy)
		for _, d := range f.Details {
			c.Ask.Note("    " + d)
		}
		if !byHand || ctx.Err() != nil {
			for _, id := range []string{answer.DataFrom, answer.DataServer, answer.DataName, answer.DataUser,
				answer.DataPassword} {
				c.again(id)
				c.mine[id] = true
			}
			c.heading = ""
			return errRewound
		}
	}
}

// describeTask prints exactly what to make, with a password made here.
func (c *Conversation) describeTask() error {
	for _, id := range []string{answer.DataName, answer.DataUser} {
		q, err := c.find(id)
		if err != nil {
			return err
		}
		c.put(id, q.Answer)
	}
	if c.Request.Answers[answer.DataPassword] == "" {
		made, err := c.Maker.Password(24, secret.Alnum)
		if err != nil {
			return err
		}
		c.put(answer.DataPassword, made.Reveal())
	}
	task, err := c.Planner.DataTask(*c.Request)
	if err != nil {
		return err
	}
	c.Ask.Note("  Make in the host's control panel:")
	for _, line := range task {
		c.Ask.Note("  " + line)
	}
	return nil
}
