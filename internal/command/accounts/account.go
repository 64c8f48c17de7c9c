package accounts

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/accounts"
	"tivset/internal/answer"
	"tivset/internal/check"
	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/hostmail"
	"tivset/internal/screen"
	"tivset/internal/wizard"
)

func (a *app) accounts() *cobra.Command {
	return a.Group("account", "Hosting accounts", a.accountAdd(), a.accountList(), a.accountShow(), a.accountTest(),
		a.accountPassword(), a.accountTrust(), a.accountForget())
}

func (a *app) accountAdd() *cobra.Command {
	var from, mail string
	var replace bool
	c := &cobra.Command{
		Use:   "add [NAME] [--from-mail FILE | --from FILE]",
		Short: "Add a hosting account, from the host's mail, by asking, or from its file",
		Long: "Reads servers, names and passwords out of the mail that the host sent, finds out how the files are reached\n" +
			"and which folder a domain shows, asks for the rest, and shows all of it before it is kept. Without\n" +
			"--from-mail the mail can be pasted at the first question; with --dry-run what it says is shown, and\n" +
			"no server is asked. An account that was begun and left is gone on with. With --from it takes the\n" +
			"account's file (docs/hosting.md) and asks nothing.",
		Example: "  tivset account add quillmere\n  tivset account add quillmere --from-mail welcome.eml\n" +
			"  tivset account add quillmere --from-mail welcome.eml --dry-run\n" +
			"  tivset account add quillmere --from quillmere.yaml",
		Args: cli.Takes(0, 1, "[NAME] [--from-mail FILE | --from FILE]"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := cli.NotBoth("--from", from != "", "--from-mail", mail != ""); err != nil {
				return err
			}
			name := append(args, "")[0]
			switch {
			case a.DryRun && mail != "":
				return a.showMail(mail)
			case a.DryRun:
				return fault.New(fault.Usage, "only what a mail says can be shown without adding an account", "",
					"Give the mail with --from-mail FILE, or leave --dry-run out.")
			case from == "" && a.Streams.Asks():
				return a.askAccount(c.Context(), name, mail, replace)
			case mail != "":
				return fault.New(fault.Usage, "what a mail says is tried and shown on a terminal", mail,
					"Run this on a terminal, or write the account's file and give it with --from FILE. What it says: "+
						"tivset account add --from-mail FILE --dry-run")
			case name == "":
				return fault.New(fault.Usage, "the account's name is missing", "", "Write: tivset account add NAME --from FILE")
			case from == "":
				return fault.New(fault.Usage, "the account's file is missing", "", "Write: tivset account add "+name+
					" --from FILE")
			}
			text, err := a.ReadFile(from)
			if err != nil {
				return err
			}
			s, done, err := a.Core(c.Context())
			if err != nil {
				return err
			}
			defer done()
			added, err := s.Accounts.Add(name, text, replace, a.World.Env)
			if err != nil {
				return err
			}
			if a.JSON {
				return a.Streams.WriteJSON(added)
			}
			a.Streams.Print("The account %s is kept. Try it with: tivset account test %s", added.Name, added.Name)
			return nil
		},
	}
	c.Flags().StringVar(&from, "from", "", "the account's file; - for standard input")
	c.Flags().
		StringVar(&mail, "from-mail", "", "a file with the mail that the host sent, as text or as it is saved (.eml)")
	c.Flags().BoolVar(&replace, "replace", false, "replace an account of the same name")
	return c
}

// askOperator asks once for the name of who works here, where the machine does not know it.
// Whoever leaves that question has an account all the same.
func (a *app) askOperator(ctx context.Context, ask wizard.Asker) error {
	if !a.World.Nameless() {
		return nil
	}
	name, err := ask.Ask(ctx, wizard.Prompt{Text: "Your name", Fallback: cli.Who(),
		Help: "Owners read it in reports, handover pages and mails. It is asked for once.",
		Check: func(name string) (string, string) {
			return (&answer.Question{Kind: "text"}).Wrong(strings.TrimSpace(name))
		}})
	if err != nil {
		return nil //nolint:nilerr // the account is kept, and the question comes again with the next one
	}
	return a.World.Home().KeepOperator(strings.TrimSpace(name))
}

// readMail reads the host's mail from a file.
func (a *app) readMail(file string) (read hostmail.Letter, err error) {
	text, err := a.ReadFile(file)
	if err != nil {
		return read, err
	}
	if read = hostmail.Read(text); len(read.Facts) == 0 {
		return read, fault.New(fault.Usage, "nothing of an account can be found in the mail", file,
			"Leave --from-mail out, and type what it says when asked.")
	}
	return read, nil
}

