package plan

import (
	"context"
	"slices"
	"strings"
	"time"

	"tivset/internal/answer"
	"tivset/internal/answer/care"
	"tivset/internal/app/catalogue"
	"tivset/internal/app/kit"
	"tivset/internal/app/release"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/place"
	"tivset/internal/question"
	"tivset/internal/secret"
	"tivset/internal/site"
	"tivset/internal/suggest"
)

// Planner makes plans. All of its fields are given by whoever wires the program.
type Planner struct {
	Book      *site.Book
	Hosting   *hosting.Opener
	Archives  *release.Archives
	Maker     secret.Maker
	Now       func() time.Time
	TakesMail func(ctx context.Context, domain string) error // why a domain cannot receive mail
}

// Plan checks a request and works out all that installing it will do. It
// changes nothing in the account.
func (pl *Planner) Plan(ctx context.Context, r Request) (*Plan, error) {
	r, err := pl.drawn(ctx, r)
	if err != nil {
		return nil, err
	}
	if err := pl.LookUp(ctx, r.App); err != nil {
		return nil, err
	}
	d, err := pl.decide(r)
	if err != nil {
		return nil, pl.withPlace(ctx, r, err)
	}
	if err := pl.takesMail(ctx, d.answers); err != nil {
		return nil, err
	}
	in, err := pl.Hosting.Open(ctx, d.account)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return pl.look(ctx, in, d, r)
}

// withPlace adds to what is wrong with answers what is wrong with the place, so that nobody mends the one and then
// hears of the other.
func (pl *Planner) withPlace(ctx context.Context, r Request, wrong error) error {
	f := *fault.Of(wrong)
	if f.Kind != fault.Usage || len(f.Problems) == 0 || slices.ContainsFunc(f.Problems, func(p fault.Problem) bool {
		return p.ID == "at" || p.ID == "account"
	}) {
		return wrong
	}
	_, err := pl.lookAt(ctx, r, r.Answers[answer.Occupied] == setAside)
	if at := fault.Of(err); err != nil && at.Kind != fault.Failed {
		f.Problems = append(slices.Clone(f.Problems), problem("at", err))
		return fault.Join("the install cannot begin", "Correct what is named and try again. Nothing was touched.", f.Problems)
	}
	return wrong
}

// LookUp finds which releases an app has now, where they come by themselves. An app
// that may not be installed, or that the owner has to decide for, is a fault; one that
// there is not is for others to complain of.
func (pl *Planner) LookUp(ctx context.Context, app string) error {
	k, err := pl.Book.Catalogue.Find(app)
	if fault.Of(err).Kind == fault.NeedsConfirmation {
		return err
	}
	if err != nil {
		return nil
	}
	if k.Withheld != nil {
		return k.Withheld
	}
	return pl.Archives.LookUp(ctx, k.Kit)
}

// look looks at the account, part by part, and joins what it finds.
func (pl *Planner) look(ctx context.Context, in *hosting.Account, d *decided, r Request) (*Plan, error) {
	spot, err := pl.lookAtPlace(ctx, in, d.at, d.answers[answer.Occupied] == setAside, r.Carried)
	if err != nil {
		return nil, err
	}
	web, err := pl.lookAtDomain(ctx, in, d.at, r.At)
	if err != nil {
		return nil, err
	}
	data, err := pl.lookAtData(ctx, in, d, r)
	if err != nil {
		return nil, err
	}
	s := d.site(spot, web, data)
	got, err := pl.lookAtArchive(ctx, &s, r)
	if err != nil {
		return nil, err
	}
	if err := pl.lookAtLayout(ctx, &s, got.survey.Entries, spot.aside.Entries, r.Carried); err != nil {
		return nil, err
	}
	needs, wishes, err := LookAtNeeds(ctx, in, &s, got.survey.Bytes)
	if err != nil {
		return nil, err
	}
	made, err := pl.makeSecrets(d, &s, r.Carried)
	if err != nil {
		return nil, err
	}
	s.Labels = r.Labels
	s.Secrets, s.Answers, s.Admin = made.secrets, made.answers, made.admin
	p := &Plan{Site: s, Archive: got.file, Survey: got.survey, Aside: spot.aside, InTheWay: spot.inTheWay,
		Carried: r.Carried, asking: made.asking,
		Needs: append(data.needs, needs...)}
	p.Changes = Changes{Files: got.files, Bytes: got.bytes, Databases: data.databases, Users: data.users,
		SetAside: spot.setAside}
	if p.Configs, err = pl.writeConfigs(&s, r.Carried); err != nil {
		return nil, err
	}
	for _, text := range p.Configs {
		p.Changes.Bytes += int64(len(text))
	}
	warned, err := pl.warnings(ctx, d, &s)
	if err != nil {
		return nil, err
	}
	if p.Changes.Timers, p.Todo, err = s.TimersLeft(pl.Now()); err != nil {
		return nil, err
	}
	p.Warnings = slices.Concat(web.warnings, data.warnings, wishes, warned)
	p.fillLists()
	return p, nil
}

