package kit

import (
	"maps"
	"slices"

	"tivset/internal/answer"
	"tivset/internal/app/fill"
)

// commonAnswers are the ids of answers that every app has; a kit's own
// questions have other ids.
var commonAnswers = []string{"language", "licence", "title", answer.Subtitle, "admin", "data", "support", "extra",
	answer.Occupied,
	"care", "details"}

// commonNames are the values that every kit can use.
var commonNames = []string{
	"title", answer.Subtitle, "language", "release", "app", "url", "domain", "path", "now", "site.folder",
	answer.AdminName, answer.AdminEmail, answer.AdminPassword, answer.AdminFirstName, answer.AdminLastName,
	"support.email",
	"data.engine", answer.DataServer, "data.host", "data.port", answer.DataName, answer.DataUser, answer.DataPassword,
	"data.file",
	"tables",
}

// plainNames lists the values that are not put together from others.
func (k *Kit) plainNames() []string {
	names := slices.Clone(commonNames)
	for _, a := range k.Questions {
		names = append(names, "answer."+a.ID)
	}
	for _, e := range k.Extras {
		names = append(names, e.Answer())
	}
	if k.Place.AdminFolder != "" {
		names = append(names, answer.AdminFolder)
	}
	if k.Place.DataFolder {
		names = append(names, "data.folder")
	}
	for _, n := range slices.Sorted(maps.Keys(k.Secrets)) {
		names = append(names, "secret."+n)
	}
	return names
}

// Names lists all values that the kit's texts and templates can use.
func (k *Kit) Names() []string {
	names := k.plainNames()
	for _, n := range slices.Sorted(maps.Keys(k.Values)) {
		names = append(names, "value."+n)
	}
	return names
}

// VaultNames lists the names under which a site's secrets are kept: those made
// for it, and the answers that are secret.
func (k *Kit) VaultNames() []string {
	var names []string
	for _, a := range k.Questions {
		if a.Secret {
			names = append(names, "answer."+a.ID)
		}
	}
	for _, n := range slices.Sorted(maps.Keys(k.Secrets)) {
		names = append(names, "secret."+n)
	}
	return names
}

// Question returns the kit's question of an id, or nil.
func (k *Kit) Question(id string) *Question {
	for i := range k.Questions {
		if k.Questions[i].ID == id {
			return &k.Questions[i]
		}
	}
	return nil
}

// Uses says whether any text or template of the kit has a place for a value.
func (k *Kit) Uses(name string) bool { return k.used[name] }

// use notes the values that a text has places for.
func (k *Kit) use(text string) {
	for _, p := range fill.Parse(text) {
		if p.Name != "" {
			k.used[p.Name] = true
		}
	}
}
