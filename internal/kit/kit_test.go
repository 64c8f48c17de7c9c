package kit_test

import (
	"os"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/demo"
	"tivset/internal/fault"
	"tivset/internal/kit"
)

// good gives the folder of a kit without mistakes, its kit.yaml changed.
func good(t *testing.T, change ...string) fstest.MapFS {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, demo.WriteCatalogue(dir))
	out := fstest.MapFS{}
	files, err := os.ReadDir(dir + "/moorings")
	require.NoError(t, err)
	for _, f := range files {
		text, err := os.ReadFile(dir + "/moorings/" + f.Name())
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
	k, err := kit.Read(good(t), "moorings")
	require.NoError(t, err)
	assert.Equal(t, []string{"2.4.1", "2.3.7"}, k.Versions())
	assert.Equal(t, "2.4.1", k.Newest().Release)
	assert.Equal(t, "2.3.7", k.Find("2.3.7").Release)
	assert.Nil(t, k.Find("9"))
	assert.True(t, k.ByForms())
	assert.Contains(t, k.Names(), "ask.board")
	assert.Equal(t, int64(1_000_000), k.Newest().Disk())
}

// Every mistake is found, with file, line and remedy.
func TestMistakes(t *testing.T) {
	for name, c := range map[string]struct{ from, to, what string }{
		"unknown key":         {"title: Moorings", "titel: Moorings", "Did you mean title?"},
		"unknown nested key":  {"date: 2026-09-02", "dated: 2026-09-02", "Did you mean date?"},
		"wrong type":          {"languages: [en, de, nl]", "languages: {en: 1}", "a wrong type"},
		"doubled key":         {"kind: forum", "kind: forum\nkind: blog", "stands twice"},
		"newer format":        {"kit: 1", "kit: 2", "write kit: 1"},
		"bad name":            {"app: moorings", "app: Moorings!", "lower case letters"},
		"bad kind":            {"kind: forum", "kind: forun", "one of blog"},
		"no title":            {"title: Moorings", "title: \"\"", "title is missing"},
		"missing file":        {"about: about.md", "about: abut.md", "no file abut.md"},
		"missing template":    {"template: moorings.ini.tmpl", "template: none", "no file none"},
		"bad date":            {"2026-09-02", "2.9.2026", "Write it as 2026-09-02"},
		"bad level":           {"level: fixes", "level: tiny", "fixes, features, breaking"},
		"order of releases":   {"release: 2.4.1", "release: 2.2.0", "newest first"},
		"no checksum":         {"sha256: ", "sha256: x", "SHA-256"},
		"plain http":          {"from: moorings-2.4.1.tar.gz", "from: http://moorings.example/a.tar.gz", "over https only"},
		"archive not there":   {"from: moorings-2.4.1.tar.gz", "from: none.tar.gz", "no file none.tar.gz"},
		"both from and name":  {"from: moorings-2.4.1.tar.gz", "from: moorings-2.4.1.tar.gz, name: x", "either from or name"},
		"bad engine":          {`{mariadb: ">=10.4"}`, `{nonesuch: ">=1"}`, "mariadb, postgresql, sqlite"},
		"bad range":           {`">=10.4"`, `"ten"`, "not a range"},
		"bad size":            {"disk: 1MB", "disk: much", "not a size"},
		"ask's id is taken":   {"id: board", "id: title", "is taken"},
		"bad ask kind":        {"kind: text", "kind: novel", "text, number, yes-no, one-of"},
		"escaping path":       {"path: config/moorings.ini", "path: ../moorings.ini", "not a path below"},
		"bad format":          {"format: ini", "format: nonesuch", "ini, json, php"},
		"bad mode":            {`mode: "0640"`, `mode: "9"`, "not a file mode"},
		"bad secret":          {"{length: 32, of: alnum}", "{length: 3, of: alnum}", "8 to 128"},
		"unknown value":       {"{ask.board}", "{ask.bord}", "Did you mean ask.board?"},
		"unknown filter":      {"{ask.board}", "{ask.board | shout}", "no filter"},
		"two steps in one":    {"- remove: [install, schema]", "- {remove: [install], run-sql: SELECT 1}", "one of sql"},
		"values in SQL":       {"- remove: [install, schema]", "- run-sql: \"DELETE FROM x WHERE a = '{title}'\"", "only {tables}"},
		"form without expect": {"expect: {text: All done, not-text: Startup failed}", "expect: {}", "needs expect"},
		"licence to accept":   {"{name: Moorings licence, text: licence.txt, must-accept: true}", "{name: Moorings licence, must-accept: true}", "needs its text"},
		"no check":            {"front: {get: /, expect: {text: \"{title}\"}}", "front: {get: /}", "needs get and expect.text"},
		"no sign-in":          {"then: {get: admin/, expect: {text: Harbour office}}", "then: {get: admin/}", "check of signing in"},
		"not YAML":            {"kit: 1", "kit: [", "Correct the YAML"},
	} {
		_, err := kit.Read(good(t, c.from, c.to), "moorings")
		require.Error(t, err, name)
		f := fault.Of(err)
		assert.Equal(t, fault.Usage, f.Kind)
		require.NotEmpty(t, f.Problems, name)
		said := ""
		for _, p := range f.Problems {
			said += p.String() + "\n"
			assert.Regexp(t, `^(kit\.yaml|moorings\.ini\.tmpl)(:\d+)?$`, p.ID, name)
			assert.NotEmpty(t, p.Remedy, name)
		}
		assert.Contains(t, said, c.what, name)
	}
}

func TestLines(t *testing.T) {
	_, err := kit.Read(good(t, "kind: forum", "kind: forun"), "moorings")
	assert.Equal(t, "kit.yaml:4", fault.Of(err).Problems[0].ID)
}

func TestTemplateWithQuotesOfItsOwn(t *testing.T) {
	folder := good(t)
	folder["moorings.ini.tmpl"].Data = append(folder["moorings.ini.tmpl"].Data, []byte("bad = \"{title}\"\n")...)
	_, err := kit.Read(folder, "moorings")
	assert.Equal(t, "moorings.ini.tmpl:17", fault.Of(err).Problems[0].ID)
}

func TestNoKit(t *testing.T) {
	_, err := kit.Read(fstest.MapFS{}, "x")
	assert.ErrorContains(t, err, "not a kit")
	_, err = kit.Read(fstest.MapFS{"kit.yaml": {Data: []byte("")}}, "x")
	assert.Error(t, err)
}

func TestNewer(t *testing.T) {
	assert.True(t, kit.Newer("2.10.0", "2.9.1"))
	assert.False(t, kit.Newer("2.9.1", "2.9.1"))
	assert.True(t, kit.Newer("b", "a"))
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("kit: 1\napp: x\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		_, _ = kit.Read(fstest.MapFS{"kit.yaml": {Data: text}}, "x")
	})
}
