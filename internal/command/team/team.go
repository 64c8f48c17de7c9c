package team

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/fault"
	"tivset/internal/records/team"
	"tivset/internal/records/trust"
	"tivset/internal/records/vault"
	"tivset/internal/site"
)

func (a *app) team() *cobra.Command {
	return a.Group("team", "Who works with a shared ledger", a.teamKey(), a.teamList(), a.teamAdd(), a.teamRemove(),
		a.teamSQL())
}

func (a *app) teamKey() *cobra.Command {
	return &cobra.Command{
		Use: "key", Short: "Print this machine's public keys, by which a team adds it", Args: cli.Takes(0, 0, ""),
		Long: "Prints one word, to be given to somebody of the team, and the fingerprint of both keys in it, by which\n" +
			"they can see that it arrived as it was. The private halves never leave this machine.",
		Example: "  tivset team key\n  tivset team key --json",
		RunE: func(*cobra.Command, []string) error {
			me, err := team.Me(a.World.Home())
			if err != nil {
				return err
			}
			if a.JSON {
				return a.Streams.WriteJSON(map[string]string{"key": me.Key(), "fingerprint": me.Fingerprint()})
			}
			a.Streams.Print("%s", me.Key())
			a.Streams.Say("Its fingerprint: %s", me.Fingerprint())
			return nil
		},
	}
}

// memberJSON is a member as programs read it.
type memberJSON struct {
	Name        string     `json:"name"`
	Key         string     `json:"key"`
	Fingerprint string     `json:"fingerprint"`
	May         trust.Role `json:"may"`
	Added       time.Time  `json:"added_at"`
	By          string     `json:"by,omitempty"`
}

func membersJSON(of *trust.Charter) []memberJSON {
	out := []memberJSON{}
	for _, m := range of.Members {
		out = append(out, memberJSON{m.Name, m.Key(), m.Fingerprint(), m.May, m.Since, m.By})
	}
	return out
}

func (a *app) teamList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List who is of the team", Args: cli.Takes(0, 0, ""),
		Example: "  tivset team list\n  tivset team list --json",
		RunE: func(c *cobra.Command, _ []string) error {
			t, _, as, done, err := a.teamOf(c.Context())
			if err != nil {
				return err
			}
			defer done()
			charter, err := t.Charter(c.Context())
			if err != nil {
				return err
			}
			if a.JSON {
				return a.Streams.WriteJSON(membersJSON(charter))
			}
			var rows [][]string
			for _, m := range charter.Members {
				here := ""
				if m.Name == as {
					here = "this machine"
				}
				rows = append(rows, []string{m.Name, string(m.May), m.Since.UTC().Format("2006-01-02"), m.By, m.Fingerprint(),
					here})
			}
			a.Streams.Table([]string{"Name", "May", "Since", "Added by", "Fingerprint", ""}, rows)
			return nil
		},
	}
}

// roles are what somebody may do, for people.
func roles() string {
	var out []string
	for _, r := range trust.Roles {
		out = append(out, string(r))
	}
	return strings.Join(out, "|")
}

func (a *app) teamAdd() *cobra.Command {
	may := string(trust.Operate)
	c := &cobra.Command{
		Use: "add NAME KEY [--may " + roles() + "]", Short: "Have somebody, or a machine, be of the team",
		Long: "Adds the word that “key” printed there. Who may look sees sites and jobs, and opens no account; who may\n" +
			"request also puts requests on the queue; who may operate does everything with sites and accounts, and can\n" +
			"be a worker; an admin also says who is of the team.",
		Example: "  tivset team add steward age1…\n  tivset team add office age1… --may look",
		Args:    cli.Takes(2, 2, "NAME KEY"), Annotations: cli.NoDryRun(),
		RunE: func(c *cobra.Command, args []string) error {
			m, err := a.newMember(args[0], args[1], may)
			if err != nil {
				return err
			}
			t, v, _, done, err := a.teamOf(c.Context())
			if err != nil {
				return err
			}
			defer done()
			if err := a.joined(t.Join(c.Context(), m, v), m.Name); err != nil {
				return err
			}
			at, err := a.World.Home().LedgerAt()
			if err != nil {
				return err
			}
			if a.JSON {
				return a.Streams.WriteJSON(map[string]string{"outcome": "added", "name": m.Name,
					"fingerprint": m.Fingerprint(), "team": at.Team})
			}
			a.Streams.Print("%s is of the team, and may %s. Fingerprint: %s", m.Name, m.May, m.Fingerprint())
			a.Streams.Say("Tell them the team's own, which they are asked for when they join:\n%s", at.Team)
			return nil
		},
	}
	c.Flags().StringVar(&may, "may", may, "what they may do: "+roles())
	return c
}

