package site

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/Masterminds/semver/v3"

	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/database"
	"tivset/internal/secret"
)

// chooseServer settles the database, and the release that fits its server.
func (s *Service) chooseServer(ctx context.Context, p *Plan, r Request) error {
	if !p.release.NeedsDatabase() {
		return nil
	}
	if p.server = p.asking.server(); p.server == nil {
		engines := strings.Join(slices.Sorted(maps.Keys(p.release.Needs.Database)), " or ")
		return fault.New(fault.Usage, "the account has no database server that "+p.Title+" can use", p.Account, "Add one with engine "+engines+" to the account.")
	}
	p.Data = &PlanData{From: p.answers["data.from"], Engine: p.server.Engine, Server: p.server.Name, Name: p.answers["data.name"], User: p.answers["data.user"],
		Tables: p.answers["data.tables"], Clients: p.server.Clients}
	if p.Data.From == dataNew {
		return s.planNew(ctx, p, r)
	}
	return s.planExisting(ctx, p, r)
}

// planNew makes sure that a database and a user can be made under their names.
func (s *Service) planNew(ctx context.Context, p *Plan, r Request) error {
	server, err := s.connect(ctx, p.account, p.server)
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
	if p.server.Engine != account.SQLite { // whose version is that of the site's PHP
		if err := fitRelease(p, r, version); err != nil {
			return err
		}
	}
	databases, err := server.Databases(ctx)
	if err != nil {
		return err
	}
	users, err := server.Users(ctx)
	if err != nil {
		return err
	}
	if err := s.freeName(p, "data.name", "database", databases, &p.Data.Name); err != nil {
		return err
	}
	p.Changes.Databases = []string{p.Data.Name}
	if p.server.Engine == account.SQLite {
		return nil
	}
	err = s.freeName(p, "data.user", "user", users, &p.Data.User)
	p.Changes.Users = []string{p.Data.User}
	return err
}

// freeName refuses a name that was given and is taken; one that was proposed
// and is taken is drawn again.
func (s *Service) freeName(p *Plan, id, what string, taken []string, name *string) error {
	for slices.Contains(taken, *name) {
		if p.given[id] != "" {
			return fault.New(fault.Usage, "there is a "+what+" "+*name+" already", p.server.Name, "Choose another "+id+", or leave it out and one is found.")
		}
		token, err := s.Maker.Token(5)
		if err != nil {
			return err
		}
		*name = p.server.Prefix + shortName(p.App) + token
	}
	return nil
}

// planExisting tries a database that somebody else made.
func (s *Service) planExisting(ctx context.Context, p *Plan, r Request) error {
	found, err := s.tryData(ctx, p)
	if err != nil {
		if p.Data.From == dataByHand {
			return byHand(p, err)
		}
		return err
	}
	p.Data.Others = found.Tables
	if inside(p.server) {
		return nil
	}
	return fitRelease(p, r, found.Version)
}

// DataFound is what is known of a database that was tried.
type DataFound struct {
	Name    string
	Version string
	Tables  int // how many are in it
}

// tryData signs in to the site's database as the site will, and looks at what
// it may do and whether its tables would meet others.
func (s *Service) tryData(ctx context.Context, p *Plan) (DataFound, error) {
	d := p.Data
	found := DataFound{Name: d.Name}
	where := fmt.Sprintf("%s, user %s on %s", d.Name, d.User, d.Server)
	if d.Name == "" || d.User == "" || p.answers["data.password"] == "" {
		return found, fault.New(fault.Usage, "the database is not known yet", p.Place.URL, "Give data.name, data.user and data.password.")
	}
	if inside(p.server) { // which only the install can reach
		found.Version = "not looked at from here, but when the install begins"
		return found, nil
	}
	session, err := s.OpenSession(ctx, p.account, p.server, database.Login{Server: p.server.Server, User: d.User, Password: secret.Of(p.answers["data.password"]), Database: d.Name})
	if err != nil {
		f := *fault.Of(err)
		if !errors.Is(err, database.ErrGone) {
			f.Remedy = "Check data.name, data.user and data.password against the hosting's own pages."
		}
		return found, &f
	}
	defer session.Close()
	if _, found.Version, err = session.Version(ctx); err != nil {
		return found, err
	}
	lacking, err := session.Lacking(ctx)
	if err != nil {
		return found, err
	}
	if len(lacking) > 0 {
		return found, fault.New(fault.Failed, "the user lacks rights in this database: "+strings.Join(lacking, ", "), where, "Give it all rights on this database in the hosting's own pages.")
	}
	tables, err := session.Tables(ctx)
	if err != nil {
		return found, err
	}
	found.Tables = len(tables)
	return found, meets(p, tables)
}

