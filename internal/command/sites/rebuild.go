package sites

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/work/rebuild"
)

type leftJSON struct {
	Address string `json:"address"`
	Account string `json:"account"`
	Problem string `json:"problem"`
	Remedy  string `json:"remedy"`
}

type rebuiltJSON struct {
	Outcome string        `json:"outcome"`
	Aside   string        `json:"damaged_ledger,omitempty"` // where it is kept
	Read    int           `json:"sites_read"`               // of the damaged ledger
	Sites   []ledger.Site `json:"sites"`                    // recorded anew
	Jobs    []ledger.Job  `json:"jobs"`
	Left    []leftJSON    `json:"left"`
	Unseen  []string      `json:"unseen"`

	Anew  []string          `json:"new_passwords"` // the admins of these sites have new ones
	Named []rebuild.Renamed `json:"renamed"`       // whose domain has another name now
}

// rebuild makes the ledger again of what is left of it and of what accounts,
// backups and the vault say.
func (a *app) rebuild(c *cobra.Command, notOurs bool) error {
	ctx := c.Context()
	out := rebuiltJSON{Outcome: "rebuilt"}
	if at, err := a.World.Home().LedgerAt(); err != nil || at.Use != "" {
		return cmp.Or(err, error(fault.New(fault.Usage, "the ledger is a team's, in a database", "--rebuild",
			"Restore the database from its own backups.")))
	}
	aside, saved, err := ledger.Aside(ctx, a.World.Home().Ledger(), a.World.Now())
	if err != nil {
		return fault.New(fault.Usage, "the damaged ledger cannot be set aside", a.World.Home().Ledger(),
			"See that its folder can be written. Nothing was touched.").Wrap(err)
	}
	out.Aside = aside
	return a.Using(func(ctx context.Context, s *core.Core, _ []string) error {
		if out.Read, err = keepSaved(ctx, s, saved); err != nil {
			return err
		}
		done, err := rebuild.Rebuild(ctx, s.Desk, a.Account, notOurs)
		if err != nil {
			return err
		}
		out.Sites, out.Jobs = append([]ledger.Site{}, done.Sites...), append([]ledger.Job{}, done.Jobs...)
		out.Left, out.Unseen = []leftJSON{}, []string{}
		out.Anew, out.Named = append([]string{}, done.Anew...), append([]rebuild.Renamed{}, done.Named...)
		for _, l := range done.Left {
			out.Left = append(out.Left, leftJSON{l.Address, l.Account, l.Why.Error(), fault.Of(l.Why).Remedy})
		}
		for _, why := range done.Unseen {
			out.Unseen = append(out.Unseen, why.Error())
		}
		if a.JSON {
			return a.Streams.WriteJSON(out)
		}
		a.tellRebuilt(out)
		return nil
	})(c, nil)
}

// keepSaved keeps what could be read of a damaged ledger.
func keepSaved(ctx context.Context, s *core.Core, saved ledger.Saved) (sites int, err error) {
	for _, x := range saved.Sites {
		if x.Valid() != nil {
			continue
		}
		if err := s.Book.Ledger.PutSite(ctx, x); err != nil {
			return sites, err
		}
		sites++
	}
	for _, j := range saved.Jobs {
		if err := s.Book.Ledger.PutJob(ctx, j); err != nil {
			return sites, err
		}
	}
	for _, r := range saved.Redirects {
		if err := s.Book.Ledger.PutRedirect(ctx, r); err != nil {
			return sites, err
		}
	}
	return sites, nil
}

func (a *app) tellRebuilt(out rebuiltJSON) {
	if out.Aside != "" {
		a.Streams.Print("The damaged ledger is kept as %s; %d sites could be read of it.", out.Aside, out.Read)
	}
	for _, x := range out.Sites {
		state := "its checks are good"
		if x.Health != "good" {
			state = "not all is well with it: tivset check " + x.Address
		}
		a.Streams.Print("%s %s at %s is on record again; %s.", x.App, x.Release, x.URL, state)
	}
	for _, n := range out.Named {
		a.Streams.Warn(n.Was + " is " + n.Is + " now; the app may still keep its old address")
	}
	for _, address := range out.Anew {
		a.Streams.Warn("the admin of " + address + " has a new password. See it with: " + fault.Call("reveal", address))
	}
	for _, j := range out.Jobs {
		a.Streams.Warn(fmt.Sprintf("the %s at %s was left half done. Take it back with: tivset undo %s", j.What, j.Address,
			j.ID))
	}
	for _, l := range out.Left {
		a.Streams.Warn(l.Address + " could not be recorded: " + l.Problem + ". " + l.Remedy)
	}
	for _, why := range out.Unseen {
		a.Streams.Warn("an account could not be looked at: " + why)
	}
	if len(out.Sites)+len(out.Jobs)+len(out.Left)+len(out.Unseen) == 0 && out.Aside == "" {
		a.Streams.Print(
			"Nothing was missing: every site that the accounts, their backups and the vault tell of is on record.",
		)
	}
}

// lostSites says that nothing is on record though something is kept.
func (a *app) lostSites(s *core.Core) {
	if kept, err := s.Book.InVault(); err == nil && len(kept) > 0 {
		a.Streams.Note(fmt.Sprintf("passwords are kept of sites that are not on record: %s. Have them recorded again with: "+
			"tivset sites --rebuild", strings.Join(kept, ", ")))
	}
}
