package plan

import (
	"strings"

	"tivset/internal/answer"
	"tivset/internal/app/archive"
	"tivset/internal/question"
	"tivset/internal/site"
)

// Request is what somebody wants installed.
type Request struct {
	App     string
	At      string
	Release string // "" for the newest that fits
	Account string // "" when only one can be meant
	Archive string // a file here that is the release's archive, for kits that need it
	// the SHA-256 of such an archive that the kit does not know, and that the owner accepts
	AcceptArchive string
	Answers       answer.Given
	Labels        map[string]string `json:",omitempty"` // the operator's own words for the site, by name

	Proposed question.Proposed // drawn when it is empty
	Carried  *site.Carried     // what the site gets in place of a release's files and set-up, or nil
}

// Plan is everything that an install is about to do.
type Plan struct {
	site.Site
	Changes  Changes  `json:"changes"`
	Needs    []Need   `json:"needs"`
	Todo     []string `json:"todo"` // what is left for the owner to do
	Warnings []string `json:"warnings"`

	Archive string         `json:"-"` // the archive's file on this machine
	Survey  archive.Survey `json:"-"`
	// the configuration files, as the kit lists them; nil for one that is edited in place
	Configs  [][]byte      `json:"-"`
	Aside    Aside         `json:"-"`
	InTheWay []string      `json:"-"` // what is set aside, described
	Carried  *site.Carried `json:"-"`

	asking *question.Asking
}

// Aside is what stands in the way, and is set aside.
type Aside struct {
	From    string   // the folder in which …
	Entries []string // … these are
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
	given := p.asking.Given
	for _, q := range p.asking.Questions() {
		v := p.Answers[q.ID]
		ofOthers := p.Data != nil && p.Data.From != question.DataNew && strings.HasPrefix(q.ID, "data.")
		again := given[q.ID] != "" || !question.Drawn(q.ID) || ofOthers
		if q.Quiet && given[q.ID] == "" {
			continue
		}
		if q.ID == answer.AdminName && v == p.asking.Proposed.AdminName {
			continue // another site gets another
		}
		if v != "" && !q.Secret && again {
			out[q.ID] = v
		}
	}
	if !p.Kit.AccountElsewhere() {
		out[answer.AdminPassword] = question.Generate
	}
	return answer.File{Install: p.App, At: p.Place.URL, Release: p.Release, Answers: out}
}
