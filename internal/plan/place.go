package plan

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"tivset/internal/answer"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/place"
	"tivset/internal/site"
)

// setAside is the answer that has what is in the way moved into the store.
const setAside = "set-aside"

// placed is what is at a place now.
type placed struct {
	state    string // new, empty, beside or occupied
	aside    Aside
	setAside []string // the same, from the account's top
	inTheWay []string // the same, described
}

// lookAtPlace finds out what is at a place. A site of ours there is a fault;
// what else is in the way is one too, unless it is to be set aside.
// Carried, which may be nil, is what is to come there: it may take the place of a record of another account.
func (pl *Planner) lookAtPlace(ctx context.Context, in *hosting.Account, at place.Place, aside bool,
	carried *site.Carried,
) (placed, error) {
	out := placed{state: "new"}
	if carried.TakesPlace(at.Address(), in.Name) {
		return out, pl.lookInto(ctx, in, at, aside, &out)
	}
	if known, err := pl.Book.Has(ctx, at.Address()); err != nil {
		return out, err
	} else if known {
		return out, site.IsThere(at)
	}
	if r, err := pl.Book.LeadsElsewhere(ctx, in.Name, at.Address(), at.Folder()); err != nil {
		return out, err
	} else if r != nil {
		return out, site.Leads(*r)
	}
	return out, pl.lookInto(ctx, in, at, aside, &out)
}

// lookInto looks at the folder of a place at whose address no site is.
func (pl *Planner) lookInto(ctx context.Context, in *hosting.Account, at place.Place, aside bool, out *placed) error {
	if err := pl.belongsToSite(ctx, in.Account, at); err != nil {
		return err
	}
	if there, err := files.Exists(ctx, in.Files, at.Domain.Folder); err != nil {
		return in.Unreachable(err)
	} else if !there {
		return fault.New(fault.Failed, "the document root of "+at.Domain.Name+" is not there", at.Domain.Folder,
			"Correct the folder of this domain in the account, or make it.").Wrap(err)
	}
	inside, err := in.Files.List(ctx, at.Folder())
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return pl.notAFile(ctx, in, at, aside, out)
	case err != nil:
		return in.Unreachable(err)
	}
	return pl.lookInside(ctx, in.Account, at, inside, aside, out)
}

// belongsToSite refuses a folder that is a recorded site's, by whatever address
// it is called, or a part of one.
func (pl *Planner) belongsToSite(ctx context.Context, a *account.Account, at place.Place) error {
	sites, err := pl.Book.Ledger.Sites(ctx)
	for _, other := range sites {
		if other.Account != a.Name {
			continue
		}
		if other.Folder == at.Folder() {
			return site.IsThere(at)
		}
		for _, entry := range other.Entries {
			if files.Within(at.Folder(), path.Join(other.Folder, entry)) {
				return fault.New(fault.NeedsConfirmation, "the folder is a part of the site “"+other.Title+"”", at.Folder(),
					"Choose another directory; that one is "+other.URL+"'s own.")
			}
		}
	}
	return err
}

// lookInside sorts what is in the folder: what belongs to others stays, the
// rest is in the way.
func (pl *Planner) lookInside(ctx context.Context, a *account.Account, at place.Place, inside []files.Info, aside bool,
	out *placed) error {
	out.state = "empty"
	others, err := pl.Book.Others(ctx, a, at.Folder())
	if err != nil {
		return err
	}
	var inTheWay []files.Info
	for _, i := range inside {
		name := path.Join(at.Folder(), i.Name)
		if i.Name == site.WellKnown || others.Below(name) || slices.Contains(others, name) {
			out.state = "beside"
			continue
		}
		inTheWay = append(inTheWay, i)
	}
	return out.occupied(at.Folder(), at.Folder(), inTheWay, aside)
}

// notAFile looks whether something that is no folder stands at the place.
func (pl *Planner) notAFile(ctx context.Context, in *hosting.Account, at place.Place, aside bool, out *placed) error {
	i, err := in.Files.Stat(ctx, at.Folder())
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return in.Unreachable(err)
	}
	return out.occupied(at.Folder(), path.Dir(at.Folder()), []files.Info{i}, aside)
}

