// Package house_test holds the plan of the house against the imports.
package arch_test

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// floor is how high a room stands: it imports rooms of lower floors, and of its
// own only those that its line lists.
var floors = []struct {
	name  string
	rooms map[string]string // the room, and what it may import of its own floor
}{
	{"small tools", map[string]string{
		"answer/care": "fault", "answer/language": "", "answer/table": "fault",
		"atomicfile": "", "fault": "", "logs": "", "suggest": "", "secret": "", "onetimepage": "",
		"notify/mail": "", "notify/webhook": "",
		"answer": "fault suggest",
	}},
	{"hosting, its small tools", map[string]string{"hosting/bounded": "", "hosting/backoff": "",
		"hosting/certificates": ""}},
	{"hosting, its rooms", map[string]string{
		"hosting/files": "", "hosting/web": "", "hosting/database": "", "hosting/account": "hosting/database",
		"hosting/place": "hosting/account", "hosting/ssh": "",
		"hosting/files/local": "hosting/files", "hosting/files/sftp": "hosting/files hosting/ssh",
		"hosting/files/ftp":        "hosting/files",
		"hosting/database/mariadb": "hosting/database", "hosting/database/postgresql": "hosting/database",
		"hosting/database/sqlite": "hosting/database hosting/files", "hosting/database/helper": "hosting/database",
		"hosting/hostmail":   "",
		"hosting/runtime":    "",
		"hosting/helperpage": "hosting/database hosting/files hosting/web",
	}},
	{"app, its rooms", map[string]string{
		"app/fill": "", "app/config": "app/fill", "app/kit": "app/config app/fill app/version",
		"app/catalogue": "app/kit", "app/fetch": "",
		"app/index":   "app/archive app/catalogue app/fetch app/kit",
		"app/rewrite": "",
		"app/archive": "", "app/version": "", "app/debian": "app/archive app/fetch app/version",
		"app/release": "app/archive app/catalogue app/config app/debian app/draft app/fetch app/fill app/kit app/version",
		"app/setup":   "app/config app/fill app/kit",
		"app/draft":   "app/config app/fill app/kit",
		"app/author":  "app/archive app/catalogue app/debian app/draft app/fetch app/kit app/release app/version",
	}},
	{"records", map[string]string{
		"records/catalogues": "records/home records/ledger",
		"records/outbox":     "records/home",
		"records/trust":      "", "records/home": "", "records/ledger": "records/trust", "records/vault": "records/trust",
		"records/job": "", "records/backup": "", "records/depot": "", "records/recovery": "records/home",
		"records/team":  "records/home records/job records/ledger records/trust records/vault",
		"records/queue": "records/ledger records/team records/trust",
	}},
	{"accounts, open", map[string]string{"hosting": "", "hosting/reach": ""}},
	{"what can be asked", map[string]string{"question": ""}},
	{"the noun", map[string]string{"site": "site/redirect", "site/handover": "site", "site/redirect": ""}},
	{"looking", map[string]string{"plan": "", "check": ""}},
	{"steps", map[string]string{"step": ""}},
	{"work", map[string]string{"work": ""}},
	{"lists", map[string]string{"accounts": "", "sites": "", "sites/report": "sites"}},
	{"ways", map[string]string{
		"work/install": "", "work/update": "", "work/backup": "", "work/remove": "", "work/renew": "", "work/repair": "",
		"work/adopt": "",
		"work/place": "work/remove", "work/restore": "work/backup work/place",
		"work/rebuild":  "work/adopt work/backup work/renew work/restore",
		"work/batch":    "",
		"work/rehearse": "work/place work/remove work/update",
		"work/rounds":   "work/backup work/rehearse work/update",
	}},
	{"requests", map[string]string{"work/requests": "", "work/orders": "work/requests"}},
	{"put together", map[string]string{"work/ways": "", "core": "work/ways"}},
	{"conversations", map[string]string{"wizard": ""}},
	{"the screen", map[string]string{"screen": ""}},
	{"sides", map[string]string{
		"standin": "standin/*", "standin/mysqld": "", "standin/pages": "", "standin/mailbox": "", "standin/lines": "",
		"standin/sftpd": "standin/lines", "standin/ftpd": "standin/lines", "demo": "standin",
	}},
	{"trials", map[string]string{"trial/servers": "", "trial": "trial/servers"}},
	{"the command line", map[string]string{
		"command/cli": "", "command/accounts": "command/cli", "command/kits": "command/cli", "command/team": "command/cli",
		"command/upkeep": "command/cli command/team", "command/sites": "command/cli command/upkeep",
		"command": "command/*",
	}},
	{"tests", map[string]string{
		"testing/line": "", "testing/impostor": "", "testing/mirror": "", "testing/sitetest": "", "testing/arch": "",
		"testing/chaos":           "testing/mirror testing/sitetest",
		"hosting/files/filestest": "", "hosting/database/databasetest": "", "records/ledger/ledgertest": "",
		"records/depot/depottest": "",
	}},
}

