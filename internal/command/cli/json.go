package cli

import (
	"tivset/internal/app/catalogue"
	"tivset/internal/app/kit"
	"tivset/internal/check"
	"tivset/internal/records/ledger"
	"tivset/internal/work"
)

// The documents of --json. docs/json.md describes them; fields are only ever
// added.

type AdminJSON struct {
	Name     string `json:"name"`
	Email    string `json:"email"`
	Password string `json:"password,omitempty"`
}

type outcomeJSON struct {
	Outcome  string          `json:"outcome"`
	Job      string          `json:"job"`
	Site     ledger.Site     `json:"site"`
	Admin    AdminJSON       `json:"admin"`
	Checks   []check.Checked `json:"checks"`
	Warnings []string        `json:"warnings"`
	Todo     []string        `json:"todo"`
}

func installedJSON(r *work.Done, password bool) outcomeJSON {
	o := outcomeJSON{"installed", r.Job, r.Site, AdminJSON{Name: r.Site.Admin.Name, Email: r.Site.Admin.Email}, r.Checks,
		r.Warnings, r.Todo}
	if password {
		o.Admin.Password = r.Password.Reveal()
	}
	return o
}

type appJSON struct {
	App       string `json:"app"`
	Title     string `json:"title"`
	Kind      string `json:"kind"`
	Summary   string `json:"summary"`
	Release   string `json:"release"`
	Catalogue string `json:"catalogue"`
}

func AppsJSON(all []catalogue.Card) []appJSON {
	out := []appJSON{}
	for _, e := range all {
		out = append(out, appJSON{e.App, e.Title, e.Kind, e.Summary, e.Release, e.Catalogue})
	}
	return out
}

type releaseJSON struct {
	Release string `json:"release"`
	Date    string `json:"date"`
	Level   string `json:"level"`
	Fixes   string `json:"fixes_until,omitempty"`
	Urgent  bool   `json:"urgent,omitempty"`
}

type questionJSON struct {
	ID      string   `json:"id"`
	Text    string   `json:"text"`
	Kind    string   `json:"kind"`
	Default string   `json:"default,omitempty"`
	Needed  bool     `json:"needed"`
	Options []string `json:"options,omitempty"`
	Secret  bool     `json:"secret,omitempty"`
	When    string   `json:"when,omitempty"` // the condition under which it is asked
	Help    string   `json:"help,omitempty"`
}

type aboutJSON struct {
	App       string         `json:"app"`
	Title     string         `json:"title"`
	Kind      string         `json:"kind"`
	Summary   string         `json:"summary"`
	Home      string         `json:"home,omitempty"`
	Licence   licenceJSON    `json:"licence"`
	Languages []string       `json:"languages"`
	Releases  []releaseJSON  `json:"releases"`
	Needs     map[string]any `json:"needs"`
	Questions []questionJSON `json:"questions"`
	Extras    []questionJSON `json:"extras"`
	Catalogue string         `json:"catalogue"`
}

type licenceJSON struct {
	Name       string `json:"name"`
	MustAccept bool   `json:"must_accept"`
}

func needsJSON(n kit.Needs) map[string]any {
	out := map[string]any{}
	if n.PHP != nil {
		out["php"] = map[string]any{"version": n.PHP.Version, "extensions": n.PHP.Extensions, "functions": n.PHP.Functions,
			"settings": n.PHP.Settings}
	}
	if len(n.Database) > 0 {
		out["database"] = n.Database
	}
	if n.Space != "" {
		out["space"] = n.Space
	}
	return out
}

func NewAboutJSON(e catalogue.Entry) aboutJSON {
	a := aboutJSON{App: e.App, Title: e.Title, Kind: e.Kind, Summary: e.Summary, Home: e.Home, Catalogue: e.Catalogue,
		Licence: licenceJSON{e.Licence.Name, e.Licence.MustAccept}, Languages: e.Languages,
		Needs: needsJSON(e.Newest().Needs), Questions: []questionJSON{}, Extras: []questionJSON{}}
	if a.Languages == nil {
		a.Languages = []string{"en"}
	}
	for _, r := range e.Releases {
		a.Releases = append(a.Releases, releaseJSON{r.Release, r.Date, r.Level, r.Fixes, r.Urgent})
	}
	for _, q := range e.Questions {
		a.Questions = append(a.Questions, questionJSON{q.ID, q.Text, q.Kind, q.Default, q.Needed || q.NeededIf != "",
			q.Options, q.Secret,
			q.NeededIf + q.AskedIf, q.Help})
	}
	for _, x := range e.Extras {
		a.Extras = append(a.Extras, questionJSON{ID: x.Answer(), Text: x.Text, Kind: x.Kind, Default: x.Default,
			Options: x.Options,
			Help:    x.Help})
	}
	return a
}
