package team

import (
	"context"
	"crypto/hmac"
	"errors"
	"slices"

	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/fault"
	"tivset/internal/records/team"
	"tivset/internal/records/vault"
)

func (a *app) team() *cobra.Command {
	return a.Group("team", "Who works with a shared ledger", a.teamKey(), a.teamList(), a.teamAdd(), a.teamRemove())
}

func (a *app) teamKey() *cobra.Command {
	return &cobra.Command{
		Use: "key", Short: "Print this machine's public key, by which a team adds it", Args: cli.Takes(0, 0, ""),
		Example: "  tivset team key\n  tivset team key --json",
		RunE: func(*cobra.Command, []string) error {
			h := a.World.Home()
			key, err := vault.At(h.Vault(), h.VaultKey()).PublicKey()
			if err != nil {
				return err
			}
			if a.JSON {
				return a.Streams.WriteJSON(map[string]string{"key": key})
			}
			a.Streams.Print("%s", key)
			return nil
		},
	}
}

func (a *app) teamList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List who works with the ledger", Args: cli.Takes(0, 0, ""),
		Example: "  tivset team list\n  tivset team list --json",
		RunE: func(c *cobra.Command, _ []string) error {
			t, v, as, done, err := a.teamOf(c.Context())
			if err != nil {
				return err
			}
			defer done()
			people, err := t.People(c.Context())
			if err != nil {
				return err
			}
			marks, err := v.Marks()
			if err != nil {
				marks = nil // who may only look cannot tell
			}
			if a.JSON {
				return a.Streams.WriteJSON(people)
			}
			var rows [][]string
			for _, p := range people {
				here := ""
				switch {
				case marks != nil && !hmac.Equal(p.Mark, marks(p.Marked())):
					here = "put there by nobody of the team: nothing is encrypted to it"
				case p.Name == as:
					here = "this machine"
				}
				rows = append(rows, []string{p.Name, p.May, p.Added.UTC().Format("2006-01-02"), p.By, p.Key, here})
			}
			a.Streams.Table([]string{"Name", "May", "Since", "Added by", "Key", ""}, rows)
			return nil
		},
	}
}

func (a *app) teamAdd() *cobra.Command {
	may := team.MayAll
	c := &cobra.Command{
		Use: "add NAME KEY [--may all|look]", Short: "Have somebody, or a machine, work with the ledger",
		Long: "Adds a public key, as “key” prints it there: every password is encrypted to it too. Who may\n" +
			"only look sees sites and jobs; no password is encrypted to them, and so they can open no account.",
		Example: "  tivset team add steward age1…\n  tivset team add office age1… --may look",
		Args:    cli.Takes(2, 2, "NAME KEY"), Annotations: cli.NoDryRun(),
		RunE: func(c *cobra.Command, args []string) error {
			name, err := person(args[0])
			switch {
			case err != nil:
				return err
			case vault.PublicKeyForm(args[1]) != nil:
				return fault.New(fault.Usage, "that is no public key of age", args[1],
					"Have them run: "+fault.Call("team", "key"))
			case !slices.Contains([]string{team.MayAll, team.MayLook}, may):
				return fault.New(fault.Usage, "nobody may “"+may+"”", "--may", "Say all, or look.")
			}
			t, v, as, done, err := a.teamOf(c.Context())
			if err != nil {
				return err
			}
			defer done()
			p := team.Person{Name: name, Key: args[1], May: may, By: as}
			if err := a.joined(t.Join(c.Context(), p, v), name); err != nil {
				return err
			}
			return a.teamChanged(c.Context(), "added", name)
		},
	}
	c.Flags().StringVar(&may, "may", team.MayAll, "all, or look")
	return c
}

// joined words why somebody cannot be added or taken out.
func (a *app) joined(err error, name string) error {
	switch {
	case errors.Is(err, team.ErrKnown):
		return fault.New(fault.Usage, "somebody of the team has this name or this key already", name,
			"See: "+fault.Call("team", "list"))
	case errors.Is(err, team.ErrNobody):
		return fault.New(fault.Usage, "nobody of the team is called so", name, "See: "+fault.Call("team", "list"))
	case errors.Is(err, team.ErrLast):
		return fault.New(fault.Usage, "nobody else could open the vault any more", name,
			"Add somebody who may all first, or bring the ledger here: "+fault.Call("ledger", "use", "here"))
	}
	return err
}

func (a *app) teamChanged(_ context.Context, outcome, name string) error {
	if a.JSON {
		return a.Streams.WriteJSON(map[string]string{"outcome": outcome, "name": name})
	}
	a.Streams.Print("%s is %s; every password is encrypted to those who are of the team now.", name, outcome)
	return nil
}

func (a *app) teamRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Take somebody out of the team",
		Long: "Encrypts every password anew, no longer to them. What they have seen until now they still know: change\n" +
			"what is worth it, and the password of the database's user.",
		Example: "  tivset team remove steward\n  tivset team remove steward --yes",
		Args:    cli.Takes(1, 1, "NAME"), Annotations: cli.NoDryRun(),
		RunE: func(c *cobra.Command, args []string) error {
			t, v, as, done, err := a.teamOf(c.Context())
			if err != nil {
				return err
			}
			defer done()
			if args[0] == as {
				return fault.New(fault.Usage, "that is this machine", as, "Leave with: "+
					fault.Call("ledger", "use", "here", "--leave")+", and have another one take it out.")
			}
			names, err := v.Under("")
			if err != nil {
				return err
			}
			if err := a.joined(t.Leave(c.Context(), args[0], v), args[0]); err != nil {
				return err
			}
			if err := a.teamChanged(c.Context(), "removed", args[0]); err != nil || a.JSON {
				return err
			}
			a.Streams.Warn("a copy of the database that they took before opens with their key: they may know " +
				cli.Counted(len(names)) + " secrets of it. Change those that matter, and the password of the database's user.")
			return nil
		},
	}
}