// showMail shows what a mail says, and asks no server.
func (a *app) showMail(file string) error {
	read, err := a.readMail(file)
	if err != nil {
		return err
	}
	if a.JSON {
		return a.Streams.WriteJSON(read)
	}
	a.Streams.Facts(read.ByLine())
	a.Streams.Say("\nNo server was asked. To add the account: tivset account add --from-mail %s", file)
	return nil
}

// askAccount asks for an account on the terminal.
func (a *app) askAccount(ctx context.Context, name, mailed string, replace bool) error {
	var read hostmail.Letter
	if mailed != "" {
		var err error
		if read, err = a.readMail(mailed); err != nil {
			return err
		}
	}
	s, done, err := a.Core(ctx)
	if err != nil {
		return err
	}
	defer done()
	c := &wizard.NewAccount{Ask: screen.NewAsker(a.Streams), Book: s.Book, Accounts: s.Accounts, Env: a.World.Env,
		Truster: func(ctx context.Context, x *account.Account, d *account.Database) (wizard.Shown, error) {
			return a.truster(ctx, s.Book.Home, x, d)
		}}
	if c.Letter = read; mailed != "" {
		c.Told()
	} else {
		name = c.GoOn(ctx, name, a.World.Now())
	}
	if name, err = c.Run(ctx, name, replace); err != nil {
		return err
	}
	if err := a.askOperator(ctx, c.Ask); err != nil {
		return err
	}
	a.Streams.Print("The account %s is kept. Try it with: tivset account test %s", name, name)
	return nil
}

func (a *app) accountList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the accounts",
		Example: "  tivset account list\n  tivset account list --json",
		Args:    cli.Takes(0, 0, ""),
		RunE: func(c *cobra.Command, _ []string) error {
			h, done, err := a.AccountsHome(c.Context())
			if err != nil {
				return err
			}
			defer done()
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
			if a.JSON {
				return a.Streams.WriteJSON(all)
			}
			if len(all) == 0 {
				a.Streams.Say("There is no account yet. Add one with: tivset account add NAME")
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
			a.Streams.Table([]string{"Account", "Reach", "Domains"}, rows)
			return nil
		},
	}
}

func (a *app) accountShow() *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Show an account, and what is in it",
		Example:           "  tivset account show quillmere\n  tivset account show quillmere --json",
		ValidArgsFunction: cli.Only(a.AccountWords), Args: cli.Takes(1, 1, "NAME"),
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			x, err := s.Book.Home.Account(args[0])
			if err != nil {
				return err
			}
			facts, err := s.Accounts.Facts(ctx, x)
			if err != nil {
				return err
			}
			if a.JSON {
				return a.Streams.WriteJSON(struct {
					*account.Account
					Facts accounts.Facts `json:"facts"`
				}{x, facts})
			}
			a.Streams.Account(x, facts)
			for _, w := range facts.Warnings {
				a.Streams.Warn(w)
			}
			return nil
		}),
	}
}

func (a *app) accountTest() *cobra.Command {
	return &cobra.Command{
		Use: "test [NAME]", Short: "Try every part of an account",
		Example:           "  tivset account test quillmere\n  tivset account test quillmere --json",
		ValidArgsFunction: cli.Only(a.AccountWords), Args: cli.Takes(0, 1, "[NAME]"),
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			name := a.Account
			if len(args) > 0 {
				name = args[0]
			}
			parts, err := s.Accounts.Test(ctx, name)
			if err != nil {
				return err
			}
			return a.showChecks(parts)
		}),
	}
}

func (a *app) showChecks(parts []check.Checked) error {
	fine := true
	var rows [][]string
	for _, p := range parts {
		fine = fine && p.OK
		rows = append(rows, []string{p.Name, map[bool]string{true: "works", false: "fails"}[p.OK], p.Detail})
	}
	if a.JSON {
		if err := a.Streams.WriteJSON(map[string]any{"ok": fine, "parts": parts}); err != nil {
			return err
		}
	} else {
		a.Streams.Table([]string{"Part", "Result", "Detail"}, rows)
	}
	if !fine {
		return cli.Quiet(int(fault.Failed))
	}
	return nil
}

func (a *app) accountForget() *cobra.Command {
	return &cobra.Command{
		Use: "forget NAME", Short: "Drop an account and its passwords", Annotations: cli.NoDryRun(),
		Example:           "  tivset account forget quillmere\n  tivset account forget quillmere --yes",
		ValidArgsFunction: cli.Only(a.AccountWords), Args: cli.Takes(1, 1,
			"NAME"),
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			if err := s.Accounts.Forget(ctx, args[0]); err != nil {
				return err
			}
			if a.JSON {
				return a.Streams.WriteJSON(map[string]any{"account": args[0], "forgotten": true})
			}
			a.Streams.Print("The account %s is forgotten. Its files and sites were not touched.", args[0])
			return nil
		}),
	}
}