// newMember reads who is to be added.
func (a *app) newMember(name, key, may string) (m trust.Member, err error) {
	if m, err = trust.Keyed(key); err != nil || vault.PublicKeyForm(m.Seal) != nil {
		return m, fault.New(fault.Usage, "that is not what a machine prints for its team", key,
			"Have them run: "+fault.Call("team", "key"))
	}
	if m.May = trust.Role(may); !m.May.Known() {
		return m, fault.New(fault.Usage, "nobody may “"+may+"”", "--may", "Say one of "+strings.ReplaceAll(roles(), "|",
			", ")+".")
	}
	m.Name, err = person(name)
	return m, err
}

// joined words why somebody cannot be added or taken out.
func (a *app) joined(err error, name string) error {
	switch {
	case errors.Is(err, trust.ErrKnown):
		return fault.New(fault.Usage, "somebody of the team has this name or this key already", name,
			"See: "+fault.Call("team", "list"))
	case errors.Is(err, trust.ErrNobody):
		return fault.New(fault.Usage, "nobody of the team is called so", name, "See: "+fault.Call("team", "list"))
	case errors.Is(err, trust.ErrLast):
		return fault.New(fault.Usage, "nobody else could say who is of the team any more", name,
			"Add another admin first, or bring the ledger here: "+fault.Call("ledger", "use", "here"))
	}
	return err
}

func (a *app) teamRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Take somebody out of the team",
		Long: "Encrypts every password anew, no longer to them, and lists what they could have read, with the calls that\n" +
			"change it. The password of the database's user is for its owner to change.",
		Example: "  tivset team remove steward\n  tivset team remove steward --yes",
		Args:    cli.Takes(1, 1, "NAME"), Annotations: cli.NoDryRun(),
		RunE: func(c *cobra.Command, args []string) error { return a.remove(c.Context(), args[0]) },
	}
}

func (a *app) remove(ctx context.Context, name string) error {
	t, v, as, done, err := a.teamOf(ctx)
	if err != nil {
		return err
	}
	defer done()
	if name == as {
		return fault.New(fault.Usage, "that is this machine", as, "Leave with: "+
			fault.Call("ledger", "use", "here", "--leave")+", and have another one take it out.")
	}
	before, err := t.Charter(ctx)
	if err != nil {
		return err
	}
	if err := a.joined(t.Leave(ctx, name, v), name); err != nil {
		return err
	}
	read := []string{}
	if m := before.Member(name); m.May.May(trust.Operate) {
		if read, err = v.Under(""); err != nil {
			return err
		}
	}
	changes := changesOf(read)
	if a.JSON {
		return a.Streams.WriteJSON(map[string]any{"outcome": "removed", "name": name, "secrets": read, "change": changes})
	}
	a.Streams.Print("%s is removed; every password is encrypted to those who are of the team now.", name)
	if len(changes) > 0 {
		a.Streams.Warn("they could read " + cli.Counted(len(read)) + " secrets until now. Change the password of the " +
			"database's user, and what is worth it:")
		for _, call := range changes {
			a.Streams.Print("  %s", call)
		}
	}
	return nil
}

// changesOf are the calls that change passwords, by the names of what is in the vault.
func changesOf(names []string) []string {
	calls := map[string]bool{}
	for _, name := range names {
		owner, rest, _ := strings.Cut(name, "/")
		if address, is := strings.CutSuffix(name, "/"+site.AdminPassword); is && owner == "sites" {
			calls["tivset reveal "+strings.TrimPrefix(address, "sites/")+" --renew"] = true
		} else if owner != "sites" && owner != "team" && rest != "" {
			calls["tivset account password "+owner] = true
		}
	}
	return slices.Sorted(maps.Keys(calls))
}

func (a *app) teamSQL() *cobra.Command {
	role := ""
	c := &cobra.Command{
		Use: "sql NAME [--role ROLE]", Short: "Print the statements that give a member a user of the database",
		Long: "With one user for all, whoever has its password can write what he likes into the database: nobody of the\n" +
			"team believes it, but it can be spoiled. These statements, for the owner of the database to look at and\n" +
			"run, make a user with no more rights than the member needs. The queue's tables come with the first request:\n" +
			"have them run again then.",
		Example: "  tivset team sql office\n  tivset team sql office --role tivset_office",
		Args:    cli.Takes(1, 1, "NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			t, _, _, done, err := a.teamOf(c.Context())
			if err != nil {
				return err
			}
			defer done()
			charter, err := t.Charter(c.Context())
			if err != nil {
				return err
			}
			m := charter.Member(args[0])
			if m == nil {
				return a.joined(trust.ErrNobody, args[0])
			}
			if role == "" {
				role = m.Name
			}
			text, err := t.Grants(c.Context(), role, m.May)
			if err != nil {
				return err
			}
			if a.JSON {
				return a.Streams.WriteJSON(map[string]any{"name": m.Name, "role": role, "may": m.May, "sql": text})
			}
			a.Streams.Print("%s", strings.TrimRight(text, "\n"))
			return nil
		},
	}
	c.Flags().StringVar(&role, "role", "", "what the user is to be called (as the member when left out)")
	return c
}
