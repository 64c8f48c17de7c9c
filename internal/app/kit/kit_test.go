package kit_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/kit"
	"tivset/internal/demo"
	"tivset/internal/fault"
)

// good gives the folder of a kit without mistakes, its kit.yaml changed.
func good(t *testing.T, change ...string) fstest.MapFS {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, demo.WriteCatalogue(dir))
	out := fstest.MapFS{}
	files, err := os.ReadDir(dir + "/willowbench")
	require.NoError(t, err)
	for _, f := range files {
		text, err := os.ReadFile(dir + "/willowbench/" + f.Name())
		require.NoError(t, err)
		out[f.Name()] = &fstest.MapFile{Data: text}
	}
	text := string(out["kit.yaml"].Data)
	for i := 0; i+1 < len(change); i += 2 {
		require.Contains(t, text, change[i])
		text = strings.Replace(text, change[i], change[i+1], 1)
	}
	out["kit.yaml"].Data = []byte(text)
	return out
}

func TestRead(t *testing.T) {
	k, err := kit.Read(good(t), "willowbench")
	require.NoError(t, err)
	assert.Equal(t, []string{"2.4.1", "2.3.7"}, k.Versions())
	assert.Equal(t, "2.4.1", k.Newest().Release)
	assert.Equal(t, "2.3.7", k.Find("2.3.7").Release)
	assert.Nil(t, k.Find("9"))
	assert.True(t, k.ByForms())
	assert.Contains(t, k.Names(), "answer.board")
	assert.Equal(t, int64(1_000_000), k.Newest().Space())
}

