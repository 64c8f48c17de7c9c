package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/place"
)

// lookAtPlace finds out what is at the place now.
func (s *Service) lookAtPlace(ctx context.Context, p *Plan, fsys files.FS) error {
	folder := p.place.Folder()
	p.Place.URL, p.Place.Folder, p.Place.State = p.place.URL(), folder, "new"
	switch _, err := s.Ledger.Site(ctx, p.place.Address()); {
	case err == nil:
		return siteIsThere(p)
	case !errors.Is(err, fs.ErrNotExist):
		return err
	}
	if err := s.belongsToSite(ctx, p); err != nil {
		return err
	}
	if there, err := files.Exists(ctx, fsys, p.place.Domain.Folder); err != nil || !there {
		return fault.New(fault.Failed, "the document root of "+p.place.Domain.Name+" is not there", p.place.Domain.Folder, "Correct the folder of this domain in the account, or make it.").Because(err)
	}
	inside, err := fsys.List(ctx, folder)
	if errors.Is(err, fs.ErrNotExist) {
		return s.notAFile(ctx, p, fsys)
	}
	if err != nil {
		return unreachable(p.account, err)
	}
	return s.lookInside(ctx, p, inside)
}

// belongsToSite refuses a folder that is a recorded site's, by whatever address
// it is called, or a part of one.
func (s *Service) belongsToSite(ctx context.Context, p *Plan) error {
	sites, err := s.Ledger.Sites(ctx)
	for _, other := range sites {
		if other.Account != p.Account {
			continue
		}
		if other.Folder == p.place.Folder() {
			return siteIsThere(p)
		}
		for _, entry := range other.Entries {
			if place.Within(p.place.Folder(), path.Join(other.Folder, entry)) {
				return fault.New(fault.Decision, "the folder is a part of the site “"+other.Title+"”", p.place.Folder(), "Choose another directory; that one is "+other.URL+"'s own.")
			}
		}
	}
	return err
}

// lookInside sorts what is in the folder: what belongs to others stays, the
// rest is in the way.
func (s *Service) lookInside(ctx context.Context, p *Plan, inside []files.Info) error {
	p.Place.State = "empty"
	others, err := s.others(ctx, p)
	if err != nil {
		return err
	}
	var inTheWay []files.Info
	for _, i := range inside {
		name := path.Join(p.Place.Folder, i.Name)
		if i.Name == wellKnown || slices.ContainsFunc(others, func(o string) bool { return place.Within(o, name) }) {
			p.Place.State = "beside"
			continue
		}
		inTheWay = append(inTheWay, i)
	}
	return p.occupied(p.Place.Folder, inTheWay)
}

// wellKnown is the folder in which hosts prove to those who sign certificates
// that a domain is theirs (RFC 8615); it stays where it is.
const wellKnown = ".well-known"

func siteIsThere(p *Plan) error {
	return fault.New(fault.Decision, "a site is at this address already", p.Place.URL, "Choose another directory, or look at it with: tivset show "+p.place.Address())
}

func (s *Service) notAFile(ctx context.Context, p *Plan, fsys files.FS) error {
	i, err := fsys.Stat(ctx, p.place.Folder())
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return unreachable(p.account, err)
	}
	return p.occupied(path.Dir(p.place.Folder()), []files.Info{i})
}

// others lists the folders at or below the place that belong to somebody else:
// recorded sites, the document roots of other domains, the account's store.
func (s *Service) others(ctx context.Context, p *Plan) ([]string, error) {
	out, err := s.nested(ctx, p)
	for _, d := range p.account.Domains {
		if d.Folder != p.place.Folder() && place.Within(d.Folder, p.place.Folder()) {
			out = append(out, d.Folder)
		}
	}
	if place.Within(p.account.Store, p.place.Folder()) {
		out = append(out, p.account.Store)
	}
	return out, err
}

// nested lists the folders of recorded sites that lie below the place.
func (s *Service) nested(ctx context.Context, p *Plan) ([]string, error) {
	sites, err := s.Ledger.Sites(ctx)
	var out []string
	for _, other := range sites {
		if other.Account == p.Account && other.Folder != p.place.Folder() && place.Within(other.Folder, p.place.Folder()) {
			out = append(out, other.Folder)
		}
	}
	return out, err
}

func describe(i files.Info) string {
	size := humanize.Bytes(uint64(i.Size))
	name := i.Name
	if i.IsDir() {
		size, name = "folder", name+"/"
	}
	return fmt.Sprintf("%-32s %10s   %s", name, size, i.Modified.UTC().Format("2006-01-02 15:04"))
}

// occupied stops the plan, unless what is in the way is to be set aside.
func (p *Plan) occupied(from string, inTheWay []files.Info) error {
	if len(inTheWay) == 0 {
		return nil
	}
	for _, i := range inTheWay {
		p.inTheWay = append(p.inTheWay, describe(i))
	}
	if p.answers["occupied"] != setAsideAnswer {
		return inTheWayFault(p, p.inTheWay)
	}
	p.Place.State, p.asideFrom = "occupied", from
	for _, i := range inTheWay {
		p.aside = append(p.aside, i.Name)
		p.Changes.SetAside = append(p.Changes.SetAside, path.Join(from, i.Name))
	}
	return nil
}

const setAsideAnswer = "set-aside"

func inTheWayFault(p *Plan, lines []string) error {
	const most = 15
	if len(lines) > most {
		lines = append(lines[:most], fmt.Sprintf("… and %d more", len(lines)-most))
	}
	return &fault.Error{Kind: fault.Decision, What: "something is in the way", Where: p.Place.Folder, Details: lines,
		Remedy: "Choose another directory with --at, or have it set aside with -a occupied=set-aside, from where it can be put back. Nothing was touched."}
}

// lookAtLayout makes sure that nothing of the app would land on somebody else's.
func (s *Service) lookAtLayout(ctx context.Context, p *Plan) error {
	if folder := p.Place.AdminFolder; folder != "" && slices.Contains(p.survey.Entries, folder) && folder != p.kit.Place.AdminFolder {
		return fault.New(fault.Usage, p.Title+" has a folder "+folder+" of its own", "admin.folder", "Choose another name for the folder of the admin side.")
	}
	if p.Place.State == "new" || p.Place.State == "empty" {
		return nil
	}
	others, err := s.others(ctx, p)
	if err != nil {
		return err
	}
	for _, entry := range p.survey.Entries {
		for _, other := range append(others, path.Join(p.Place.Folder, wellKnown)) {
			if place.Within(other, path.Join(p.Place.Folder, entry)) && !slices.Contains(p.aside, entry) {
				return inTheWayFault(p, []string{entry + "/ is on the way to another site, " + other})
			}
		}
	}
	return nil
}

// traps names what owners are surprised by later, of the place alone.
func (s *Service) traps(ctx context.Context, p *Plan) ([]string, error) {
	out := namesOfTraps(p.account, p.place)
	sites, err := s.Ledger.Sites(ctx)
	for _, other := range sites {
		if other.Account != p.Account || other.Folder == p.place.Folder() {
			continue
		}
		if place.Within(p.place.Folder(), other.Folder) {
			out = append(out, fmt.Sprintf("this is inside the folder of “%s” (%s): both work, but rules of the outer one can catch addresses of this one", other.Title, other.URL))
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
		out = append(out, fmt.Sprintf("%s and %s are two addresses with two folders: visitors of %s will not see this site", at.Domain.Name, twin.Name, twin.Name))
	} else if twin != nil {
		out = append(out, fmt.Sprintf("%s shows the same folder: the site will answer there too, and calls itself %s", twin.Name, at.URL()))
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
