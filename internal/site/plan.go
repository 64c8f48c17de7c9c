package site

import (
	"tivset/internal/account"
	"tivset/internal/answer"
	"tivset/internal/archive"
	"tivset/internal/catalogue"
	"tivset/internal/kit"
	"tivset/internal/ledger"
	"tivset/internal/place"
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
	Warnings []string    `json:"warnings"`

	kit      catalogue.Entry
	release  *kit.Release
	account  *account.Account
	place    place.Place
	server   *account.Database
	answers  answer.Given
	survey   archive.Survey
	archive  string   // the archive's file on this machine
	configs  [][]byte // the configuration files, as the kit lists them
	secrets  map[string]secret.Text
	password secret.Text // the admin's
}

// PlanPlace is where the site goes.
type PlanPlace struct {
	URL    string `json:"url"`
	Folder string `json:"folder"`
	State  string `json:"state"` // new, empty, beside (other sites lie below it)
}

// PlanData is the database that is made.
type PlanData struct {
	Engine  string   `json:"engine"`
	Server  string   `json:"server"`
	Name    string   `json:"name"`
	User    string   `json:"user"`
	Clients []string `json:"clients,omitempty"`
	Tables  string   `json:"tables"`
}

// PlanAdmin is who looks after the site.
type PlanAdmin struct {
	Name      string `json:"name"`
	Email     string `json:"email"`
	Generated bool   `json:"password_generated"`
}

// PlanSite is what visitors see.
type PlanSite struct {
	Title    string `json:"title"`
	Tagline  string `json:"tagline,omitempty"`
	Language string `json:"language"`
	Asked    []Told `json:"asked"` // the app's own questions
}

// Told is a question of the app and its answer.
type Told struct {
	ID     string `json:"id"`
	Ask    string `json:"ask"`
	Answer string `json:"answer"`
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

// Saved gives the answers as a file that installs the same again, without
// secrets.
func (p *Plan) Saved() answer.File {
	out := answer.Given{}
	for id, v := range p.answers {
		if v != "" {
			out[id] = v
		}
	}
	out["admin.password"] = Generate
	return answer.File{Install: p.App, At: p.Place.URL, Release: p.Release, Answers: out}
}