// Every mistake is found, with file, line and remedy.
func TestMistakes(t *testing.T) {
	for name, c := range map[string]struct{ from, to, what string }{
		"unknown key": {"title: Willowbench", "titel: Willowbench", "Did you mean title?"},
		"old key":     {"space: 1MB", "disk: 1MB", "It is called space now."},
		"old list":    {"questions:", "asks:", "It is called questions now."},
		"old key of a question": {"text: Name of the first board", "ask: Name of the first board", "It is " +
			"called text now."},
		"unknown nested key": {"date: 2026-09-02", "dated: 2026-09-02", "Did you mean date?"},
		"wrong type":         {"languages: [en, de, nl]", "languages: {en: 1}", "a wrong type"},
		"doubled key":        {"kind: forum", "kind: forum\nkind: blog", "stands twice"},
		"newer format":       {"kit: 1", "kit: 2", "write kit: 1"},
		"bad name":           {"app: willowbench", "app: Willowbench!", "lower case letters"},
		"bad kind":           {"kind: forum", "kind: forun", "one of blog, booking"},
		"no title":           {"title: Willowbench", "title: \"\"", "title is missing"},
		"missing file":       {"about: about.md", "about: abut.md", "no file abut.md"},
		"missing template":   {"template: willowbench.ini.tmpl", "template: none", "no file none"},
		"bad date":           {"2026-09-02", "2.9.2026", "Write it as 2026-09-02"},
		"bad level":          {"level: fixes", "level: tiny", "fixes, features, breaking"},
		"order of releases":  {"release: 2.4.1", "release: 2.2.0", "newest first"},
		"no checksum":        {"sha256: ", "sha256: x", "SHA-256"},
		"plain http": {"from: willowbench-2.4.1.tar.gz", "from: http://willowbench.example/a.tar.gz",
			"over https only"},
		"archive not there": {"from: willowbench-2.4.1.tar.gz", "from: none.tar.gz", "no file none.tar.gz"},
		"both from and name": {"from: willowbench-2.4.1.tar.gz", "from: willowbench-2.4.1.tar.gz, name: x",
			"either from or name"},
		"releases twice over": {"place:", "archive: {debian: {package: xy, suites: [bookworm], take: {a: .}}}\nplace:",
			"either releases, or archive"},
		"no package": {"place:", "archive: {debian: {package: X, suites: [bookworm], take: {a: .}}}\nplace:",
			"not a package's name"},
		"no suite": {"place:", "archive: {debian: {package: xy, suites: [12], take: {a: .}}}\nplace:",
			"not a suite"},
		"no suites": {"place:", "archive: {debian: {package: xy, take: {a: .}}}\nplace:",
			"no suite is named"},
		"nothing taken": {"place:", "archive: {debian: {package: xy, suites: [bookworm]}}\nplace:",
			"nothing is taken"},
		"taken from outside": {"place:", "archive: {debian: {package: xy, suites: [bookworm], take: {../a: .}}}\nplace:",
			"not a path below"},
		"empty change": {"place:", "archive: {debian: {package: xy, suites: [bookworm], take: {a: .}, " +
			"change: [{file: x}]}}\nplace:",
			"file, from and to"},
		"variant of no releases": {"place:", "archive: {debian: {package: xy, suites: [bookworm], take: {a: .}, " +
			"variants: [{also: [ab]}]}}\nplace:",
			"releases is missing"},
		"variant's bad range": {"place:", "archive: {debian: {package: xy, suites: [bookworm], take: {a: .}, " +
			"variants: [{releases: new}]}}\nplace:",
			"not a range"},
		"needs of none":     {"place:", "needs: {space: 1MB}\nplace:", "say themselves"},
		"bad engine":        {`{mariadb: ">=10.4"}`, `{nonesuch: ">=1"}`, "mariadb, postgresql, sqlite"},
		"bad range":         {`">=10.4"`, `"ten"`, "not a range"},
		"bad size":          {"space: 1MB", "space: much", "not a size"},
		"ask's id is taken": {"id: board", "id: title", "is taken"},
		"bad ask kind":      {"kind: text", "kind: novel", "text, number, yes-no, one-of"},
		"escaping path":     {"path: config/willowbench.ini", "path: ../willowbench.ini", "not a path below"},
		"bad format":        {"format: ini", "format: nonesuch", "ini, json, php"},
		"bad mode":          {`mode: "0640"`, `mode: "9"`, "not a file mode"},
		"bad secret":        {"{length: 32, of: alnum, anew: true}", "{length: 3, of: alnum}", "8 to 128"},
		"unknown value":     {"{answer.board}", "{answer.bord}", "Did you mean answer.board?"},
		"unknown filter":    {"{answer.board}", "{answer.board | shout}", "no filter"},
		"two steps in one": {"- remove: [install, schema]", "- {remove: [install], run-sql: SELECT 1}",
			"one of sql"},
		"values in SQL": {"- remove: [install, schema]", "- run-sql: \"DELETE FROM x WHERE a = '{title}'\"",
			"only {tables}"},
		"form without expect": {"expect: {text: All done, not-text: Startup failed}", "expect: {}", "needs expect"},
		"licence to accept": {"{name: Willowbench licence, text: licence.txt, must-accept: true}",
			"{name: Willowbench licence, must-accept: true}", "needs its text"},
		"no check": {"front: {get: /, expect: {text: \"Willowbench {release}\"}}", "front: {get: /}",
			"needs get and expect.text"},
		"no sign-in": {"then: {get: admin/, expect: {text: Mill office}}", "then: {get: admin/}",
			"check of signing in"},
		"ask in no group": {"- {id: board, text: Name of the first board, kind: text, default: General}",
			"- {id: board, text: Name of the first board, kind: text, default: General, group: nowhere}",
			"data, admin, site, care"},
		"groups out of order": {"- {id: board, text: Name of the first board, kind: text, default: General}",
			"- {id: board, text: Name of the first board, kind: text, default: General}\n  - {id: two, text: Two, " +
				"kind: text, group: data}", "in the order of the groups"},
		"options missing": {"- {id: board, text: Name of the first board, kind: text, default: General}",
			"- {id: board, text: Board, kind: several-of}", "have options"},
		"options of a text": {"- {id: board, text: Name of the first board, kind: text, default: General}",
			"- {id: board, text: Board, kind: text, options: [a]}", "other kinds have none"},
		"option with a comma": {"- {id: board, text: Name of the first board, kind: text, default: General}",
			"- {id: board, text: Board, kind: several-of, options: [\"a,b\"]}", "cannot be an option"},
		"default that will not do": {"- {id: board, text: Name of the first board, kind: text, default: General}",
			"- {id: board, text: Board, kind: number, default: many}", "the default will not do"},
		"secret with a default": {"- {id: board, text: Name of the first board, kind: text, default: General}",
			"- {id: board, text: Board, kind: text, secret: true, default: x}", "a secret has no default"},
		"broken condition": {"- {id: board, text: Name of the first board, kind: text, default: General}",
			"- {id: board, text: Name of the first board, kind: text, default: General, asked-if: \"a && b\"}",
			"is not a condition"},
		"condition on what comes later": {"- {id: board, text: Name of the first board, kind: text, default: General}",
			"- {id: board, text: Board, kind: text, needed-if: other}\n  - {id: other, text: Other, kind: yes-no, " +
				"default: no}",
			"no question before this"},
		"needed twice over": {"- {id: board, text: Name of the first board, kind: text, default: General}",
			"- {id: board, text: Name of the first board, kind: text, default: General, needed-if: language, " +
				"asked-if: language}",
			"says both"},
		"bad pattern": {"- {id: board, text: Name of the first board, kind: text, default: General}",
			"- {id: board, text: Name of the first board, kind: text, default: General, pattern: \"[\"}",
			"not a regular expression"},
		"bad extra": {"place:", "extras:\n  - {id: theme, kind: text, default: a}\nplace:",
			"yes-no, one-of, several-of"},
		"extra without default": {"place:", "extras:\n  - {id: sample}\nplace:", "extras.0.default is missing"},
		"extra without words":   {"place:", "extras:\n  - {id: own, default: no}\nplace:", "extras.0.text is missing"},
		"part of no option": {"place:", "extras:\n  - {id: sample, default: no, parts: {maybe: [x]}}\nplace:",
			"there is no option maybe"},
		"part outside": {"place:", "extras:\n  - {id: sample, default: no, parts: {yes: [../x]}}\nplace:",
			"not a path below"},
		"step under no condition": {"- remove: [install, schema]", "- {remove: [install], when: extra.none}",
			"no question before this has the id extra.none"},
		"a program is written": {"- remove: [install, schema]", "- write: {file: a.php, text: x}", "Write it under config"},
		"written with no mode": {"- remove: [install, schema]", "- write: {file: a.txt, text: x, mode: rw}", `"0644"`},
		"written outside":      {"- remove: [install, schema]", "- write: {file: ../a.txt, text: x}", "not a path below"},
		"written on a site": {"admin: admin/", "moved: [{write: {file: a.txt, text: x}}]\nadmin: admin/",
			"works on a site that is there"},
		"never holds": {"- remove: [install, schema]", "- {remove: [install], when: board == a and board == b}",
			"never holds: no answer to board"},
		"a folder of two kinds": {"deny: [config, parts]", "deny: [config]\n  written: [cache]\n  mixed: [cache]",
			"cache stands under written too"},
		"written in what is removed": {"deny: [config, parts]", "remove: [docs]\n  compiled: [docs/]",
			"stands under remove too"},
		"another program": {"- remove: [install, schema]", "- command: [sh, -c, id]", "begins with php"},
		"secret in a command": {"- remove: [install, schema]", "- command: [php, x.php, \"{admin.password}\"]",
			"where others on the machine can read it"},
		"input without a command": {"- remove: [install, schema]", "- {remove: [install], input: x}", "go with command"},
		"bad time of a command": {"- remove: [install, schema]", "- {command: [php, x.php], time: long}",
			"Write it as 90s"},
		"constant with a template": {"{path: config/willowbench.ini, template",
			"{path: a.php, set-constant: {A: x}, template",
			"has its own format"},
		"value of no engine": {"admin: admin/", "admin: admin/\nvalues: {x: {oracle: y}}", "mariadb, postgresql, sqlite"},
		"account nowhere":    {"admin: admin/", "admin: admin/\nadmin-account: nowhere", "admin-account cannot be"},
		"timer of two kinds": {"admin: admin/", "timers: [{every: 5m, get: a, command: [php, b], what: b}]\nadmin: admin/",
			"either get or command"},
		"bad timer": {"admin: admin/", "timers: [{every: often, get: a, what: b}]\nadmin: admin/",
			"not an interval"},
		"value in admin": {"admin: admin/", "admin: \"{title}/\"", "only {admin.folder}"},
		"admin folder not kept": {"admin: admin/", "admin: \"{admin.folder}/\"\nvalues: {x: \"{admin.folder}\"}",
			"no value is called {admin.folder}"},
		"a setting of two lines": {"now:\n", "php-settings: {memory_limit: \"1G\\nextension=x\"}\nnow:\n",
			"no setting of PHP"},
		"now of nothing": {"now:\n", "now:\n  theme: {query: SELECT 1}\n", "now.theme cannot be"},
		"now twice": {"now:\n", "now:\n  title: {query: SELECT 1, get: /, pattern: (a)}\n",
			"a query, by a file"},
		"now by nothing":        {"now:\n", "now:\n  title: {file: a.php}\n", "not by \"file\""},
		"now without a group":   {"now:\n", "now:\n  title: {get: /, pattern: a}\n", "needs one group"},
		"now of a file above":   {"now:\n", "now:\n  title: {file: ../a, pattern: (a)}\n", "not a path below"},
		"now by a raw value":    {"now:\n", "now:\n  title: {query: \"SELECT '{title}'\"}\n", "only {tables} may"},
		"now by a bad constant": {"now:\n", "now:\n  title: {file: a.php, constant: a-b}\n", "not the name of a constant"},
		"bad fixes":             {"level: fixes", "level: fixes\n    fixes: soon", "not a date"},
		"bad php":               {"needs: {database", "needs: {php: {version: new}, database", "not a range"},
		"not YAML":              {"kit: 1", "kit: [", "Correct the YAML"},
	} {
		_, err := kit.Read(good(t, c.from, c.to), "willowbench")
		require.Error(t, err, name)
		f := fault.Of(err)
		assert.Equal(t, fault.Usage, f.Kind)
		require.NotEmpty(t, f.Problems, name)
		said := ""
		for _, p := range f.Problems {
			said += p.String() + "\n"
			assert.Regexp(t, `^(kit\.yaml|willowbench\.ini\.tmpl)(:\d+)?$`, p.ID, name)
			assert.NotEmpty(t, p.Remedy, name)
		}
		assert.Contains(t, said, c.what, name)
	}
}

