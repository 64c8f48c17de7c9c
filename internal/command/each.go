package command

import (
	"context"

	"github.com/spf13/cobra"

	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/screen"
)

// allOf lets a command mean all sites, or all of an account.
func allOf(c *cobra.Command, all *bool) {
	c.Flags().BoolVar(all, "all", false, "all sites; with --account all of that account")
}

// meant are the sites that a command means: those named, or all of them.
func (a *app) meant(ctx context.Context, s *core.Core, words []string, all bool) ([]string, error) {
	switch {
	case all && len(words) > 0:
		return nil, fault.New(
			fault.Usage,
			"--all does not go with the name of a site",
			words[0],
			"Leave one of the two out.",
		)
	case !all && len(words) == 0:
		return nil, fault.New(fault.Usage, "which site?", "", "Name it, or several; or say --all.")
	case !all:
		return words, nil
	}
	found, err := a.chosenSites(ctx, s, nil)
	for _, x := range found {
		words = append(words, x.Address)
	}
	if err == nil && len(words) == 0 {
		err = fault.New(fault.Usage, "there is no site yet", a.account, "See what can be installed with: tivset browse")
	}
	return words, err
}

// each does something with each of the sites that are named. One that fails does not keep
// the others from it. What it prints for programs is one document: that of the one site;
// of several, an array.
func (a *app) each(ctx context.Context, words []string, do func(word string) (document any, err error)) error {
	if len(words) == 1 {
		document, err := do(words[0])
		if err == nil && a.json {
			err = a.streams.WriteJSON(document)
		}
		return err
	}
	all, code := []any{}, 0
	for _, word := range words {
		document, err := do(word)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			code = max(code, screen.Code(err))
			if document = a.streams.Failed(err); !a.json {
				a.streams.Fault(err)
			}
		}
		all = append(all, document)
	}
	if a.json {
		if err := a.streams.WriteJSON(all); err != nil {
			return err
		}
	}
	if code != 0 {
		return &silent{code}
	}
	return nil
}
