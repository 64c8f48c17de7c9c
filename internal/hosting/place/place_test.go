package place_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/place"
)

var domains = []account.Domain{
	{Name: "quillmere.localhost", Folder: "web/quillmere", URL: "http://quillmere.localhost:8780"},
	{Name: "lockside.localhost", Folder: "web/lockside", URL: "http://lockside.localhost:8780"},
	{Name: "slate-school.localhost", Folder: "web/slate-school", URL: "https://slate-school.localhost"},
}

func TestResolve(t *testing.T) {
	for address, want := range map[string][3]string{ // URL, folder, address
		"http://lockside.localhost:8780/forum": {"http://lockside.localhost:8780/forum/", "web/lockside/forum",
			"lockside.localhost:8780/forum"},
		"lockside.localhost/forum/": {"http://lockside.localhost:8780/forum/", "web/lockside/forum",
			"lockside.localhost:8780/forum"},
		"LOCKSIDE.localhost":       {"http://lockside.localhost:8780/", "web/lockside", "lockside.localhost:8780"},
		"lockside.localhost:8780/": {"http://lockside.localhost:8780/", "web/lockside", "lockside.localhost:8780"},
		"https://slate-school.localhost/a_b-2": {"https://slate-school.localhost/a_b-2/", "web/slate-school/a_b-2",
			"slate-school.localhost/a_b-2"},
	} {
		p, err := place.Resolve(address, domains)
		require.NoError(t, err, address)
		assert.Equal(t, want, [3]string{p.URL(), p.Folder(), p.Address()})
	}
}

func TestResolveRefuses(t *testing.T) {
	for address, words := range map[string]string{
		"":                                              "names no domain",
		"/forum":                                        "names no domain",
		"lockside.localhots/forum":                      "Did you mean lockside.localhost?",
		"other.example":                                 "quillmere.localhost, lockside.localhost",
		"lockside.localhost:9999/forum":                 "http://lockside.localhost:8780",
		"https://lockside.localhost/forum":              "http://lockside.localhost:8780",
		"ftp://lockside.localhost/forum":                "http://lockside.localhost:8780",
		"lockside.localhost/..":                         "upwards",
		"lockside.localhost/../quillmere":               "upwards",
		"lockside.localhost/a/B c":                      "such as b-c",
		"lockside.localhost/a/../b":                     "upwards",
		"lockside.localhost/a/b/c/d/e":                  "at most 4",
		"lockside.localhost/a/cgi-bin":                  "keep this directory",
		"lockside.localhost//a":                         "one slash between",
		"lockside.localhost/My Blog":                    "such as my-blog",
		"lockside.localhost/a%20b":                      "spaces",
		"lockside.localhost/Blog":                       "Write blog.",
		"lockside.localhost/blög":                       "such as blog.",
		"lockside.localhost/f%C3%B6rum":                 "such as forum.",
		"lockside.localhost/Straße":                     "such as strasse.",
		"lockside.localhost/.git":                       "keep this directory",
		"lockside.localhost/cgi-bin":                    "keep this directory",
		"lockside.localhost/other.localhost":            "looks like a domain",
		"lockside.localhost/a?b=c":                      "Leave out",
		"me@lockside.localhost/a":                       "Leave out",
		"lockside.localhost/a\\b":                       "characters",
		"lockside.localhost/" + strings.Repeat("x", 64): "characters",
	} {
		_, err := place.Resolve(address, domains)
		f := fault.Of(err)
		require.Error(t, err, address)
		assert.Equal(t, fault.Usage, f.Kind)
		assert.Contains(t, f.What+" "+f.Remedy, words, address)
	}
}

func TestMatch(t *testing.T) {
	all := []string{"lockside.localhost:8780/forum", "lockside.localhost:8780/journal", "quillmere.localhost:8780"}
	for word, want := range map[string]string{
		"lockside.localhost:8780/forum":         all[0],
		"http://lockside.localhost:8780/forum/": all[0],
		"forum":                                 all[0],
		"/journal":                              all[1],
		"quill":                                 all[2],
		"QUILL":                                 all[2],
		"lockside.localhost/forum":              all[0],
		"quillmere.localhost":                   all[2],
	} {
		got, err := place.Match(word, all)
		require.NoError(t, err, word)
		assert.Equal(t, want, got)
	}
	_, err := place.Match("lockside", all)
	assert.ErrorContains(t, err, "several")
	assert.Len(t, fault.Of(err).Details, 2)
	for _, word := range []string{"", "nothing", "/"} {
		_, err = place.Match(word, all)
		assert.ErrorContains(t, err, "no site", word)
	}
}

func FuzzResolve(f *testing.F) {
	f.Add("http://lockside.localhost:8780/forum")
	f.Add("lockside.localhost/../x")
	f.Fuzz(func(t *testing.T, address string) {
		p, err := place.Resolve(address, domains)
		if err == nil && !files.Within(p.Folder(), p.Domain.Folder) {
			t.Fatalf("%q leads to %s", address, p.Folder())
		}
	})
}

// A directory alone is meant for the main domain, or for the only one.
func TestADirectoryAlone(t *testing.T) {
	main := slices.Clone(domains)
	main[1].Primary = true
	p, err := place.Resolve("/forum", main)
	require.NoError(t, err)
	assert.Equal(t, main[1].Name, p.Domain.Name)
	p, err = place.Resolve("/forum", domains[:1])
	require.NoError(t, err)
	assert.Equal(t, "forum", p.Dir)
}