func TestLines(t *testing.T) {
	_, err := kit.Read(good(t, "kind: forum", "kind: forun"), "willowbench")
	assert.Equal(t, "kit.yaml:4", fault.Of(err).Problems[0].ID)
}

func TestTemplateWithQuotesOfItsOwn(t *testing.T) {
	folder := good(t)
	folder["willowbench.ini.tmpl"].Data = append(folder["willowbench.ini.tmpl"].Data, []byte("bad = \"{title}\"\n")...)
	_, err := kit.Read(folder, "willowbench")
	assert.Equal(t, "willowbench.ini.tmpl:17", fault.Of(err).Problems[0].ID)
}

func TestNoKit(t *testing.T) {
	_, err := kit.Read(fstest.MapFS{}, "x")
	assert.ErrorContains(t, err, "not a kit")
	_, err = kit.Read(fstest.MapFS{"kit.yaml": {Data: []byte("")}}, "x")
	assert.Error(t, err)
}

// A kit that was looked at on its author's machine is to be the same on every other: links in it are told of.
func TestLinksInKits(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.WriteCatalogue(dir))
	folder := filepath.Join(dir, "willowbench")
	require.NoError(t, os.Mkdir(filepath.Join(folder, "more"), 0o755))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(folder, "more", "words.txt")))
	require.NoError(t, os.Rename(filepath.Join(folder, "willowbench.ini.tmpl"), filepath.Join(folder, "other")))
	require.NoError(t, os.Symlink("other", filepath.Join(folder, "willowbench.ini.tmpl")))
	k, err := kit.Read(os.DirFS(folder), "willowbench")
	require.NoError(t, err, "it worked before, and sites use it")
	said := strings.Join(k.Doubts(), "\n")
	assert.Contains(t, said, "more/words.txt is a link")
	assert.Contains(t, said, "willowbench.ini.tmpl is a link")
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("kit: 1\napp: x\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		_, _ = kit.Read(fstest.MapFS{"kit.yaml": {Data: text}}, "x")
	})
}

