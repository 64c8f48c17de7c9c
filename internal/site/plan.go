package site

import (
	"slices"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/app/archive"
	"tivset/internal/app/catalogue"
	"tivset/internal/app/kit"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/place"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
)

// Request is what somebody wants installed.
type Request struct {
	App     string
	At      string
	Release string // "" for the newest that fits
	Account string // "" when only one can be meant
	Archive string // a file here that is the release's archive, for kits that need it
	Answers answer.Given

	Proposed Proposed // drawn when it is empty

	content *content // what the site gets in place of a release's files and set-up, or nil
}

// Plan is everything that an install is about to do. The review, the dry run
// and the install itself all read this one value.
type Plan struct {
	App      string      `json:"app"`
	Title    string      `json:"app_title"`
	Release  string      `json:"release"`
	Account  string      `json:"account"`
	Place    PlanPlace   `json:"place"`
	Data     *PlanData   `json:"data,omitempty"`
	Admin    PlanAdmin   `json:"admin"`
	Site     PlanSite    `json:"site"`
	Care     ledger.Care `json:"care"`
	Changes  Changes     `json:"changes"`
	Needs    []Need      `json:"needs"`
	Todo     []string    `json:"todo"` // what is left for the owner to do
	Warnings []string    `json:"warnings"`

	kit      catalogue.Entry
	release  *kit.Release
	account  *account.Account
	place    place.Place
	server   *account.Database
	answers  answer.Given
	content  *content
	given    answer.Given // what was answered, of those
	asking   *asking
	survey   archive.Survey
	archive  string   // the archive's file on this machine
	configs  [][]byte // the configuration files, as the kit lists them
	secrets  map[string]secret.Text
	password secret.Text // the admin's

	asideFrom string   // the folder in which …
	aside     []string // … these stand in the way, and are set aside
	inTheWay  []string // the same, described
}

// PlanPlace is where the site goes.
type PlanPlace struct {
	URL    string `json:"url"`
	Folder string `json:"folder"`
	State  string `json:"state"` // new, empty, beside (other sites lie below it), occupied (what is there is set aside)

	AdminFolder string `json:"admin_folder,omitempty"`
	DataFolder  string `json:"data_folder,omitempty"` // from the account's top, outside of every document root
}

// PlanData is the database of the site.
type PlanData struct {
	From    string   `json:"from"` // new, existing or by-hand
	Engine  string   `json:"engine"`
	Server  string   `json:"server"`
	Name    string   `json:"name"`
	User    string   `json:"user"`
	Clients []string `json:"clients,omitempty"`
	Tables  string   `json:"tables"`
	Others  int      `json:"other_tables"` // how many tables of others are in it
}

// PlanAdmin is who looks after the site.
type PlanAdmin struct {
	Name      string `json:"name"`
	Email     string `json:"email"`
	Generated bool   `json:"password_generated"`
	Length    int    `json:"password_length,omitempty"` // of a generated one, in characters
	First     string `json:"first_name,omitempty"`
	Last      string `json:"last_name,omitempty"`
	Support   string `json:"support_email,omitempty"`
}

// PlanSite is what visitors see.
type PlanSite struct {
	Title    string `json:"title"`
	Tagline  string `json:"tagline,omitempty"`
	Language string `json:"language"`
	Asked    []Told `json:"asked"`  // the app's own questions
	Extras   []Told `json:"extras"` // what is optional
}

// Told is a question of the app and its answer.
type Told struct {
	ID     string `json:"id"`
	Ask    string `json:"ask"`
	Answer string `json:"answer"` // "" for a secret one
	Secret bool   `json:"secret,omitempty"`
}

// Changes are what the account will hold that it does not hold now.
type Changes struct {
	Files     int      `json:"files"`
	Bytes     int64    `json:"bytes"`
	Databases []string `json:"databases"`
	Users     []string `json:"users"`
	Timers    []string `json:"timers"`
	SetAside  []string `json:"set_aside"`
}

// drawn are the answers that are drawn anew for every site unless somebody
// gave them: saved, they would stand in the way of the next.
var drawn = []string{"data.name", "data.user", "data.tables", "data.folder", "data.server", "admin.folder"}

// Saved gives the answers as a file that installs the same again, without
// secrets.
func (p *Plan) Saved() answer.File {
	out := answer.Given{}
	for _, q := range p.asking.questions() {
		v := p.answers[q.ID]
		again := p.given[q.ID] != "" || !slices.Contains(drawn, q.ID) || p.Data != nil && p.Data.From != dataNew && strings.HasPrefix(q.ID, "data.")
		if q.Quiet && p.given[q.ID] == "" {
			continue
		}
		if v != "" && !q.Secret && again {
			out[q.ID] = v
		}
	}
	if !p.kit.AccountElsewhere() {
		out["admin.password"] = Generate
	}
	return answer.File{Install: p.App, At: p.Place.URL, Release: p.Release, Answers: out}
}

// givenSecrets names the vault's entries that hold secrets among the answers.
func (p *Plan) givenSecrets() []string {
	out := []string{adminPassword}
	for _, id := range secretIDs(p.kit.Kit) {
		if _, given := p.secrets[askedSecret(id)]; given {
			out = append(out, askedSecret(id))
		}
	}
	if p.Data != nil && p.Data.From != dataNew {
		out = append(out, dataPassword)
	}
	return out
}