// meets refuses a database in which the site's tables would meet others.
func meets(p *Plan, tables []string) error {
	if !p.kit.UsesTables() && len(tables) > 0 {
		return fault.New(fault.Usage, fmt.Sprintf("%s needs a database of its own, and this one has %s", p.Title, tableCount(len(tables))), p.Data.Name, "Choose an empty database.")
	}
	var same []string
	for _, t := range tables {
		if strings.HasPrefix(strings.ToLower(t), strings.ToLower(p.Data.Tables)) {
			same = append(same, t)
		}
	}
	if len(same) == 0 {
		return nil
	}
	return &fault.Error{Kind: fault.Usage, What: fmt.Sprintf("%s in this database begin with %s already", tableCount(len(same)), p.Data.Tables), Where: p.Data.Name,
		Details: same[:min(len(same), 10)], Remedy: "Choose another data.tables, or leave it out and one is made."}
}

func tableCount(n int) string {
	if n == 1 {
		return "1 table"
	}
	return fmt.Sprintf("%d tables", n)
}

// byHand says what to make in the hosting's own pages, and what of it is not
// right yet.
func byHand(p *Plan, err error) error {
	f := fault.Of(err)
	if f.Kind == fault.Usage && p.given["data.password"] != "" {
		return err // the names themselves will not do
	}
	details := append([]string{"make in the hosting's own pages:"}, byHandTask(p.Data, "of your choice")...)
	if p.given["data.password"] != "" {
		details = append(details, "tried now: "+f.What)
	}
	return &fault.Error{Kind: fault.Decision, What: "the database has to be made by hand first", Where: p.server.Name, Details: details,
		Remedy: fmt.Sprintf("Then say so: -a data.from=existing -a data.name=%s -a data.user=%s -a data.password=@FILE. Nothing was touched.", p.Data.Name, p.Data.User)}
}

// byHandTask lists what has to be made.
func byHandTask(d *PlanData, password string) []string {
	return []string{
		"  a database    " + d.Name + " (character set utf8mb4)",
		"  a user        " + d.User + ", with a password " + password,
		"  its rights    all of them on " + d.Name + ", and on nothing else",
	}
}

// databaseNeed is what a release needs of the database server.
func databaseNeed(p *Plan, release *kit.Release, version string) Need {
	wanted := release.Needs.Database[p.server.Engine]
	n := Need{What: engineName(p.server.Engine), Wanted: wanted, Have: version, OK: true}
	constraint, err := semver.NewConstraint(wanted)
	have, errHave := semver.NewVersion(version)
	if err == nil && errHave == nil {
		n.OK = constraint.Check(have)
	}
	n.Remedy = "Ask the host for a newer database server, or choose an older release: tivset about " + p.App
	return n
}

func engineName(engine string) string {
	return map[string]string{"mariadb": "MariaDB", "postgresql": "PostgreSQL", "sqlite": "SQLite"}[engine]
}

// fitRelease takes the newest release that the server's version allows, unless
// one was asked for by name.
func fitRelease(p *Plan, r Request, version string) error {
	need := databaseNeed(p, p.release, version)
	if !need.OK && r.Release == "" {
		for i := range p.kit.Releases {
			if other := databaseNeed(p, &p.kit.Releases[i], version); other.OK {
				p.Warnings = append(p.Warnings, fmt.Sprintf("%s %s needs a newer database server; %s is the newest release that fits", p.Title, p.Release, p.kit.Releases[i].Release))
				p.release, p.Release, need = &p.kit.Releases[i], p.kit.Releases[i].Release, other
				break
			}
		}
	}
	p.Needs = append(p.Needs, need)
	if need.OK {
		return nil
	}
	return fault.New(fault.Usage, fmt.Sprintf("%s %s needs %s %s, and the server %s has %s", p.Title, p.Release, p.server.Engine, need.Wanted, p.server.Name, version),
		p.account.Name, need.Remedy)
}

// TryData tries the database of a request alone.
func (s *Service) TryData(ctx context.Context, r Request) (DataFound, error) {
	p, err := s.sketch(r)
	if err != nil {
		return DataFound{}, err
	}
	return s.tryData(ctx, p)
}

// DataTask lists what has to be made by hand for a request, with the password
// that its answers give.
func (s *Service) DataTask(r Request) ([]string, error) {
	p, err := s.sketch(r)
	if err != nil {
		return nil, err
	}
	return byHandTask(p.Data, p.answers["data.password"]), nil
}

// sketch is a plan of the data alone.
func (s *Service) sketch(r Request) (*Plan, error) {
	a, err := s.asking(r)
	if err != nil {
		return nil, err
	}
	p := &Plan{asking: a, account: a.account, Account: a.account.Name, App: a.kit.App, Title: a.kit.Title, given: r.Answers, release: a.release}
	p.kit.Kit = a.kit
	p.answers = a.settled()
	if p.server = a.server(); p.server == nil {
		return nil, fault.New(fault.Usage, "the account has no database server that "+a.kit.Title+" can use", a.account.Name, "Add one to the account.")
	}
	p.Data = &PlanData{From: p.answers["data.from"], Engine: p.server.Engine, Server: p.server.Name, Name: p.answers["data.name"], User: p.answers["data.user"], Tables: p.answers["data.tables"]}
	return p, nil
}

// loginOf is how the site signs in to its database.
func (p *Plan) loginOf(server *account.Database) database.Login {
	return database.Login{Server: server.Server, User: p.Data.User, Password: p.secrets[dataPassword], Database: p.Data.Name}
}
