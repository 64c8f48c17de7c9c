package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/Masterminds/semver/v3"
	"github.com/dustin/go-humanize"

	"tivset/internal/account"
	"tivset/internal/answer"
	"tivset/internal/archive"
	"tivset/internal/config"
	"tivset/internal/fault"
	"tivset/internal/files"
	"tivset/internal/kit"
	"tivset/internal/ledger"
	"tivset/internal/near"
	"tivset/internal/place"
	"tivset/internal/secret"
)

// Plan checks a request and works out all that installing it will do. It
// changes nothing in the account.
func (s *Service) Plan(ctx context.Context, r Request) (*Plan, error) {
	p, err := s.decide(r)
	if err != nil {
		return nil, err
	}
	fsys, err := s.OpenFiles(p.account)
	if err != nil {
		return nil, unreachable(p.account, err)
	}
	defer fsys.Close()
	if err := s.lookAtPlace(ctx, p, fsys); err != nil {
		return nil, err
	}
	if err := s.chooseServer(ctx, p, r); err != nil {
		return nil, err
	}
	if err := s.lookAtArchive(ctx, p, r, fsys); err != nil {
		return nil, err
	}
	if err := s.makeSecrets(p); err != nil {
		return nil, err
	}
	if err := s.writeConfigs(p); err != nil {
		return nil, err
	}
	return p, s.lookAtLayout(ctx, p)
}

// decide settles everything that needs no look at the account, and reports all
// that is wrong with the request at once.
func (s *Service) decide(r Request) (*Plan, error) {
	var problems []fault.Problem
	if r.App == "" {
		problems = append(problems, fault.Problem{ID: "install", What: fault.Needed, Remedy: "Name the app; see what there is with: tivset browse"})
	}
	if r.At == "" {
		problems = append(problems, fault.Problem{ID: "at", What: fault.Needed, Remedy: "Say where with --at ADDRESS."})
	}
	p := &Plan{Warnings: []string{}}
	var err error
	if r.App != "" {
		if p.kit, err = s.Catalogue.Find(r.App); err != nil {
			problems = append(problems, problem("install", err))
		}
	}
	if p.account, err = s.account(r.Account, r.At); err != nil {
		problems = append(problems, problem("account", err))
	} else if r.At != "" {
		if p.place, err = place.Resolve(r.At, p.account.Domains); err != nil {
			problems = append(problems, problem("at", err))
		}
	}
	if p.kit.Kit != nil && p.account != nil {
		if r.Release != "" && p.kit.Find(r.Release) == nil {
			problems = append(problems, fault.Problem{ID: "release", What: p.kit.Title + " has no release " + r.Release,
				Remedy: strings.TrimSpace(near.Hint(r.Release, p.kit.Versions()) + " There are " + strings.Join(p.kit.Versions(), ", ") + ".")})
		}
		more, err := s.answers(p, r.Answers)
		if err != nil {
			return nil, err
		}
		problems = append(problems, more...)
	}
	if len(problems) == 1 && problems[0].What != fault.Needed { // the only one needs no list
		return nil, &fault.Error{Kind: fault.Usage, What: problems[0].What, Where: problems[0].ID, Remedy: problems[0].Remedy, Problems: problems}
	}
	if err := fault.Join("the install cannot begin", "Correct what is named and try again. Nothing was touched.", problems); err != nil {
		return nil, err
	}
	return p, s.licence(p)
}

// problem makes a fault one problem among others.
func problem(id string, err error) fault.Problem {
	f := fault.Of(err)
	what := f.What
	if f.Where != "" && !strings.Contains(what, f.Where) {
		what += ": " + f.Where
	}
	return fault.Problem{ID: id, What: what, Remedy: f.Remedy}
}

func (s *Service) answers(p *Plan, given answer.Given) ([]fault.Problem, error) {
	proposal, err := s.Maker.AdminName()
	if err != nil {
		return nil, err
	}
	resolved, problems := answer.Resolve(questions(p.kit.Kit, p.account, given, p.place.Domain.Name, proposal), given)
	p.answers = resolved
	p.App, p.Title, p.Account = p.kit.App, p.kit.Title, p.account.Name
	p.Admin = PlanAdmin{resolved["admin.name"], resolved["admin.email"], resolved["admin.password"] == Generate}
	p.Site = PlanSite{resolved["title"], resolved["tagline"], resolved["language"]}
	p.Care = ledger.Care{Updates: resolved["care.updates"], Backup: resolved["care.backup"], Extensions: resolved["care.extensions"], Themes: resolved["care.themes"]}
	return problems, nil
}

