package site

import (
	"slices"
	"strings"
	"time"

	"tivset/internal/records/ledger"
)

// Record is the site as the ledger has it when a job has put it there, without
// what only the job knows.
func (s *Site) Record(now time.Time) ledger.Site {
	now = now.UTC()
	r := ledger.Site{
		Address: s.Address(), URL: s.Place.URL, AdminURL: s.AdminURL(), App: s.App, Release: s.Release, Archive: s.Archive,
		Account: s.Account, Folder: s.Place.Folder, Language: s.Face.Language, Title: s.Face.Title,
		Admin:       ledger.Admin{Name: s.Admin.Name, Email: s.Admin.Email},
		InstalledAt: now, UpdatedAt: now, CheckedAt: &now, Care: s.Care, Labels: s.Labels, Health: "good",
		DataFolder: s.Place.DataFolder, Database: s.Recorded(),
	}
	for id, text := range s.remembered() {
		if *text != "" {
			r.Chosen = append(r.Chosen, ledger.Choice{ID: id, Answer: *text})
		}
	}
	slices.SortFunc(r.Chosen, func(a, b ledger.Choice) int { return strings.Compare(a.ID, b.ID) })
	for _, t := range append(slices.Clone(s.Face.Asked), s.Face.Extras...) {
		if !t.Secret {
			r.Chosen = append(r.Chosen, ledger.Choice{ID: t.ID, Answer: t.Answer})
		}
	}
	if s.Kit.Licence.MustAccept {
		r.Licence = &ledger.Accepted{Name: s.Kit.Licence.Name, Release: s.Release, At: now}
	}
	return r
}
