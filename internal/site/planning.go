package site

import (
	"context"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"tivset/internal/account"
	"tivset/internal/answer"
	"tivset/internal/archive"
	"tivset/internal/config"
	"tivset/internal/fault"
	"tivset/internal/fill"
	"tivset/internal/kit"
	"tivset/internal/ledger"
	"tivset/internal/near"
	"tivset/internal/secret"
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
	if err := s.takesMail(ctx, p); err != nil {
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
	if err := s.lookAtDomain(ctx, p, r.At); err != nil {
		return nil, err
	}
	if err := s.chooseServer(ctx, p, r); err != nil {
		return nil, err
	}
	if err := s.lookAtArchive(ctx, p, r); err != nil {
		return nil, err
	}
	if err := s.lookAtNeeds(ctx, p, fsys); err != nil {
		return nil, err
	}
	if err := s.makeSecrets(p); err != nil {
		return nil, err
	}
	if err := s.writeConfigs(p); err != nil {
		return nil, err
	}
	if err := s.warn(ctx, p); err != nil {
		return nil, err
	}
	return p, s.lookAtLayout(ctx, p)
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

// warn gathers what the owner should know before saying yes, and what is left
// to do afterwards.
func (s *Service) warn(ctx context.Context, p *Plan) error {
	traps, err := s.traps(ctx, p)
	if err != nil {
		return err
	}
	p.Warnings = append(p.Warnings, traps...)
	for _, e := range p.kit.Extras {
		if v := p.answers[e.Answer()]; e.Warning != "" && v != "no" && v != answer.None {
			p.Warnings = append(p.Warnings, e.Warning)
		}
	}
	if p.answers["admin.name-risk"] == "accept" {
		if why := secret.Guessable(p.Admin.Name, p.asking.seen()...); why != "" {
			p.Warnings = append(p.Warnings, "the admin's sign-in name: "+why)
		}
	}
	return p.timers(s.Now())
}

// timers adds to what is left to do. Keys in their addresses are not shown.
func (p *Plan) timers(now time.Time) error {
	values, err := p.values(now)
	if err != nil {
		return err
	}
	for name := range p.secrets {
		values[name] = "KEY"
	}
	for _, t := range p.kit.Timers {
		if !holds(t.When, p.answers) {
			continue
		}
		page, err := fill.Text(t.Get, values)
		if err != nil {
			return err
		}
		todo := fmt.Sprintf("have the hosting fetch %s%s every %s: it %s", p.Place.URL, page, interval(t.Every), t.What)
		if strings.Contains(page, "KEY") {
			todo += " (with its key: tivset reveal " + p.place.Address() + ")"
		}
		p.Todo = append(p.Todo, todo)
	}
	return nil
}

// interval words 5m as 5 minutes.
func interval(every string) string {
	unit := map[byte]string{'m': "minute", 'h': "hour"}[every[len(every)-1]]
	if n := every[:len(every)-1]; n != "1" {
		return n + " " + unit + "s"
	}
	return unit
}

// holds says whether a step or a timer of the kit applies.
func holds(condition string, given answer.Given) bool {
	c, err := answer.ParseCondition(condition)
	return err == nil && c.Holds(given)
}

// takesMail asks the name servers about the admin's address, when that was
// asked for.
func (s *Service) takesMail(ctx context.Context, p *Plan) error {
	if p.answers["admin.email-check"] != "yes" {
		return nil
	}
	_, domain, _ := strings.Cut(p.Admin.Email, "@")
	if err := s.TakesMail(ctx, domain); err != nil {
		return fault.New(fault.Usage, "no mail can be sent to "+domain, "admin.email", "Check the address; to go on without asking: -a admin.email-check=no").Because(err)
	}
	return nil
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
func (s *Service) lookAtArchive(ctx context.Context, p *Plan, r Request) error {
	var err error
	if p.archive, err = s.fetch(ctx, p.kit, p.release, r.Archive); err != nil {
		return err
	}
	if p.survey, err = survey(ctx, p.archive, p.release.Archive.Top, p.leaves()); err != nil {
		return fault.New(fault.Failed, "the archive of "+p.Title+" "+p.Release+" cannot be used", "", "Tell whoever made the kit. Nothing was touched.").Because(err)
	}
	p.countFiles()
	return nil
}

// leaves lists the parts of the archive that this site does not get.
func (p *Plan) leaves() []string {
	out := slices.Clone(p.kit.Place.Remove)
	for _, e := range p.kit.Extras {
		chosen := answer.Chosen(p.answers[e.Answer()])
		for _, option := range slices.Sorted(maps.Keys(e.Parts)) {
			if !slices.Contains(chosen, option) {
				out = append(out, e.Parts[option]...)
			}
		}
	}
	return out
}

// countFiles adds up what will be in the place: the archive's files, without
// those that the set-up takes away, and the configuration files.
func (p *Plan) countFiles() {
	var gone []string
	for _, step := range p.kit.Setup {
		if holds(step.When, p.answers) {
			gone = append(gone, step.Remove...)
		}
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
	for _, id := range secretIDs(p.kit.Kit) {
		if v := p.answers[id]; v != "" {
			p.secrets[askedSecret(id)] = secret.Of(v)
			p.answers[id] = "(given)"
		}
	}
	if err := s.dataSecret(p); err != nil {
		return err
	}
	p.password = secret.Of(p.answers["admin.password"])
	if p.Admin.Generated {
		length, err := strconv.Atoi(p.answers["admin.password-length"])
		if err != nil {
			return err
		}
		p.Admin.Length = length
		if p.password, err = s.Maker.Password(length, secret.Alphabet(p.answers["admin.password-of"])); err != nil {
			return err
		}
	}
	p.secrets[adminPassword] = p.password
	p.answers["admin.password"] = Generate // from here on it is in secrets only
	p.mask()
	return nil
}

// mask leaves of the secrets among the answers only that they were given.
func (p *Plan) mask() {
	p.given = maps.Clone(p.given)
	for _, q := range p.asking.questions() {
		if q.Secret && p.given[q.ID] != "" {
			p.given[q.ID] = "(given)"
		}
	}
	p.asking.given = p.given
}

// dataSecret is the password of the database user, made or given.
func (s *Service) dataSecret(p *Plan) error {
	if p.Data == nil {
		return nil
	}
	if p.Data.From != dataNew {
		p.secrets[dataPassword] = secret.Of(p.answers["data.password"])
		delete(p.answers, "data.password")
		return nil
	}
	made, err := s.Maker.Password(32, secret.All)
	p.secrets[dataPassword] = made
	return err
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
