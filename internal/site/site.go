package site

import (
	"maps"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/answer/care"
	"tivset/internal/app/catalogue"
	"tivset/internal/app/fill"
	"tivset/internal/app/kit"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/place"
	"tivset/internal/secret"
)

// Site is an app at a place. Nothing writes to one once it is made; a site with
// other secrets or another release is another Site.
type Site struct {
	App     string            `json:"app"`
	Title   string            `json:"app_title"`
	Release string            `json:"release"`
	Account string            `json:"account"`
	Place   Place             `json:"place"`
	Data    *Data             `json:"data,omitempty"` // nil for an app without a database
	Admin   Admin             `json:"admin"`
	Face    Branding          `json:"site"`
	Care    care.Care         `json:"care"`
	Labels  map[string]string `json:"labels,omitempty"` // the operator's own words, by name

	Kit     catalogue.Entry        `json:"-"`
	Of      *kit.Release           `json:"-"` // the release, as the kit describes it
	Archive string                 `json:"-"` // SHA-256 of the archive that its files are of, where that is known
	In      *account.Account       `json:"-"`
	At      place.Place            `json:"-"`
	Server  *account.Database      `json:"-"` // where its data is; nil without a database
	Answers answer.Given           `json:"-"` // without the secrets among them
	Secrets map[string]secret.Text `json:"-"` // by their names below the site's in the vault
}

// Place is where the site goes.
type Place struct {
	URL    string `json:"url"`
	Folder string `json:"folder"`
	State  string `json:"state"` // in a plan, what is there: new, empty, beside (other sites lie below it), occupied

	AdminFolder string `json:"admin_folder,omitempty"`
	DataFolder  string `json:"data_folder,omitempty"` // from the account's top, outside of every document root
}

// Data is the database of the site.
type Data struct {
	From    string   `json:"from"` // new, existing or by-hand
	Engine  string   `json:"engine"`
	Server  string   `json:"server"` // the account's name for it
	Name    string   `json:"name"`
	User    string   `json:"user"`
	Clients []string `json:"clients,omitempty"`
	Tables  string   `json:"tables"`
	Others  int      `json:"other_tables"` // in a plan: how many tables of others are in it
}

// Admin is who looks after the site.
type Admin struct {
	Name      string `json:"name"`
	Email     string `json:"email"`
	Generated bool   `json:"password_generated"`
	Length    int    `json:"password_length,omitempty"` // of a generated one, in characters
	First     string `json:"first_name,omitempty"`
	Last      string `json:"last_name,omitempty"`
	Support   string `json:"support_email,omitempty"`
}

// Branding is what visitors see.
type Branding struct {
	Title    string `json:"title"`
	Subtitle string `json:"subtitle,omitempty"`
	Language string `json:"language"`
	Asked    []Told `json:"asked"`  // the app's own questions
	Extras   []Told `json:"extras"` // what is optional
}

// Told is a question of the app and its answer.
type Told struct {
	ID     string `json:"id"`
	Ask    string `json:"text"`
	Answer string `json:"answer"` // "" for a secret one
	Secret bool   `json:"secret,omitempty"`
}

// Address is what the site is called by.
func (s *Site) Address() string { return s.At.Address() }

// Password is the admin's.
func (s *Site) Password() secret.Text { return s.Secrets[AdminPassword] }

// With gives the same site with other secrets: those named replace its own.
func (s *Site) With(secrets map[string]secret.Text) *Site {
	other := *s
	other.Secrets = maps.Clone(s.Secrets)
	if other.Secrets == nil {
		other.Secrets = map[string]secret.Text{}
	}
	maps.Copy(other.Secrets, secrets)
	return &other
}

// AdminURL is where the admin area is.
func (s *Site) AdminURL() string {
	admin, err := fill.Text(s.Kit.Admin, fill.Values{answer.AdminFolder: s.Place.AdminFolder})
	if err != nil {
		admin = "" // the kit's checker lets no other place through
	}
	return s.Place.URL + strings.TrimPrefix(admin, "/")
}

// Hidden lists every secret, for messages to leave out.
func (s *Site) Hidden() []string {
	var out []string
	for _, v := range s.Secrets {
		out = append(out, v.Reveal())
	}
	return out
}

// Holds says whether a step or a timer of the kit applies to the site.
func (s *Site) Holds(condition string) bool { return Holds(condition, s.Answers) }

// Holds says whether a condition of a kit holds with some answers.
func Holds(condition string, given answer.Given) bool {
	c, err := answer.ParseCondition(condition)
	return err == nil && c.Holds(given)
}

// Interval words 5m as 5 minutes.
func Interval(every string) string {
	unit := map[byte]string{'m': "minute", 'h': "hour"}[every[len(every)-1]]
	if n := every[:len(every)-1]; n != "1" {
		return n + " " + unit + "s"
	}
	return unit
}

// HasExtra says whether a kit has an extra.
func HasExtra(k *kit.Kit, id string) bool {
	for _, e := range k.Extras {
		if e.ID == id {
			return true
		}
	}
	return false
}

// Timers lists the kit's timers that the account's crontab can run.
func (s *Site) Timers() []kit.Timer {
	var out []kit.Timer
	if IsRehearsal(s.Address()) {
		return nil // it is quiet
	}
	for _, t := range s.Kit.Timers {
		if s.Holds(t.When) && s.In.Runtime.Crontab != "" && (t.Get != "" || s.In.Runtime.PHP != "") {
			out = append(out, t)
		}
	}
	return out
}

// Only gives the same site with no other secrets than these.
func (s *Site) Only(secrets map[string]secret.Text) *Site {
	other := *s
	other.Secrets = maps.Clone(secrets)
	return &other
}