// fillLists has lists that are empty be so in JSON too.
func (p *Plan) fillLists() {
	for _, list := range []*[]string{&p.Changes.Databases, &p.Changes.Users, &p.Changes.Timers, &p.Changes.SetAside,
		&p.Todo, &p.Warnings} {
		if *list == nil {
			*list = []string{}
		}
	}
	if p.Needs == nil {
		p.Needs = []Need{}
	}
}

// drawn gives a request with the names that are drawn once for it.
func (pl *Planner) drawn(ctx context.Context, r Request) (Request, error) {
	if r.Proposed.Token != "" {
		return r, nil
	}
	var err error
	r.Proposed, err = pl.Propose(ctx)
	return r, err
}

// Propose draws names.
func (pl *Planner) Propose(ctx context.Context) (question.Proposed, error) {
	name, err := pl.Maker.AdminName()
	if err != nil {
		return question.Proposed{}, err
	}
	token, err := pl.Maker.Token(5)
	if err != nil {
		return question.Proposed{}, err
	}
	letters, err := pl.Maker.Token(3)
	if err != nil {
		return question.Proposed{}, err
	}
	sites, err := pl.Book.Ledger.Sites(ctx)
	taken := []string{}
	for _, x := range sites {
		if x.Database != nil {
			taken = append(taken, x.Account+"/"+x.Database.Server+"/"+x.Database.Name)
		}
	}
	return question.Proposed{AdminName: name, Token: token, Tables: "t" + letters + "_", Taken: taken}, err
}

// decided is what a request settles without a look at the account.
type decided struct {
	kit     catalogue.Entry
	release *kit.Release
	account *account.Account
	at      place.Place
	asking  *question.Asking
	answers answer.Given // with the defaults
	usual   care.Care    // of sites of which nothing else is said
}

// decide settles everything that needs no look at the account, and reports all
// that is wrong with the request at once.
func (pl *Planner) decide(r Request) (*decided, error) {
	d := &decided{}
	problems := pl.find(d, r)
	var err error
	if d.usual, err = pl.Book.Home.DefaultCare(); err != nil {
		problems = append(problems, problem("care", err))
	}
	if d.kit.Kit != nil && d.account != nil {
		if r.Release != "" && d.kit.Find(r.Release) == nil {
			problems = append(problems, fault.Problem{ID: "release", What: d.kit.Title + " has no release " + r.Release,
				Remedy: strings.TrimSpace(suggest.Hint(r.Release, d.kit.Versions()) + " There are " +
					strings.Join(d.kit.Versions(), ", ") + ".")})
		}
		problems = append(problems, d.answer(r, pl.Book.Vault.Get)...)
	}
	if r.Carried != nil {
		problems = d.asItWas(r, problems)
	}
	if len(problems) == 1 && problems[0].What != fault.Needed { // the only one needs no list
		p := problems[0]
		return nil, &fault.Error{Kind: fault.Usage, What: p.What, Where: p.ID, Remedy: p.Remedy, Problems: problems}
	}
	if err := fault.Join("the install cannot begin", "Correct what is named and try again. Nothing was touched.",
		problems); err != nil {
		return nil, err
	}
	if d.answers[answer.Licence] != "accept" {
		return nil, fault.New(fault.NeedsConfirmation, d.kit.Title+" needs its licence accepted", d.kit.Licence.Name,
			"Read it with: "+fault.Call("about", d.kit.App, "--licence")+"; then accept it with --accept-licence")
	}
	return d, nil
}

// asItWas has a site that is carried keep what it is: nobody judges its title or
// asks anew what its app was told long ago. What is wrong with the new place is.
func (d *decided) asItWas(r Request, problems []fault.Problem) []fault.Problem {
	was := r.Carried.Answers()
	kept := func(id string) bool { return !ofPlacement(id) && (was[id] == r.Answers[id]) }
	for id, v := range r.Answers {
		if kept(id) {
			d.answers[id] = v
		}
	}
	return slices.DeleteFunc(problems, func(p fault.Problem) bool { return kept(p.ID) })
}

// ofPlacement says whether an answer is about where a site and its data go.
func ofPlacement(id string) bool {
	return strings.HasPrefix(id, "data.") || slices.Contains([]string{"install", "at", "account", "release",
		answer.Occupied,
		answer.AdminFolder}, id)
}

