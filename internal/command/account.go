package command

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/screen"
	"tivset/internal/site"
)

func (a *app) accounts() *cobra.Command {
	return a.group("account", "Hosting accounts", a.accountAdd(), a.accountList(), a.accountShow(), a.accountTest(), a.accountTrust(), a.accountForget())
}

func (a *app) accountAdd() *cobra.Command {
	var from string
	var replace bool
	c := &cobra.Command{
		Use:   "add NAME [--from FILE]",
		Short: "Add a hosting account, from its file or by asking",
		Long: "With --from, takes the account's file (docs/hosting.md). Without, on a terminal, asks how the\n" +
			"files are reached, finds out what it can by itself, and shows what it found before it keeps it.",
		Example: "  tivset account add quillmere\n  tivset account add quillmere --from quillmere.yaml",
		Args:    takes(1, 1, "NAME [--from FILE]"), Annotations: noDryRun(),
		RunE: func(c *cobra.Command, args []string) error {
			if from == "" && a.streams.Asks() {
				return a.askAccount(c.Context(), args[0], replace)
			}
			if from == "" {
				return fault.New(fault.Usage, "the account's file is missing", "", "Write: tivset account add "+args[0]+" --from FILE")
			}
			text, err := a.readFile(from)
			if err != nil {
				return err
			}
			s, done, err := a.service(c.Context())
			if err != nil {
				return err
			}
			defer done()
			added, err := s.AddAccount(args[0], text, replace, a.world.Env)
			if err != nil {
				return err
			}
			if a.json {
				return a.streams.WriteJSON(added)
			}
			a.streams.Print("The account %s is kept. Try it with: tivset account test %s", added.Name, added.Name)
			return nil
		},
	}
	c.Flags().StringVar(&from, "from", "", "the account's file; - for standard input")
	c.Flags().BoolVar(&replace, "replace", false, "replace an account of the same name")
	return c
}

func (a *app) readFile(name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(io.LimitReader(a.streams.In, 1<<20))
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, fault.New(fault.Usage, "the file cannot be read", name, "Check its name.").Because(err)
	}
	return text, nil
}

func (a *app) accountList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the accounts", Example: "  tivset account list", Args: takes(0, 0, ""),
		RunE: func(*cobra.Command, []string) error {
			h := a.world.home()
			names, err := h.Accounts()
			if err != nil {
				return err
			}
			all := []*account.Account{}
			for _, n := range names {
				one, err := h.Account(n)
				if err != nil {
					return err
				}
				all = append(all, one)
			}
			if a.json {
				return a.streams.WriteJSON(all)
			}
			if len(all) == 0 {
				a.streams.Say("There is no account yet. Add one with: tivset account add NAME")
				return nil
			}
			var rows [][]string
			for _, x := range all {
				var domains []string
				for _, d := range x.Domains {
					domains = append(domains, d.Name)
				}
				rows = append(rows, []string{x.Name, x.Reach, strings.Join(domains, ", ")})
			}
			a.streams.Table([]string{"Account", "Reach", "Domains"}, rows)
			return nil
		},
	}
}

func (a *app) accountShow() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Show an account, and what is in it", Example: "  tivset account show quillmere", ValidArgsFunction: only(a.accountWords), Args: takes(1, 1, "NAME"),
		RunE: a.using(func(ctx context.Context, s *site.Service, args []string) error {
			x, err := a.world.home().Account(args[0])
			if err != nil {
				return err
			}
			facts, err := s.AccountFacts(ctx, x)
			if err != nil {
				return err
			}
			if a.json {
				return a.streams.WriteJSON(struct {
					*account.Account
					Facts site.Facts `json:"facts"`
				}{x, facts})
			}
			a.streams.Pairs(shownAccount(x, facts))
			for _, w := range facts.Warnings {
				a.streams.Warn(w)
			}
			return nil
		}),
	}
}

// shownAccount words an account and what is in it.
func shownAccount(x *account.Account, f site.Facts) []screen.Pair {
	space := fmt.Sprintf("%s files, %s", humanize.Comma(int64(f.Files)), humanize.Bytes(uint64(f.Bytes)))
	if f.Free >= 0 {
		space += "; " + humanize.Bytes(uint64(f.Free)) + " left"
	}
	all := []screen.Pair{{Name: "Account", Text: x.Name}, {Name: "Files", Text: x.Reach + ", store " + x.Store}, {Name: "Space", Text: space}}
	for i, d := range x.Domains {
		text := d.URL + ", folder " + d.Folder
		if d.Primary {
			text += ", the main one"
		}
		for _, s := range f.Domains[i].Sites {
			text += "\n" + s
		}
		all = append(all, screen.Pair{Name: "Domain", Text: text})
	}
	for _, d := range x.Databases {
		text := fmt.Sprintf("%s: %s at %s, names begin with %s", d.Name, screen.Engine(d.Engine), d.Server, dash(d.Prefix))
		for _, kept := range f.Databases {
			if kept.Server != d.Name {
				continue
			}
			text += "\n" + kept.Name
			if kept.Bytes >= 0 {
				text += ", " + humanize.Bytes(uint64(kept.Bytes))
			}
			if kept.Site != "" {
				text += ", of " + kept.Site
			}
		}
		all = append(all, screen.Pair{Name: "Database", Text: text})
	}
	if x.Runtime.Crontab != "" {
		all = append(all, screen.Pair{Name: "Timers", Text: dash(strings.Join(f.Timers, "\n"))})
	}
	if x.Mail != nil {
		all = append(all, screen.Pair{Name: "Mail", Text: x.Mail.Server + ", from " + x.Mail.From})
	}
	return all
}

func (a *app) accountTest() *cobra.Command {
	return &cobra.Command{
		Use: "test [NAME]", Short: "Try every part of an account", Example: "  tivset account test quillmere", ValidArgsFunction: only(a.accountWords), Args: takes(0, 1, "[NAME]"),
		RunE: a.using(func(ctx context.Context, s *site.Service, args []string) error {
			name := a.account
			if len(args) > 0 {
				name = args[0]
			}
			parts, err := s.TestAccount(ctx, name)
			if err != nil {
				return err
			}
			return a.showChecks(parts)
		}),
	}
}

func (a *app) showChecks(parts []site.Checked) error {
	fine := true
	var rows [][]string
	for _, p := range parts {
		fine = fine && p.OK
		rows = append(rows, []string{p.Name, map[bool]string{true: "works", false: "fails"}[p.OK], p.Detail})
	}
	if a.json {
		if err := a.streams.WriteJSON(map[string]any{"ok": fine, "parts": parts}); err != nil {
			return err
		}
	} else {
		a.streams.Table([]string{"Part", "Result", "Detail"}, rows)
	}
	if !fine {
		return &silent{int(fault.Failed)}
	}
	return nil
}

func (a *app) accountForget() *cobra.Command {
	return &cobra.Command{
		Use: "forget NAME", Short: "Drop an account and its passwords", Annotations: noDryRun(), Example: "  tivset account forget quillmere", ValidArgsFunction: only(a.accountWords), Args: takes(1, 1, "NAME"),
		RunE: a.using(func(ctx context.Context, s *site.Service, args []string) error {
			if err := s.ForgetAccount(ctx, args[0]); err != nil {
				return err
			}
			if a.json {
				return a.streams.WriteJSON(map[string]any{"account": args[0], "forgotten": true})
			}
			a.streams.Print("The account %s is forgotten. Its files and sites were not touched.", args[0])
			return nil
		}),
	}
}