func (s *Service) licence(p *Plan) error {
	if p.answers["licence"] == "accept" {
		return nil
	}
	return fault.New(fault.Decision, p.Title+" needs its licence accepted", p.kit.Licence.Name,
		"Read it with: tivset about "+p.App+" --licence; then accept it with --accept-licence")
}

func unreachable(a *account.Account, err error) error {
	return fault.New(fault.Failed, "the files of the account cannot be reached", a.Reach, "Check the folder and its permissions: tivset account test "+a.Name).Because(err)
}

// lookAtPlace finds out what is at the place now.
func (s *Service) lookAtPlace(ctx context.Context, p *Plan, fsys files.FS) error {
	folder := p.place.Folder()
	p.Place = PlanPlace{URL: p.place.URL(), Folder: folder, State: "new"}
	switch _, err := s.Ledger.Site(ctx, p.place.Address()); {
	case err == nil:
		return siteIsThere(p)
	case !errors.Is(err, fs.ErrNotExist):
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
	p.Place.State = "empty"
	nested, err := s.nested(ctx, p)
	if err != nil {
		return err
	}
	var inTheWay []string
	for _, i := range inside {
		if slices.Contains(nested, path.Join(folder, i.Name)) {
			p.Place.State = "beside"
			continue
		}
		inTheWay = append(inTheWay, describe(i))
	}
	if len(inTheWay) > 0 {
		return occupied(p, inTheWay)
	}
	return nil
}

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
	return occupied(p, []string{describe(i)})
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

func occupied(p *Plan, inTheWay []string) error {
	const most = 15
	if len(inTheWay) > most {
		inTheWay = append(inTheWay[:most], fmt.Sprintf("… and %d more", len(inTheWay)-most))
	}
	return &fault.Error{Kind: fault.Decision, What: "something is in the way", Where: p.Place.Folder, Details: inTheWay,
		Remedy: "Choose another directory with --at, or move these away yourself. Nothing was touched."}
}

// chooseServer picks the database server and the release that fit together.
func (s *Service) chooseServer(ctx context.Context, p *Plan, r Request) error {
	p.release = p.kit.Newest()
	if r.Release != "" {
		p.release = p.kit.Find(r.Release)
	}
	p.Release = p.release.Release
	if !p.release.NeedsDatabase() {
		return nil
	}
	for i := range p.account.Databases {
		d := &p.account.Databases[i]
		_, wanted := p.release.Needs.Database[d.Engine]
		if wanted && (p.answers["data.server"] == "" || p.answers["data.server"] == d.Name) {
			p.server = d
			break
		}
	}
	engines := strings.Join(slices.Sorted(maps.Keys(p.release.Needs.Database)), " or ")
	if p.server == nil {
		return fault.New(fault.Usage, "the account has no database server that "+p.Title+" can use", p.Account, "Add one with engine "+engines+" to the account.")
	}
	server, err := s.connect(ctx, p.server)
	if err != nil {
		return err
	}
	defer server.Close()
	if err := server.MayCreate(ctx); err != nil {
		return err
	}
	_, version, err := server.Version(ctx)
	if err != nil {
		return err
	}
	if err := fitRelease(p, r, version); err != nil {
		return err
	}
	databases, err := server.Databases(ctx)
	if err != nil {
		return err
	}
	users, err := server.Users(ctx)
	if err != nil {
		return err
	}
	return s.nameData(p, append(databases, users...))
}

// fitRelease takes the newest release that the server's version allows, unless
// one was asked for by name.
func fitRelease(p *Plan, r Request, version string) error {
	fits := func(release *kit.Release) bool {
		wanted, err := semver.NewConstraint(release.Needs.Database[p.server.Engine])
		have, errHave := semver.NewVersion(version)
		return err == nil && (errHave != nil || wanted.Check(have))
	}
	if fits(p.release) {
		return nil
	}
	if r.Release == "" {
		for i := range p.kit.Releases {
			if fits(&p.kit.Releases[i]) {
				p.release, p.Release = &p.kit.Releases[i], p.kit.Releases[i].Release
				return nil
			}
		}
	}
	return fault.New(fault.Usage, fmt.Sprintf("%s %s needs %s %s, and the server %s has %s", p.Title, p.Release, p.server.Engine,
		p.release.Needs.Database[p.server.Engine], p.server.Name, version), p.account.Name, "Ask the host for a newer server, or choose an older release: tivset about "+p.App)
}

// nameData makes names that are free: the account's prefix, the app, and
// something random.
func (s *Service) nameData(p *Plan, taken []string) error {
	short := strings.ReplaceAll(p.App, "-", "")
	short = short[:min(4, len(short))]
	var name string
	for name == "" || slices.Contains(taken, name) {
		token, err := s.Maker.Token(5)
		if err != nil {
			return err
		}
		name = p.server.Prefix + short + token
	}
	p.Data = &PlanData{Engine: p.server.Engine, Server: p.server.Name, Name: name, User: name, Clients: p.server.Clients}
	if p.kit.UsesTables() {
		letters, err := s.Maker.Token(3)
		if err != nil {
			return err
		}
		p.Data.Tables = "t" + letters + "_"
	}
	p.Changes.Databases, p.Changes.Users = []string{name}, []string{name}
	return nil
}

// lookAtArchive fetches and verifies the archive and reads it through, so that
// the plan says what it will make and a bad one is refused here.
func (s *Service) lookAtArchive(ctx context.Context, p *Plan, r Request, fsys files.FS) error {
	var err error
	if p.archive, err = s.fetch(ctx, p.kit, p.release, r.Archive); err != nil {
		return err
	}
	if p.survey, err = survey(ctx, p.archive, p.release.Archive.Top, p.kit.Place.Remove); err != nil {
		return fault.New(fault.Failed, "the archive of "+p.Title+" "+p.Release+" cannot be used", "", "Tell whoever made the kit. Nothing was touched.").Because(err)
	}
	p.countFiles()
	need := max(p.survey.Bytes, p.release.Disk())
	if teller, ok := fsys.(files.SpaceTeller); ok {
		free, err := teller.Free(ctx)
		if err == nil && free < need+need/10 {
			return fault.New(fault.Failed, fmt.Sprintf("%s are needed and %s are left", humanize.Bytes(uint64(need)), humanize.Bytes(uint64(free))), p.Account, "Make room in the account.")
		}
	}
	return nil
}

// countFiles adds up what will be in the place: the archive's files, without
// those that the set-up takes away, and the configuration files.
func (p *Plan) countFiles() {
	var gone []string
	for _, step := range p.kit.Setup {
		gone = append(gone, step.Remove...)
	}
	for _, c := range p.kit.Config {
		gone = append(gone, c.Path) // written anew, over one from the archive
	}
	p.Changes.Files = len(p.kit.Config)
	for name, size := range p.survey.Sizes {
		if !archive.Skipped(name, gone) {
			p.Changes.Files++
			p.Changes.Bytes += size
		}
	}
	for _, list := range []*[]string{&p.Changes.Databases, &p.Changes.Users, &p.Changes.Timers, &p.Changes.SetAside} {
		if *list == nil {
			*list = []string{}
		}
	}
}

// makeSecrets makes every password and key of the site.
func (s *Service) makeSecrets(p *Plan) error {
	p.secrets = map[string]secret.Text{}
	for _, name := range slices.Sorted(maps.Keys(p.kit.Secrets)) {
		made, err := s.Maker.Password(p.kit.Secrets[name].Length, secret.Alnum)
		if err != nil {
			return err
		}
		p.secrets["secret."+name] = made
	}
	if p.Data != nil {
		made, err := s.Maker.Password(32, secret.All)
		if err != nil {
			return err
		}
		p.secrets[dataPassword] = made
	}
	p.password = secret.Of(p.answers["admin.password"])
	if p.Admin.Generated {
		made, err := s.Maker.Password(GeneratedLength, secret.All)
		if err != nil {
			return err
		}
		p.password = made
	}
	p.secrets[adminPassword] = p.password
	p.answers["admin.password"] = Generate // from here on it is in secrets only
	return nil
}

// writeConfigs writes the configuration files into the plan: a value that a
// format cannot hold is found here.
func (s *Service) writeConfigs(p *Plan) error {
	values, err := p.values(s.Now())
	if err != nil {
		return err
	}
	for _, c := range p.kit.Config {
		template, err := fs.ReadFile(p.kit.Files(), c.Template)
		if err != nil {
			return err
		}
		format, err := config.For(c.Format)
		if err != nil {
			return err
		}
		text, err := config.Render(format, string(template), values)
		if err != nil {
			return fault.New(fault.Usage, "a value cannot be written into "+c.Path, p.Title, "Choose another value. Nothing was touched.").Because(err)
		}
		p.configs = append(p.configs, text)
		p.Changes.Bytes += int64(len(text))
	}
	return nil
}

// lookAtLayout makes sure that nothing of the app would land on another site.
func (s *Service) lookAtLayout(ctx context.Context, p *Plan) error {
	if p.Place.State != "beside" {
		return nil
	}
	nested, err := s.nested(ctx, p)
	if err != nil {
		return err
	}
	for _, entry := range p.survey.Entries {
		for _, other := range nested {
			if place.Within(other, path.Join(p.Place.Folder, entry)) {
				return occupied(p, []string{entry + "/ is on the way to another site, " + other})
			}
		}
	}
	return nil
}
