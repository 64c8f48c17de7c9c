package kit

import (
	"maps"
	"slices"
)

// commonAnswers are the ids of answers that every app has; a kit's own
// questions have other ids.
var commonAnswers = []string{"language", "licence", "title", "tagline", "admin", "data", "occupied", "care", "details"}

// commonNames are the values that every kit can use.
var commonNames = []string{
	"title", "tagline", "language", "release", "app", "url", "domain", "path", "now",
	"admin.name", "admin.email", "admin.password",
	"data.engine", "data.server", "data.host", "data.port", "data.name", "data.user", "data.password", "tables",
}

// plainNames lists the values that are not put together from others.
func (k *Kit) plainNames() []string {
	names := slices.Clone(commonNames)
	for _, a := range k.Asks {
		names = append(names, "ask."+a.ID)
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
