package plan

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/Masterminds/semver/v3"

	"tivset/internal/answer"
	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/database"
	"tivset/internal/question"
	"tivset/internal/secret"
	"tivset/internal/site"
)

// dataPart is the database that a site gets, and the release that fits its
// server; all of it zero for an app without one.
type dataPart struct {
	data      *site.Data
	server    *account.Database
	release   *kit.Release // another than was chosen, or nil
	databases []string     // that are made
	users     []string     // that are made
	needs     []Need
	warnings  []string
}

// dataAsked is what the answers say of a site's database.
type dataAsked struct {
	kit      *kit.Kit
	account  *account.Account
	server   *account.Database
	data     site.Data
	password string
	given    func(id string) bool // whether somebody answered it
	url      string
}

// askedData reads the answers about the database.
func askedData(a *question.Asking, answers map[string]string, url string) (dataAsked, error) {
	d := dataAsked{kit: a.Kit, account: a.Account, server: a.Server(), password: answers[answer.DataPassword], url: url,
		given: func(id string) bool { return a.Given[id] != "" }}
	if d.server == nil {
		engines := strings.Join(slices.Sorted(maps.Keys(a.Release.Needs.Database)), " or ")
		return d, fault.New(fault.Usage, "the account has no database server that "+a.Kit.Title+" can use", a.Account.Name,
			"Add one with engine "+engines+" to the account.")
	}
	d.data = site.Data{From: answers[answer.DataFrom], Engine: d.server.Engine, Server: d.server.Name,
		Name: answers[answer.DataName],
		User: answers[answer.DataUser], Tables: answers[answer.DataTables], Clients: d.server.Clients}
	return d, nil
}

// lookAtData settles the database, and the release that fits its server.
func (pl *Planner) lookAtData(ctx context.Context, in *hosting.Account, d *decided, r Request) (dataPart, error) {
	if !d.release.NeedsDatabase() {
		return dataPart{}, nil
	}
	asked, err := askedData(d.asking, d.answers, d.at.URL())
	if err != nil {
		return dataPart{}, err
	}
	if asked.data.From == question.DataNew {
		return pl.newData(ctx, in, asked, d.release, r.Release)
	}
	return pl.existingData(ctx, asked, d.release, r.Release)
}

// newData makes sure that a database and a user can be made under their names.
func (pl *Planner) newData(ctx context.Context, in *hosting.Account, asked dataAsked, of *kit.Release,
	wanted string) (dataPart, error) {
	out := dataPart{data: &asked.data, server: asked.server}
	server, err := in.Connect(ctx, asked.server)
	if err != nil {
		return out, err
	}
	defer server.Close()
	if err := server.MayCreate(ctx); err != nil {
		return out, err
	}
	_, version, err := server.Version(ctx)
	if err != nil {
		return out, err
	}
	if !asked.server.InFiles() { // whose version is that of the site's PHP
		fit, err := FitServer(asked.kit, of, asked.server, wanted, version, in.Name)
		if err != nil {
			return out, err
		}
		out.take(fit, of)
	}
	databases, err := server.Databases(ctx)
	if err != nil {
		return out, err
	}
	users, err := server.Users(ctx)
	if err != nil {
		return out, err
	}
	if err := pl.freeName(asked, answer.DataName, "database", databases, &out.data.Name); err != nil {
		return out, err
	}
	out.databases = []string{out.data.Name}
	if asked.server.InFiles() {
		return out, nil
	}
	err = pl.freeName(asked, answer.DataUser, "user", users, &out.data.User)
	out.users = []string{out.data.User}
	return out, err
}

// take notes what of a release fits the server.
func (p *dataPart) take(fit Fit, of *kit.Release) {
	p.needs, p.warnings = append(p.needs, fit.Need), append(p.warnings, fit.Warnings...)
	if fit.Release != of {
		p.release = fit.Release
	}
}

// freeName refuses a name that was given and is taken; one that was proposed
// and is taken is drawn again.
func (pl *Planner) freeName(asked dataAsked, id, what string, taken []string, name *string) error {
	for slices.Contains(taken, *name) {
		if asked.given(id) {
			return fault.New(fault.Usage, "there is a "+what+" "+*name+" already", asked.server.Name,
				"Choose another "+id+", or leave it out and one is found.")
		}
		token, err := pl.Maker.Token(5)
		if err != nil {
			return err
		}
		*name = asked.server.Prefix + question.ShortName(asked.kit.App) + token
	}
	return nil
}

// existingData tries a database that somebody else made.
func (pl *Planner) existingData(ctx context.Context, asked dataAsked, of *kit.Release, wanted string) (dataPart,
	error) {
	out := dataPart{data: &asked.data, server: asked.server}
	found, err := pl.tryData(ctx, asked)
	if err != nil {
		if asked.data.From == question.DataByHand {
			return out, byHand(asked, err)
		}
		return out, err
	}
	out.data.Others = found.Tables
	if asked.server.FromInside() {
		return out, nil
	}
	fit, err := FitServer(asked.kit, of, asked.server, wanted, found.Version, asked.account.Name)
	out.take(fit, of)
	return out, err
}

