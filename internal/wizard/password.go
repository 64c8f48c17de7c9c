package wizard

import (
	"context"
	"slices"
	"strconv"

	"tivset/internal/answer"
	"tivset/internal/question"
	"tivset/internal/secret"
)

const madeForYou = "made for you"

// password has one made, shows one first, or takes one that is typed twice.
func (c *Conversation) password(ctx context.Context, q question.Asked) (string, error) {
	word, err := c.Ask.Ask(ctx,
		Prompt{Above: "Enter has one made; show makes one and shows it; own is for one that you type.", Text: q.Text,
			Fallback: madeForYou, Help: q.Help,
			Check: func(word string) (string, string) {
				if !slices.Contains([]string{madeForYou, "show", "own", question.Generate}, word) {
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
	return question.Generate, nil
}

func (c *Conversation) madePassword(ctx context.Context) (string, error) {
	length, of := question.GeneratedLength, secret.All
	if n, err := strconv.Atoi(c.Request.Answers["admin.password-length"]); err == nil {
		length = n
	}
	if a := c.Request.Answers["admin.password-of"]; a != "" {
		of = secret.Alphabet(a)
	}
	for {
		made, err := c.Maker.Password(length, of)
		if err != nil {
			return "", err
		}
		c.Ask.Note("  " + made.Reveal())
		word, err := c.Ask.Ask(ctx, Prompt{Text: "Enter takes it, another makes another",
			Check: func(word string) (string, string) {
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
func (c *Conversation) ownPassword(ctx context.Context, q question.Asked) (string, error) {
	for {
		first := prompt(q)
		first.Text, first.Check = "Your password", func(v string) (string, string) {
			if v == "" || v == question.Generate {
				return "this needs an answer", ""
			}
			return q.Wrong(v)
		}
		typed, err := c.Ask.Ask(ctx, first)
		if err != nil {
			return "", err
		}
		c.Ask.Good("a guesser needs " + secret.Gauge(typed, c.Request.Answers["title"],
			c.Request.Answers[answer.AdminName]).Lasts)
		again, err := c.Ask.Ask(ctx, Prompt{Text: "The same once more", Unseen: true})
		if err != nil {
			return "", err
		}
		if typed == again {
			return typed, nil
		}
		c.Ask.Refuse("the two are not the same", "Type it twice again; all other answers are kept.")
	}
}