// find finds the kit, the account and the place of a request.
func (pl *Planner) find(d *decided, r Request) (problems []fault.Problem) {
	if r.App == "" {
		problems = append(problems, fault.Problem{ID: "install", What: fault.Needed,
			Remedy: "Name the app; see what there is with: " + fault.Call("browse")})
	}
	if r.At == "" {
		problems = append(problems, fault.Problem{ID: "at", What: fault.Needed, Remedy: "Say where with --at ADDRESS."})
	}
	var err error
	if r.App != "" {
		if d.kit, err = pl.Book.Catalogue.Find(r.App); err != nil {
			problems = append(problems, problem("install", err))
		}
	}
	if d.account, err = pl.Book.Account(r.Account, r.At); err != nil {
		problems = append(problems, problem("account", err))
	} else if r.At != "" {
		if d.at, err = site.Resolve(r.At, d.account.Domains); err != nil {
			problems = append(problems, problem("at", err))
		}
	}
	return problems
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
func (d *decided) answer(r Request, vault func(name string) (secret.Text, error)) []fault.Problem {
	d.release = question.ChooseRelease(d.kit.Kit, r.Release)
	d.asking = &question.Asking{Kit: d.kit.Kit, Release: d.release, Account: d.account, Given: r.Answers,
		Domain: d.at.Domain.Name, Dir: d.at.Dir, Proposed: r.Proposed, Care: d.usual}
	var problems []fault.Problem
	d.answers, problems = answer.Resolve(d.asking.Questions(), r.Answers)
	if problem := d.givenPassword(vault); problem != nil {
		problems = append(problems, *problem)
	}
	server := d.asking.Server()
	file := server != nil && server.InFiles() && d.release.NeedsDatabase()
	if (d.answers["data.folder"] != "" || file) && d.account.ServerTop() == "" {
		problems = append(problems, fault.Problem{ID: "runtime.folder",
			What: "over FTP it is not known where the account lies on its server, and " + d.kit.Title + " has to be told",
			Remedy: "Write runtime: {folder: …} into the account, with the account's folder as its programs see it, such as " +
				"/home/quill."})
	}
	return problems
}

// givenPassword takes the password of a database that the host made from the vault, where nobody gave it.
func (d *decided) givenPassword(vault func(name string) (secret.Text, error)) *fault.Problem {
	g := d.asking.GivenData()
	if g == nil || !d.release.NeedsDatabase() {
		return nil
	}
	password, err := vault(strings.TrimPrefix(g.Password, "vault:"))
	if err != nil {
		found := problem(answer.DataPassword, err)
		return &found
	}
	d.answers[answer.DataPassword] = password.Reveal()
	return nil
}

// site joins what was decided with what was found at the account: the site as
// it will be, still without its secrets.
func (d *decided) site(spot placed, web reached, data dataPart) site.Site {
	a := d.answers
	s := site.Site{
		App: d.kit.App, Title: d.kit.Title, Account: d.account.Name, Kit: d.kit, In: d.account, At: web.at, Answers: a,
		Release: d.release.Release, Of: d.release, Data: data.data, Server: data.server,
		Place: site.Place{URL: web.at.URL(), Folder: web.at.Folder(), State: spot.state, AdminFolder: a[answer.AdminFolder],
			DataFolder: a["data.folder"]},
		Admin: site.Admin{
			Name:      a[answer.AdminName],
			Email:     a[answer.AdminEmail],
			Generated: a[answer.AdminPassword] == question.Generate,
			First:     a[answer.AdminFirstName],
			Last:      a[answer.AdminLastName],
			Support:   a["support.email"],
		},
		Face: site.Branding{Title: a["title"], Subtitle: a[answer.Subtitle], Language: a["language"], Asked: d.told(),
			Extras: d.chosen()},
		Care: care.Of(a),
	}
	if data.release != nil {
		s.Of, s.Release = data.release, data.release.Release
	}
	return s
}

// told lists the app's own questions with their answers; those that were not
// asked have none.
func (d *decided) told() []site.Told {
	out := []site.Told{}
	for _, q := range d.kit.Questions {
		given, asked := d.answers[q.ID]
		if !asked {
			continue
		}
		if q.Secret && given != "" {
			out = append(out, site.Told{ID: q.ID, Ask: q.Text, Secret: true})
			continue
		}
		out = append(out, site.Told{ID: q.ID, Ask: q.Text, Answer: given})
	}
	return out
}

func (d *decided) chosen() []site.Told {
	out := []site.Told{}
	for _, e := range d.kit.Extras {
		out = append(out, site.Told{ID: e.Answer(), Ask: e.Text, Answer: d.answers[e.Answer()]})
	}
	return out
}

// takesMail asks the name servers about the admin's address, when that was
// asked for.
func (pl *Planner) takesMail(ctx context.Context, answers answer.Given) error {
	if answers["admin.email-check"] != "yes" {
		return nil
	}
	_, domain, _ := strings.Cut(answers[answer.AdminEmail], "@")
	if err := pl.TakesMail(ctx, domain); err != nil {
		return fault.New(fault.Usage, "no mail can be sent to "+domain, answer.AdminEmail,
			"Check the address; to go on without asking: -a admin.email-check=no").Wrap(err)
	}
	return nil
}