// DataFound is what is known of a database that was tried.
type DataFound struct {
	Name    string
	Version string
	Tables  int // how many are in it
}

// tryData signs in to the site's database as the site will, and looks at what
// it may do and whether its tables would meet others.
func (pl *Planner) tryData(ctx context.Context, asked dataAsked) (DataFound, error) {
	d := asked.data
	found := DataFound{Name: d.Name}
	where := fmt.Sprintf("%s, user %s on %s", d.Name, d.User, d.Server)
	if d.Name == "" || d.User == "" || asked.password == "" {
		return found, fault.New(fault.Usage, "the database is not known yet", asked.url,
			"Give data.name, data.user and data.password.")
	}
	if asked.server.FromInside() { // which only the install can reach
		found.Version = "not looked at from here, but when the install begins"
		return found, nil
	}
	login := database.Login{Server: asked.server.Server, User: d.User, Password: secret.Of(asked.password),
		Database: d.Name}
	session, err := pl.Hosting.Session(ctx, asked.account, asked.server, login)
	if err != nil {
		f := *fault.Of(err)
		if !errors.Is(err, database.ErrGone) {
			f.Remedy = "Check data.name, data.user and data.password against the host's control panel."
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
		return found, fault.New(fault.Failed, "the user lacks rights in this database: "+strings.Join(lacking, ", "), where,
			"Give it all rights on this database in the host's control panel.")
	}
	tables, err := session.Tables(ctx)
	if err != nil {
		return found, err
	}
	found.Tables = len(tables)
	return found, site.Meets(asked.kit, &d, tables)
}

// byHand says what to make in the host's control panel, and what of it is not
// right yet.
func byHand(asked dataAsked, err error) error {
	f := fault.Of(err)
	d := asked.data
	if f.Kind == fault.Usage && asked.given(answer.DataPassword) {
		return err // the names themselves will not do
	}
	details := append([]string{"make in the host's control panel:"}, byHandTask(d, "of your choice")...)
	if asked.given(answer.DataPassword) {
		details = append(details, "tried now: "+f.What)
	}
	return &fault.Error{Kind: fault.NeedsConfirmation, What: "the database has to be made by hand first",
		Where:   asked.server.Name,
		Details: details,
		Remedy: fmt.Sprintf("Then say so: -a data.from=existing -a data.name=%s -a data.user=%s -a data.password=@FILE. "+
			"Nothing was touched.", d.Name, d.User)}
}

// byHandTask lists what has to be made.
func byHandTask(d site.Data, password string) []string {
	return []string{
		"  a database    " + d.Name + " (character set utf8mb4)",
		"  a user        " + d.User + ", with a password " + password,
		"  its rights    all of them on " + d.Name + ", and on nothing else",
	}
}

// Fit is how a release fits a database server.
type Fit struct {
	Release  *kit.Release // the newest that fits, or the one asked for by name
	Need     Need
	Warnings []string
}

// FitServer takes the newest release that a server's version allows, unless one
// was wanted by name; of is the one to begin with. One that does not fit is a
// usage fault.
func FitServer(k *kit.Kit, of *kit.Release, server *account.Database, wanted, version, account string) (Fit, error) {
	out := Fit{Release: of, Need: databaseNeed(k, of, server, version)}
	if !out.Need.OK && wanted == "" {
		for i := range k.Releases {
			if other := databaseNeed(k, &k.Releases[i], server, version); other.OK {
				out.Release, out.Need = &k.Releases[i], other
				out.Warnings = []string{fmt.Sprintf("%s %s needs a newer database server; %s is the newest release that fits",
					k.Title, of.Release, out.Release.Release)}
				break
			}
		}
	}
	if out.Need.OK {
		return out, nil
	}
	return out, fault.New(fault.Usage, fmt.Sprintf("%s %s needs %s %s, and the server %s has %s", k.Title, of.Release,
		server.Engine, out.Need.Wanted, server.Name, version),
		account, out.Need.Remedy)
}

// databaseNeed is what a release needs of the database server.
func databaseNeed(k *kit.Kit, of *kit.Release, server *account.Database, version string) Need {
	wanted := of.Needs.Database[server.Engine]
	engine, _ := database.EngineOf(server.Engine)
	n := Need{What: engine.Title, Wanted: wanted, Have: version, OK: true}
	constraint, err := semver.NewConstraint(wanted)
	have, errHave := semver.NewVersion(version)
	if err == nil && errHave == nil {
		n.OK = constraint.Check(have)
	}
	n.Remedy = "Ask the host for a newer database server, or choose an older release: " + fault.Call("about", k.App)
	return n
}
