package accounts

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/accounts"
	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/screen"
	"tivset/internal/secret"
	"tivset/internal/wizard"
)

func (a *app) accountPassword() *cobra.Command {
	var given []string
	c := &cobra.Command{
		Use:   "password NAME [-a PART=@FILE]",
		Short: "Take the new password of an account that was changed at the host",
		Long: "Signs in with every password that is kept for the account: to its files, its database servers and its\n" +
			"mail server. For each that is refused it asks for the new one, tries it, and keeps it once it works.\n" +
			"Elsewhere than on a terminal the new ones are given with -a: files, mail, or a database server's name.",
		Example: "  tivset account password quillmere\n  tivset account password quillmere -a files=@new-password.txt",
		Args:    cli.Takes(1, 1, "NAME [-a PART=@FILE]"), Annotations: cli.NoDryRun(),
		ValidArgsFunction: cli.Only(a.AccountWords),
	}
	c.RunE = a.Using(func(ctx context.Context, s *core.Core, args []string) error {
		x, err := s.Book.Account(args[0], "")
		if err != nil {
			return err
		}
		answers, err := a.Given(given)
		if err != nil {
			return err
		}
		all := accounts.Credentials(x)
		if err := known(x, all, answers); err != nil {
			return err
		}
		n := &newPasswords{app: a, core: s, account: x, given: answers, Changed: []string{}, Good: []string{}}
		for _, one := range all {
			if err := n.one(ctx, one); err != nil {
				return err
			}
		}
		return n.done(len(all))
	})
	c.Flags().StringArrayVarP(&given, "answer", "a", nil,
		"a new password, part=@FILE (@- reads standard input); parts are files, mail and names of database servers")
	return c
}

// known refuses passwords of what the account has not.
func known(x *account.Account, all []accounts.Credential, given map[string]string) error {
	names := []string{}
	for _, c := range all {
		names = append(names, c.Of)
	}
	for id := range given {
		if !strings.Contains(" "+strings.Join(names, " ")+" ", " "+id+" ") {
			return fault.New(fault.Usage, "the account keeps no password of this name", id, "There are: "+
				strings.Join(names, ", ")+". What else it has: "+fault.Call("account", "show", x.Name))
		}
	}
	return nil
}

// newPasswords goes through what an account signs in with.
type newPasswords struct {
	app     *app
	core    *core.Core
	account *account.Account
	given   map[string]string

	Changed, Good []string
}

func (n *newPasswords) one(ctx context.Context, c accounts.Credential) error {
	who := c.Of + ": " + c.User + " at " + c.At
	if word, is := n.given[c.Of]; is {
		if err := n.core.Accounts.SetPassword(ctx, n.account, c, secret.Of(word)); err != nil {
			return notKept(c, err)
		}
		n.Changed = append(n.Changed, c.Of)
		n.app.Streams.Say("  ✓ %s signs in with the new password, which is kept", who)
		return nil
	}
	err := n.core.Accounts.Try(ctx, n.account, c)
	switch {
	case err == nil:
		n.Good = append(n.Good, c.Of)
		n.app.Streams.Say("  ✓ %s signs in with the password that is kept", who)
		return nil
	case fault.CodeOf(err) != fault.SignInRefused || !n.app.Streams.Asks():
		return err
	}
	ask := screen.NewAsker(n.app.Streams)
	ask.Refuse(fault.Of(err).What, "")
	for {
		word, err := ask.Ask(ctx, wizard.Prompt{Text: "The new password of " + c.User + " at " + c.At, Unseen: true,
			Help: "As it was set at the host. It is tried, and kept in the vault, encrypted."})
		if err != nil || word == "" {
			return fault.New(fault.NeedsConfirmation, "no new password was given", who, "The one from before is kept.")
		}
		err = n.core.Accounts.SetPassword(ctx, n.account, c, secret.Of(word))
		if err == nil {
			n.Changed = append(n.Changed, c.Of)
			ask.Good("It signs in, and is kept")
			return nil
		}
		if fault.CodeOf(err) != fault.SignInRefused {
			return err
		}
		ask.Refuse(fault.Of(err).What, "Type it again, or nothing to leave it.")
	}
}

// notKept says of a password that was refused that the one from before is kept.
func notKept(c accounts.Credential, err error) error {
	if fault.CodeOf(err) != fault.SignInRefused {
		return err
	}
	f := *fault.Of(err)
	f.Remedy = "The new password of " + c.Of + " was not taken; the one from before is kept."
	return &f
}

func (n *newPasswords) done(of int) error {
	if n.app.JSON {
		return n.app.Streams.WriteJSON(map[string]any{"account": n.account.Name, "changed": n.Changed, "good": n.Good})
	}
	switch {
	case of == 0:
		n.app.Streams.Print("The account %s keeps no password: it signs in with a key, or its files are on this machine.",
			n.account.Name)
	case len(n.Changed) == 0:
		n.app.Streams.Print("All passwords of %s are right; nothing was changed.", n.account.Name)
	default:
		n.app.Streams.Print("The new password is kept for: %s.", strings.Join(n.Changed, ", "))
	}
	return nil
}
