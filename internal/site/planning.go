package site

import (
	"context"
	"errors"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/near"
	"tivset/internal/records/ledger"
)

// Plan checks a request and works out all that installing it will do. It
// changes nothing in the account.
func (s *Service) Plan(ctx context.Context, r Request) (*Plan, error) {
	if err := s.propose(&r); err != nil {
		return nil, err
	}
	p, err := s.decide(r)
	if err != nil {
		return nil, err
	}
	p.content = r.content
	if err := s.takesMail(ctx, p); err != nil {
		return nil, err
	}
	fsys, err := s.OpenFiles(ctx, p.account)
	if err != nil {
		return nil, unreachable(p.account, err)
	}
	defer fsys.Close()
	for _, part := range []func() error{
		func() error { return s.lookAtPlace(ctx, p, fsys) },
		func() error { return s.lookAtDomain(ctx, p, r.At) },
		func() error { return s.chooseServer(ctx, p, r) },
		func() error { return s.lookAtArchive(ctx, p, r) },
		func() error { return s.lookAtLayout(ctx, p) },
		func() error { return s.lookAtNeeds(ctx, p, fsys) },
		func() error { return s.makeSecrets(p) },
		func() error { return p.takeSecrets() },
		func() error { return s.writeConfigs(p) },
		func() error { return s.warn(ctx, p) },
	} {
		if err := part(); err != nil {
			return nil, err
		}
	}
	return p, nil
}

// propose draws the names of a request, once.
func (s *Service) propose(r *Request) error {
	if r.Proposed != (Proposed{}) {
		return nil
	}
	var err error
	r.Proposed, err = s.Propose()
	return err
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
	p := &Plan{Warnings: []string{}, Needs: []Need{}, Todo: []string{}}
	var err error
	if r.App != "" {
		if p.kit, err = s.Catalogue.Find(r.App); err != nil {
			problems = append(problems, problem("install", err))
		}
	}
	if p.account, err = s.account(r.Account, r.At); err != nil {
		problems = append(problems, problem("account", err))
	} else if r.At != "" {
		if p.place, err = resolve(r.At, p.account.Domains); err != nil {
			problems = append(problems, problem("at", err))
		}
	}
	if p.kit.Kit != nil && p.account != nil {
		if r.Release != "" && p.kit.Find(r.Release) == nil {
			problems = append(problems, fault.Problem{ID: "release", What: p.kit.Title + " has no release " + r.Release,
				Remedy: strings.TrimSpace(near.Hint(r.Release, p.kit.Versions()) + " There are " + strings.Join(p.kit.Versions(), ", ") + ".")})
		}
		problems = append(problems, p.answer(r)...)
	}
	if len(problems) == 1 && problems[0].What != fault.Needed { // the only one needs no list
		return nil, &fault.Error{Kind: fault.Usage, What: problems[0].What, Where: problems[0].ID, Remedy: problems[0].Remedy, Problems: problems}
	}
	if err := fault.Join("the install cannot begin", "Correct what is named and try again. Nothing was touched.", problems); err != nil {
		return nil, err
	}
	return p, s.licence(p)
}

// chooseRelease takes the one asked for, or the newest.
func chooseRelease(k *kit.Kit, wanted string) *kit.Release {
	if found := k.Find(wanted); found != nil {
		return found
	}
	return k.Newest()
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

// answer checks the answers and notes what they say.
func (p *Plan) answer(r Request) []fault.Problem {
	p.release = chooseRelease(p.kit.Kit, r.Release)
	p.Release = p.release.Release
	p.given = r.Answers
	p.asking = &asking{p.kit.Kit, p.release, p.account, r.Answers, p.place.Domain.Name, p.place.Dir, r.Proposed}
	resolved, problems := answer.Resolve(p.asking.questions(), r.Answers)
	p.answers = resolved
	p.App, p.Title, p.Account = p.kit.App, p.kit.Title, p.account.Name
	p.Place.AdminFolder, p.Place.DataFolder = resolved["admin.folder"], resolved["data.folder"]
	server := p.asking.server()
	file := server != nil && server.Engine == account.SQLite && p.release.NeedsDatabase()
	if (p.Place.DataFolder != "" || file) && p.account.ServerTop() == "" {
		problems = append(problems, fault.Problem{ID: "runtime.folder", What: "over FTP it is not known where the account lies on its server, and " + p.Title + " has to be told",
			Remedy: "Write runtime: {folder: …} into the account, with the account's folder as its programs see it, such as /home/quill."})
	}
	p.Admin = PlanAdmin{Name: resolved["admin.name"], Email: resolved["admin.email"], Generated: resolved["admin.password"] == Generate,
		First: resolved["admin.first-name"], Last: resolved["admin.last-name"], Support: resolved["support.email"]}
	p.Site = PlanSite{resolved["title"], resolved["tagline"], resolved["language"], p.told(), p.chosen()}
	p.Care = ledger.Care{Updates: resolved["care.updates"], Backup: resolved["care.backup"], Extensions: resolved["care.extensions"], Themes: resolved["care.themes"],
		PutBack: resolved["care.put-back"], Mails: resolved["care.mails"]}
	return problems
}

// told lists the app's own questions with their answers; those that were not
// asked have none.
func (p *Plan) told() []Told {
	out := []Told{}
	for _, q := range p.kit.Asks {
		given, asked := p.answers[q.ID]
		if !asked {
			continue
		}
		if q.Secret && given != "" {
			given = ""
			out = append(out, Told{q.ID, q.Ask, given, true})
			continue
		}
		out = append(out, Told{q.ID, q.Ask, given, false})
	}
	return out
}

func (p *Plan) chosen() []Told {
	out := []Told{}
	for _, e := range p.kit.Extras {
		out = append(out, Told{e.Answer(), e.Ask, p.answers[e.Answer()], false})
	}
	return out
}

func (s *Service) licence(p *Plan) error {
	if p.answers["licence"] == "accept" {
		return nil
	}
	return fault.New(fault.Decision, p.Title+" needs its licence accepted", p.kit.Licence.Name,
		"Read it with: tivset about "+p.App+" --licence; then accept it with --accept-licence")
}

func unreachable(a *account.Account, err error) error {
	var known *fault.Error
	if errors.As(err, &known) { // it says what to do
		f := *known
		f.Remedy = strings.ReplaceAll(f.Remedy, "trust NAME", "trust "+a.Name)
		return &f
	}
	return fault.New(fault.Failed, "the files of the account cannot be reached", a.Reach, "Check the folder and its permissions: tivset account test "+a.Name).Because(err)
}
