package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/core"
	"tivset/internal/records/home"
)

// Completions for the shell. They never fail: where nothing can be found out
// nothing is offered.

type completer = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective)

// Only offers words for the first argument.
func Only(words func(context.Context) []string) completer {
	return func(c *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return words(c.Context()), cobra.ShellCompDirectiveNoFileComp
	}
}

// Option offers words for an option's value.
func Option(c *cobra.Command, name string, words func(context.Context) []string, more cobra.ShellCompDirective) {
	_ = c.RegisterFlagCompletionFunc(name, func(c *cobra.Command, _ []string, _ string) ([]string,
		cobra.ShellCompDirective) {
		return words(c.Context()), cobra.ShellCompDirectiveNoFileComp | more
	})
}

func (a *App) AppWords(ctx context.Context) []string {
	c, _, err := a.Catalogue(ctx)
	if err != nil {
		return nil
	}
	all, _, err := c.Cards()
	if err != nil {
		return nil
	}
	var out []string
	for _, e := range all {
		out = append(out, e.App+"\t"+e.Summary)
	}
	return out
}

func (a *App) AccountWords(ctx context.Context) []string {
	_, names, done := a.accountNames(ctx)
	defer done()
	return names
}

// accountNames are the accounts that are kept, and where they are read from; none where
// that cannot be had: completing says no errors.
func (a *App) accountNames(ctx context.Context) (h home.Home, names []string, done func()) {
	h, done, err := a.AccountsHome(ctx)
	if err != nil {
		return h, nil, func() {}
	}
	if names, err = h.Accounts(); err != nil {
		names = nil
	}
	return h, names, done
}

// DomainWords offers the addresses of every account's domains.
func (a *App) DomainWords(ctx context.Context) []string {
	h, names, done := a.accountNames(ctx)
	defer done()
	var out []string
	for _, name := range names {
		x, err := h.Account(name)
		if err != nil {
			continue
		}
		for _, d := range x.Domains {
			_, host, _ := strings.Cut(d.URL, "://")
			out = append(out, host+"/")
		}
	}
	return out
}

func (a *App) fromLedger(ctx context.Context, list func(*core.Core) ([]string, error)) []string {
	s, done, err := a.Core(ctx)
	if err != nil {
		return nil
	}
	defer done()
	words, err := list(s)
	if err != nil {
		return nil
	}
	return words
}

func (a *App) SiteWords(ctx context.Context) []string {
	return a.fromLedger(ctx, func(s *core.Core) ([]string, error) { return s.Book.Ledger.Addresses(ctx) })
}

func (a *App) UnfinishedWords(ctx context.Context) []string {
	return a.fromLedger(ctx, func(s *core.Core) ([]string, error) {
		jobs, err := s.Desk.Unfinished(ctx)
		var out []string
		for _, j := range jobs {
			out = append(out, j.ID)
		}
		return out, err
	})
}

func (a *App) AllSiteWords(c *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	return a.SiteWords(c.Context()), cobra.ShellCompDirectiveNoFileComp
}
