package kit_test

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/kit"
)

const arriving = `kit: 1
app: tidebook
title: Tidebook
kind: blog
summary: Notes of the tides
licence: {name: None, text: licence.txt}
archive:
  debian:
    package: tidebook
    suites: [bookworm, trixie, sid]
    also: [libjs-tides]
    take: {usr/share/tidebook: .}
    put: {data/.htaccess: denied}
    change: [{file: a.php, from: x, to: y}]
    variants:
      - {releases: ">=2", also: [php-tides/sid], take: {usr/share/php: php}, needs: {php: {version: ">=8.1"}, space: 9MB}}
needs: {php: {version: ">=7.4"}, space: 8MB}
config:
  - {path: config.php, template: config.php.tmpl, format: php}
values:
  signed: "{admin.password}{admin.name}"
check:
  front: {get: /, expect: {text: Tidebook}}
  sign-in:
    page: sign-in
    fields: {name: "{admin.name}", password: "{admin.password}"}
    then: {get: office, expect: {text: Sign out}}
`

func tidebook(t *testing.T, template string) *kit.Kit {
	t.Helper()
	k, err := kit.Read(fstest.MapFS{"kit.yaml": {Data: []byte(arriving)}, "licence.txt": {Data: []byte("None")},
		"config.php.tmpl": {Data: []byte(template)}}, "tidebook")
	require.NoError(t, err)
	return k
}

// What the suites have becomes the kit's releases: newest first, each once, how far each
// goes, what each is made of; and what mends a hole is urgent for those who lack it.
func TestReleasesThatArrive(t *testing.T) {
	k := tidebook(t, "<?php\n$a = {title};\n")
	assert.Empty(t, k.Newest().Release, "nobody has looked them up")
	k.Arrived([]kit.Arrival{{Version: "1:1.4.1+dfsg-3+deb12u2", Suite: "bookworm", Date: "2026-11-20", Urgent: true},
		{Version: "1:1.4.1+dfsg-4", Suite: "trixie", Date: "2026-09-01"}, {Version: "1:2.0+dfsg-1", Suite: "sid"},
		{Version: "1:2.0+dfsg-1", Suite: "forky"}})
	require.Equal(t, []string{"2.0-1", "1.4.1-4", "1.4.1-3+deb12u2"}, k.Versions())
	assert.Equal(t, "breaking", k.Releases[0].Level)
	assert.Equal(t, "fixes", k.Releases[1].Level)
	assert.Equal(t, "sid", k.Releases[0].Archive.Packages.Suite, "the first of the same")
	assert.Equal(t, []string{"libjs-tides", "php-tides/sid"}, k.Releases[0].Archive.Packages.Recipe.Also)
	assert.Equal(t, []string{"libjs-tides"}, k.Releases[2].Archive.Packages.Recipe.Also)
	assert.Len(t, k.Releases[0].Archive.Packages.Recipe.Take, 2)
	assert.Equal(t, ">=8.1", k.Releases[0].Needs.PHP.Version)
	assert.Equal(t, ">=7.4", k.Releases[2].Needs.PHP.Version)

	assert.Equal(t, "1.4.1-4", k.Find("1.4.1").Release, "the newest of the app's own version")
	assert.Equal(t, "1.4.1", k.Find("1.4.1-3+deb12u2").Upstream())
	assert.Nil(t, k.Find("1.4.0"))
	gone := k.Past("1.4.1-3+deb12u1")
	require.NotNil(t, gone)
	assert.Empty(t, gone.Archive.Packages.Version, "no suite has it")
	assert.Equal(t, ">=7.4", gone.Needs.PHP.Version)

	assert.True(t, k.Urgent("1.4.1-3+deb12u1", "2.0-1"))
	assert.False(t, k.Urgent("1.4.1-3+deb12u2", "2.0-1"), "a suite has it as it is")
	between := k.Between("1.4.1-3+deb12u1", "1.4.1-3+deb12u2")
	require.Len(t, between, 1)
	assert.Equal(t, "fixes", between[0].Level)
}

// A password is renewed where the kit can: by steps, or in a template, also when it is
// put together there; what a filter made can be read back where it can be taken back.
func TestWhatTemplatesTell(t *testing.T) {
	assert.False(t, tidebook(t, "<?php\n$a = {title};\n").RenewsPassword())
	assert.True(t, tidebook(t, "<?php\n$a = {admin.password | bcrypt};\n").RenewsPassword())
	k := tidebook(t, "<?php\n$a = {value.signed | sha1};\n$b = {title | html};\n$c = {admin.email | sha1};\n")
	assert.True(t, k.RenewsPassword())
	assert.True(t, k.ReadsNow("title"))
	assert.False(t, k.ReadsNow("admin.email"))
}