// occupied stops the plan, unless what is in the way is to be set aside.
func (o *placed) occupied(folder, from string, inTheWay []files.Info, aside bool) error {
	if len(inTheWay) == 0 {
		return nil
	}
	for _, i := range inTheWay {
		o.inTheWay = append(o.inTheWay, describe(i))
	}
	if !aside {
		return site.InTheWay(folder, o.inTheWay)
	}
	o.state, o.aside.From = "occupied", from
	for _, i := range inTheWay {
		o.aside.Entries = append(o.aside.Entries, i.Name)
		o.setAside = append(o.setAside, path.Join(from, i.Name))
	}
	return nil
}

func describe(i files.Info) string {
	size := humanize.Bytes(uint64(i.Size))
	name := i.Name
	if i.IsDir() {
		size, name = "folder", name+"/"
	}
	return fmt.Sprintf("%-32s %10s   %s", name, size, i.Modified.UTC().Format("2006-01-02 15:04"))
}

// lookAtLayout makes sure that nothing of the app would land on somebody else's.
// Entries are the app's, aside those that make room. What is carried has its
// admin area under the name that it was given once.
func (pl *Planner) lookAtLayout(ctx context.Context, s *site.Site, entries, aside []string,
	carried *site.Carried) error {
	folder := s.Place.AdminFolder
	if carried != nil && folder != "" && folder != site.AdminFolder(carried.Record) {
		return fault.New(fault.Usage, "the admin area keeps its name, "+site.AdminFolder(carried.Record), answer.AdminFolder,
			"Leave the answer out.")
	}
	if carried == nil && folder != "" && slices.Contains(entries, folder) && folder != s.Kit.Place.AdminFolder {
		return fault.New(fault.Usage, s.Title+" has a folder "+folder+" of its own", answer.AdminFolder,
			"Choose another name for the folder of the admin area.")
	}
	if s.Place.State == "new" || s.Place.State == "empty" {
		return nil
	}
	others, err := pl.Book.Foreign(ctx, s)
	if err != nil {
		return err
	}
	for _, entry := range entries {
		for _, other := range others {
			if files.Within(other, path.Join(s.Place.Folder, entry)) && !slices.Contains(aside, entry) {
				return site.InTheWay(s.Place.Folder, []string{entry + "/ is on the way to another site, " + other})
			}
		}
	}
	return nil
}

// traps names what owners are surprised by later, of the place alone.
func (pl *Planner) traps(ctx context.Context, a *account.Account, at place.Place) ([]string, error) {
	out := namesOfTraps(a, at)
	sites, err := pl.Book.Ledger.Sites(ctx)
	for _, other := range sites {
		if other.Account != a.Name || other.Folder == at.Folder() {
			continue
		}
		if files.Within(at.Folder(), other.Folder) {
			out = append(
				out,
				fmt.Sprintf("this is inside the folder of “%s” (%s): both work, but rules of the outer one can "+
					"catch addresses of this one", other.Title, other.URL),
			)
		}
	}
	return out, err
}

// namesOfTraps are those of the domain.
func namesOfTraps(a *account.Account, at place.Place) []string {
	var out []string
	if at.Domain.Primary && at.Dir == "" {
		out = append(out, at.Domain.Name+" is the account's main site: its visitors will see this app from now on")
	}
	if twin := wwwTwin(a, at.Domain); twin != nil && twin.Folder != at.Domain.Folder {
		out = append(out, fmt.Sprintf("%s and %s are two addresses with two folders: visitors of %s will not see this site",
			at.Domain.Name, twin.Name, twin.Name))
	} else if twin != nil {
		out = append(out, fmt.Sprintf("%s shows the same folder: the site will answer there too, and calls itself %s",
			twin.Name, at.URL()))
	}
	return out
}

// wwwTwin is the account's domain that differs by www. only.
func wwwTwin(a *account.Account, d account.Domain) *account.Domain {
	bare := strings.TrimPrefix(d.Name, "www.")
	for i := range a.Domains {
		if x := &a.Domains[i]; x.Name != d.Name && strings.TrimPrefix(x.Name, "www.") == bare {
			return x
		}
	}
	return nil
}