// The extras that several apps have bring their words with them; the values
// that the kit uses are known.
func TestUsualWords(t *testing.T) {
	k, err := kit.Read(good(t, "place:",
		"extras:\n  - {id: lockout, default: no, warning: mind it}\n"+
			"  - {id: languages, kind: several-of, options: [de]}\nplace:"),
		"willowbench")
	require.NoError(t, err)
	assert.Equal(t, "Lock out repeated failed sign-ins", k.Extras[0].Text)
	assert.NotEmpty(t, k.Extras[0].Warning)
	assert.Equal(t, "none", k.Extras[1].Default)
	assert.Contains(t, k.Names(), "extra.languages")
	assert.True(t, k.Uses("subtitle") && k.Uses("tables") && k.Uses("answer.board"))
	assert.False(t, k.Uses("support.email") || k.Uses("admin.first-name"))
	assert.Equal(t, []string{"secret.key"}, k.VaultNames())
	assert.Equal(t, "board", k.Question("board").ID)
	assert.Nil(t, k.Question("none"))
}

// A check that looks for what owners change, and a title or an admin that cannot
// be read, are no mistakes and will not do for long.
func TestDoubts(t *testing.T) {
	k, err := kit.Read(good(t), "willowbench")
	require.NoError(t, err)
	assert.Empty(t, k.Doubts())
	k, err = kit.Read(good(t, "Willowbench {release}", "Talk of {title}", "  admin.name:\n", "  subtitle:\n"),
		"willowbench")
	require.NoError(t, err)
	require.Len(t, k.Doubts(), 2)
	assert.Contains(t, k.Doubts()[0], "looks for {title}")
	assert.Contains(t, k.Doubts()[1], "how {admin.name} is read")
}
