package site

import (
	"context"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"tivset/internal/account"
	"tivset/internal/answer"
	"tivset/internal/archive"
	"tivset/internal/config"
	"tivset/internal/fault"
	"tivset/internal/files"
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
	p.Site = PlanSite{resolved["title"], resolved["tagline"], resolved["language"], []Told{}}
	for _, q := range p.kit.Asks {
		p.Site.Asked = append(p.Site.Asked, Told{q.ID, q.Ask, resolved[q.ID]})
	}
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
