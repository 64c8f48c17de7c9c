package command

import (
	"context"
	"fmt"
	"slices"
	"strconv"

	"tivset/internal/screen"
	"tivset/internal/secret"
	"tivset/internal/site"
)

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