// never are imports that no floor allows, whatever stands where.
var never = map[string][]string{
	"standin": {"hosting", "app", "records", "site", "plan", "check", "step", "work", "core", "wizard", "screen", "fault",
		"secret"},
	"question": {"records", "hosting/files", "hosting/web", "hosting/ssh", "hosting/helperpage", "hosting/reach"},
	"app":      {"records", "hosting/account", "hosting/reach"},
	"hosting":  {"app", "records"},
	"step":     {"plan"},
	"wizard":   {"work", "step"},
}

// only are imports that belong to some rooms alone.
var only = map[string]string{
	"github.com/spf13/cobra":         "command command/*",
	"charm.land/lipgloss/v2":         "screen",
	"github.com/go-sql-driver/mysql": "hosting/database/mariadb standin/pages trial/servers",
	"modernc.org/sqlite":             "records/ledger hosting/database/sqlite standin/mysqld",
	"github.com/jackc/pgx/v5": "hosting/database/postgresql records/queue records/team trial/servers " +
		"testing/sitetest",
	"github.com/riverqueue/river": "records/queue",
	"filippo.io/age":              "records/vault records/backup records/recovery",
	"github.com/wneessen/go-mail": "notify/mail",
	"os/exec": "command/cli command/sites demo hosting/files/local hosting/database/helper " +
		"trial/servers",
	"golang.org/x/term":               "command/cli screen",
	"github.com/gofrs/flock":          "records/vault records/trust records/job records/home trial/servers app/fetch",
	"github.com/ulikunitz/xz":         "app/archive testing/mirror",
	"aead.dev/minisign":               "app/index",
	"github.com/PuerkitoBio/goquery":  "hosting/web app/draft app/setup",
	"github.com/pelletier/go-toml/v2": "standin/pages",
	"github.com/joho/godotenv":        "standin/pages",
}

// imports lists the packages below internal with what each imports.
func imports(t *testing.T) map[string][]string {
	t.Helper()
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "./...").Output()
	require.NoError(t, err)
	all := map[string][]string{}
	for line := range strings.Lines(string(out)) {
		words := strings.Fields(line)
		if room, ok := strings.CutPrefix(words[0], "tivset/internal/"); ok {
			all[room] = words[1:]
		}
	}
	return all
}

// standing gives the floor of each room, and what it may import beside it.
func standing(t *testing.T) (floor map[string]int, beside map[string]string) {
	t.Helper()
	floor, beside = map[string]int{}, map[string]string{}
	for n, f := range floors {
		for room, list := range f.rooms {
			_, twice := floor[room]
			require.False(t, twice, room)
			floor[room], beside[room] = n, list
		}
	}
	return floor, beside
}

func TestImportsPointDownTheFloors(t *testing.T) {
	floor, beside := standing(t)
	all := imports(t)
	for room, list := range all {
		at, known := floor[room]
		if !assert.True(t, known, "no floor is given for the room %s", room) {
			continue
		}
		for _, i := range list {
			other, ours := strings.CutPrefix(i, "tivset/internal/")
			if !ours {
				continue
			}
			below, known := floor[other]
			wing, _, _ := strings.Cut(other, "/")
			allowed := known && (below < at || slices.Contains(strings.Fields(beside[room]), other) ||
				slices.Contains(strings.Fields(beside[room]), wing+"/*"))
			assert.True(t, allowed, "%s (%s) imports %s", room, floors[at].name, other)
		}
	}
	for room := range floor {
		assert.Contains(t, all, room, "the plan has a room that is not there")
	}
}

func TestWhatNobodyMayImport(t *testing.T) {
	for room, list := range imports(t) {
		for wing, forbidden := range never {
			if room != wing && !strings.HasPrefix(room, wing+"/") || strings.HasSuffix(room, "test") {
				continue
			}
			for _, i := range list {
				other, _ := strings.CutPrefix(i, "tivset/internal/")
				for _, f := range forbidden {
					assert.False(t, other == f || strings.HasPrefix(other, f+"/"), "%s imports %s", room, other)
				}
			}
		}
		for _, i := range list {
			if owners, limited := only[i]; limited && !strings.HasPrefix(room, "testing/") {
				wing, _, _ := strings.Cut(room, "/")
				allowed := slices.Contains(strings.Fields(owners), room) || slices.Contains(strings.Fields(owners), wing+"/*")
				assert.True(t, allowed, "%s imports %s", room, i)
			}
		}
	}
}

