package talk

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"tivset/internal/hosting/account"

	"tivset/internal/accounts"
	"tivset/internal/fault"
	"tivset/internal/site"
)

// NewAccount is the conversation in which an account comes together.
type NewAccount struct {
	Ask      Asker
	Book     *site.Book
	Accounts *accounts.Keeper
	Env      func(string) string // the environment's variables
	Truster  Truster

	account *account.Account
	asked   int // questions answered
}

// Truster says what an account's server shows for itself ("key" or
// "certificate"), and gives the function that keeps it: with "" that only tells
// what is shown.
type Truster func(ctx context.Context, x *account.Account) (what string,
	trust func(print string) (shown string, err error), err error)

// Run asks for an account of a name, finds out what it can, and keeps it.
func (c *NewAccount) Run(ctx context.Context, name string, replace bool) error {
	names, err := c.Book.Home.Accounts()
	if err != nil {
		return err
	}
	if slices.Contains(names, name) && !replace {
		return fault.New(fault.Decision, "an account of this name is kept already", name,
			"Add --replace to describe it anew.")
	}
	defer func() { _ = c.Book.Vault.Forget(name + drafted) }()
	c.account = &account.Account{Name: name, Store: account.DefaultStore}
	parts := []func(context.Context) error{c.files, c.domains, c.databases, c.keep}
	for at := 0; at < len(parts); {
		asked := c.asked
		switch err := parts[at](ctx); {
		case errors.Is(err, ErrBack):
			if c.asked == asked { // at its first question
				at = max(0, at-1)
			}
		case err != nil:
			return endedTalk(err)
		default:
			at++
		}
	}
	return nil
}

// question asks one, and counts those answered: “<” goes to the beginning of a
// part, and from there to the part before.
func (c *NewAccount) question(ctx context.Context, p Prompt) (string, error) {
	answer, err := c.Ask.Ask(ctx, p)
	if err == nil {
		c.asked++
	}
	return answer, err
}

// endedTalk words a conversation that was left.
func endedTalk(err error) error {
	if errors.Is(err, ErrNoAnswer) || errors.Is(err, context.Canceled) {
		return fault.New(fault.Decision, "nothing is kept", "", "Begin again when you are ready.")
	}
	return err
}

// one asks for one of some words.
func (c *NewAccount) one(ctx context.Context, text, fallback, help string, options ...string) (string, error) {
	return c.question(ctx, Prompt{Text: text + " (" + strings.Join(options, ", ") + ")", Fallback: fallback, Help: help,
		Check: func(value string) (string, string) {
			if !slices.Contains(options, value) {
				return fmt.Sprintf("%q cannot be chosen", value), "Choose one of: " + strings.Join(options, ", ") + "."
			}
			return "", ""
		}})
}

// text asks for something that is needed, unless it has a fallback.
func (c *NewAccount) text(ctx context.Context, text, fallback, help string) (string, error) {
	return c.question(ctx, Prompt{Text: text, Fallback: fallback, Help: help, Check: func(value string) (string, string) {
		if strings.TrimSpace(value) == "" {
			return "this needs an answer", ""
		}
		return "", ""
	}})
}

// keep shows what came together, and keeps it.
func (c *NewAccount) keep(ctx context.Context) error {
	shown := *c.account
	shown.Login = nil
	shown.Databases = nil
	for _, d := range c.account.Databases {
		if d.Admin != nil {
			d.Admin = &account.Login{User: d.Admin.User}
		}
		shown.Databases = append(shown.Databases, d)
	}
	text, err := shown.Format()
	if err != nil {
		return err
	}
	c.Ask.Heading("The account")
	for _, line := range strings.Split(strings.TrimSpace(string(text)), "\n") {
		c.Ask.Note("  " + line)
	}
	if !c.Ask.Confirm(ctx, "Keep it?") {
		return fault.New(fault.Decision, "nothing is kept", c.account.Name,
			"Begin again, or write the account's file: docs/hosting.md")
	}
	whole, err := c.account.Format()
	if err != nil {
		return err
	}
	if _, err := c.Accounts.Add(c.account.Name, whole, true, c.Env); err != nil {
		return err
	}
	return nil
}
