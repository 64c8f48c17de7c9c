package command

import (
	"context"
	"fmt"

	"tivset/internal/fault"
	"tivset/internal/screen"
	"tivset/internal/secret"
)

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