// What a newcomer reads first stays short.
func TestTheListOfWings(t *testing.T) {
	wings := map[string]bool{}
	for room := range imports(t) {
		wing, _, _ := strings.Cut(room, "/")
		wings[wing] = true
	}
	assert.LessOrEqual(t, len(wings), 27)
}

// What is for tests alone is imported by tests alone, and so are the libraries of tests: no package that the
// program is made of has one of them.
func TestTestsAreApart(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "tivset/cmd/tivset").Output()
	require.NoError(t, err)
	for line := range strings.Lines(string(out)) {
		name := strings.TrimSpace(line)
		for _, apart := range []string{"testing", "tivset/internal/testing/", "github.com/stretchr/testify",
			"pgregory.net/rapid", "github.com/rogpeppe/go-internal"} {
			assert.False(t, name == apart || strings.HasPrefix(name, strings.TrimSuffix(apart, "/")+"/"), "the program has %s",
				name)
		}
	}
}

// Each direct module has a line in the docs, which says what it is for, and no other has.
func TestTheListOfModules(t *testing.T) {
	out, err := exec.Command("go", "list", "-m", "-f", "{{if and (not .Indirect) (not .Main)}}{{.Path}}{{end}}",
		"all").Output()
	require.NoError(t, err)
	page, err := os.ReadFile("../docs/architecture.md")
	require.NoError(t, err)
	_, table, found := strings.Cut(string(page), "## Dependencies")
	require.True(t, found)
	listed := map[string]bool{}
	for _, m := range regexp.MustCompile(`(?m)^\| `+"`([^`]+)`"+` \| \S.*\|$`).FindAllStringSubmatch(table, -1) {
		listed[m[1]] = true
	}
	direct := strings.Fields(string(out))
	for _, module := range direct {
		assert.True(t, listed[module], "%s has no line in docs/architecture.md", module)
		delete(listed, module)
	}
	assert.Empty(t, listed, "the docs have modules that are not used")
}

// Files that the docs send somebody to are there.
func TestFilesOfTheDocs(t *testing.T) {
	page, err := os.ReadFile("../docs/architecture.md")
	require.NoError(t, err)
	names := regexp.MustCompile("`([a-z_]+(?:/[a-z_]+)+(?:\\.go|\\.md)?)`").FindAllStringSubmatch(string(page), -1)
	require.Greater(t, len(names), 40)
	for _, m := range names {
		if slices.Contains([]string{"work/clone", "hosting/files/webdav"}, m[1]) { // which are to be made
			continue
		}
		_, inside := os.Stat(m[1])
		_, top := os.Stat("../" + m[1])
		assert.True(t, inside == nil || top == nil, "%s is not there", m[1])
	}
}

// Weak hashes are for tests alone.
func TestNobodyElseHashesCheaply(t *testing.T) {
	out, err := exec.Command("grep", "-rl", "--include=*.go", "--exclude=*_test.go", `\.CheapHashes()`, "..").Output()
	require.NoError(t, err)
	assert.Equal(t, "../internal/testing/sitetest/world.go", strings.TrimSpace(string(out)))
}

// What the product knows of the stand-in is in its wing and in the demo's: no file of the product names its pages.
func TestTheProductDoesNotKnowTheStandIn(t *testing.T) {
	apart := regexp.MustCompile(`^\.\./internal/(standin|demo|testing|trial)/`)
	require.NoError(t, filepath.WalkDir("../internal", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") ||
			apart.MatchString(name) {
			return err
		}
		text, err := os.ReadFile(name)
		assert.NotRegexp(t, `\.page["`+"`"+`]`, string(text), name)
		return err
	}))
}

// Ids of answers stand in one place; a literal elsewhere would be missed when one is renamed.
func TestIdsOfAnswersStandInOnePlace(t *testing.T) {
	id := regexp.MustCompile(`"(admin\.(name|email|password|first-name|last-name|folder)|` +
		`data\.(from|server|name|user|password|tables))"`)
	require.NoError(t, filepath.WalkDir("../internal", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") ||
			strings.HasSuffix(name, "answer/ids.go") {
			return err
		}
		text, err := os.ReadFile(name)
		for line := range strings.Lines(string(text)) {
			if !strings.Contains(line, "`") { // a key of JSON or YAML
				assert.NotRegexp(t, id, line, name)
			}
		}
		return err
	}))
}
