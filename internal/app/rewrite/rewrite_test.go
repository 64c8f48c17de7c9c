package rewrite_test

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tivset/internal/app/rewrite"
)

func address(t testing.TB, from, to string, except ...string) *rewrite.Address {
	t.Helper()
	a, err := rewrite.New(from, to, except)
	require.NoError(t, err)
	return a
}

func TestText(t *testing.T) {
	a := address(t, "http://lockside.localhost:8780/forum/", "https://try.lockside.localhost/a/b/",
		"http://lockside.localhost:8780/forum/shop/")
	for text, want := range map[string]string{
		"http://lockside.localhost:8780/forum":                     "https://try.lockside.localhost/a/b",
		"See http://lockside.localhost:8780/forum/page?id=1":       "See https://try.lockside.localhost/a/b/page?id=1",
		"See http://lockside.localhost:8780/forum. Bye":            "See https://try.lockside.localhost/a/b. Bye",
		"https://lockside.localhost:8780/forum?x":                  "https://try.lockside.localhost/a/b?x",
		"//lockside.localhost:8780/forum/x":                        "//try.lockside.localhost/a/b/x",
		`"http:\/\/lockside.localhost:8780\/forum\/x"`:             `"https:\/\/try.lockside.localhost\/a\/b\/x"`,
		"?next=http%3A%2F%2Flockside.localhost%3A8780%2Fforum%2Fx": "?next=https%3A%2F%2Ftry.lockside.localhost%2Fa%2Fb%2Fx",
		"?next=http://lockside.localhost:8780/forum%3Fq":           "?next=https://try.lockside.localhost/a/b%3Fq",
	} {
		assert.Equal(t, want, string(a.Text([]byte(text))))
	}
	for _, text := range []string{
		"http://lockside.localhost:8780/forum2/", "http://lockside.localhost:8780/forum-old",
		"http://lockside.localhost:8780/forum.html",
		"http://lockside.localhost:87801/forum/", "http://lockside.localhost/forum/", "http://lockside.localhost:8780/",
		"http://lockside.localhost.au:8780/forum",
		"ftp://lockside.localhost:8780/forum", "w@lockside.localhost:8780/forum", "http://x.lockside.localhost:8780/forum",
		"lockside.localhost:8780/forum",
		"http://lockside.localhost:8780/forum/shop/x",
	} {
		assert.Equal(t, text, string(a.Text([]byte(text))))
	}
	root := address(t, "https://example.localhost", "https://other.localhost/x")
	for text, want := range map[string]string{
		"https://example.localhost.au/":                          "https://example.localhost.au/",
		"https://example.localhost:81/":                          "https://example.localhost:81/",
		"https://example.localhost/a https://example.localhost.": "https://other.localhost/x/a https://other.localhost/x.",
	} {
		assert.Equal(t, want, string(root.Text([]byte(text))))
	}
}

func TestValues(t *testing.T) {
	a := address(t, "http://a.localhost/", "http://longer.localhost/b/")
	for value, want := range map[string]string{
		`s:19:"http://a.localhost/";`:                                            `s:26:"http://longer.localhost/b/";`,
		`a:2:{s:1:"u";s:20:"http://a.localhost/x";i:0;a:1:{i:0;N;}}`:             `a:2:{s:1:"u";s:27:"http://longer.localhost/b/x";i:0;a:1:{i:0;N;}}`,
		`O:4:"Site":2:{s:3:"url";s:18:"http://a.localhost";s:1:"n";d:0.5;}`:      `O:4:"Site":2:{s:3:"url";s:25:"http://longer.localhost/b";s:1:"n";d:0.5;}`,
		`a:1:{i:0;s:27:"s:19:"http://a.localhost/";";}`:                          `a:1:{i:0;s:34:"s:26:"http://longer.localhost/b/";";}`,
		`a:1:{i:0;s:19:\"http://a.localhost/\";}`:                                `a:1:{i:0;s:26:\"http://longer.localhost/b/\";}`,
		`{"u":"http:\/\/a.localhost\/x","s":"s:19:\"http:\/\/a.localhost\/\";"}`: `{"u":"http:\/\/longer.localhost\/b\/x","s":"s:26:\"http:\/\/longer.localhost\/b\/\";"}`,
		`{"in":"{\"u\":\"http://a.localhost/\"}", "n": 1.50}`:                    `{"in":"{\"u\":\"http://longer.localhost/b/\"}", "n": 1.50}`,
		// no serialised value: its length is wrong
		`s:99:"http://a.localhost/";`:                    `s:99:"http://longer.localhost/b/";`,
		`C:1:"X":19:{http://a.localhost/}`:               `C:1:"X":26:{http://longer.localhost/b/}`,
		"s:21:\"ü http://a.localhost\";":                 "s:28:\"ü http://longer.localhost/b\";",
		`<a href="http://a.localhost/">x</a> {not json}`: `<a href="http://longer.localhost/b/">x</a> {not json}`,
	} {
		assert.Equal(t, want, string(a.Value([]byte(value))))
	}
}

// There and back again gives what was, whatever surrounds the addresses.
func TestThereAndBack(t *testing.T) {
	there, back := address(t, "http://a.localhost/f/", "http://longer.localhost:81/b/"),
		address(t, "http://longer.localhost:81/b/", "http://a.localhost/f/")
	piece := rapid.SampledFrom([]string{"http://a.localhost/f/", "http://a.localhost/f", `http:\/\/a.localhost\/f\/`,
		"a.localhost", " ", "\"", "é", ";", "s:3:", "}", "{", "\\", "/x", ".au", "2", "\n"})
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(rapid.SliceOf(piece).Draw(t, "pieces"), "")
		for _, v := range []string{text, php(text), php(php(text))} {
			assert.Equal(t, v, string(back.Value(there.Value([]byte(v)))))
		}
	})
}

func php(s string) string {
	return "a:1:{i:0;s:" + itoa(len(s)) + `:"` + s + `";}`
}

func itoa(n int) string {
	if n < 10 {
		return string(rune('0' + n))
	}
	return itoa(n/10) + string(rune('0'+n%10))
}

func TestDumps(t *testing.T) {
	a := address(t, "http://a.localhost/", "http://bb.localhost/")
	wanted := func(table, column string) bool { return table == "opt" && column != "name" }
	for engine, c := range map[string][2]string{
		"mariadb": {
			"CREATE TABLE `opt` (x);\nINSERT INTO `opt` (`name`, `value`, `raw`) VALUES\n('http://a.localhost/','it\\'s " +
				"http://a.localhost/,\\n" +
				"(x)',0x687474703a2f2f612e6c6f63616c686f73742f),\n" +
				"(NULL,'s:19:\"http://a.localhost/\";',1);\n" +
				"INSERT INTO `other` (`value`) VALUES\n" +
				"('http://a.localhost/');\n",
			"CREATE TABLE `opt` (x);\nINSERT INTO `opt` (`name`, `value`, `raw`) VALUES\n('http://a.localhost/','it\\'s " +
				"http://bb.localhost/,\\n" +
				"(x)',0x687474703a2f2f62622e6c6f63616c686f73742f),\n" +
				"(NULL,'s:20:\"http://bb.localhost/\";',1);\n" +
				"INSERT INTO `other` (`value`) VALUES\n" +
				"('http://a.localhost/');\n"},
		"postgresql": {
			"COPY \"opt\" (name, value, \"raw\") FROM " +
				"stdin;\n" +
				"http://a.localhost/\tx\\\\y\\thttp://a.localhost/\t\\\\x687474703a2f2f612e6c6f63616c686f73742f\n" +
				"\\N\thttp://a.localhost/\t\\N\n" +
				"\\.\n" +
				"COPY x (value) FROM stdin;\n" +
				"http://a.localhost/\n" +
				"\\.\n",
			"COPY \"opt\" (name, value, \"raw\") FROM " +
				"stdin;\n" +
				"http://a.localhost/\tx\\\\y\\thttp://bb.localhost/\t\\\\x687474703a2f2f62622e6c6f63616c686f73742f\n" +
				"\\N\thttp://bb.localhost/\t\\N\n" +
				"\\.\n" +
				"COPY x (value) FROM stdin;\n" +
				"http://a.localhost/\n" +
				"\\.\n"},
		"sqlite": {
			"CREATE TABLE opt (name, value);\nINSERT INTO \"opt\" (\"name\", \"value\", \"raw\") VALUES " +
				"('http://a.localhost/','it''s\nhttp://a.localhost/, " +
				"(''x'')',X'687474703A2F2F612E6C6F63616C686F73742F');\nINSERT INTO \"x\" (\"value\") VALUES " +
				"('http://a.localhost/');\n",
			"CREATE TABLE opt (name, value);\nINSERT INTO \"opt\" (\"name\", \"value\", \"raw\") VALUES " +
				"('http://a.localhost/','it''s\nhttp://bb.localhost/, " +
				"(''x'')',X'687474703A2F2F62622E6C6F63616C686F73742F');\nINSERT INTO \"x\" (\"value\") VALUES " +
				"('http://a.localhost/');\n"},
	} {
		var out bytes.Buffer
		left, err := a.Dump(engine, wanted, strings.NewReader(c[0]), &out)
		require.NoError(t, err)
		assert.Equal(t, c[1], out.String(), engine)
		assert.Equal(t, map[string]int{"opt": 1, map[bool]string{true: "other", false: "x"}[engine == "mariadb"]: 1}, left,
			"what is not to be changed is counted")
	}
}

// Folders and the prefix of tables go with the address, or alone.
func TestFolders(t *testing.T) {
	a := address(t, "http://a.localhost/", "http://bb.localhost/")
	a.Folder("/srv/acc/web/talk", "/home/x/web/try/", []string{"/srv/acc/web/talk/shop", "/srv/other"})
	a.Tables("ab1_", "zz9_")
	alone := address(t, "http://a.localhost/", "http://a.localhost/")
	assert.False(t, alone.Changes())
	alone.Folder("/srv/acc/web/talk", "/srv/acc/web/talk/", nil)
	assert.False(t, alone.Changes())
	alone.Folder("/srv/acc/web/talk", "/home/x/web/try", nil)
	assert.True(t, alone.Changes())
	for value, want := range map[string]string{
		"/srv/acc/web/talk":                        "/home/x/web/try",
		"file:///srv/acc/web/talk/a.txt":           "file:///home/x/web/try/a.txt",
		`{"f":"\/srv\/acc\/web\/talk\/a"}`:         `{"f":"\/home\/x\/web\/try\/a"}`,
		`s:17:"/srv/acc/web/talk";`:                `s:15:"/home/x/web/try";`,
		"?f=%2Fsrv%2Facc%2Fweb%2Ftalk%2Fa":         "?f=%2Fhome%2Fx%2Fweb%2Ftry%2Fa",
		"/srv/acc/web/talk2 /srv/acc/web/talk-old": "same",
		"/old/srv/acc/web/talk.bak":                "same",
		"/srv/acc/web/talk/shop/x":                 "same",
		"/srv/acc/web/talk/shop2":                  "/home/x/web/try/shop2",
	} {
		if want == "same" {
			want = value
		}
		assert.Equal(t, want, string(a.Value([]byte(value))))
		if !strings.Contains(value, "shop") {
			assert.Equal(t, strings.Contains(want, "try"), string(alone.Value([]byte(value))) != value, value)
		}
	}
	for value, want := range map[string]string{"ab1_roles": "zz9_roles", "ab1_": "ab1_", "the ab1_roles": "the ab1_roles",
		"ab1_roles!": "ab1_roles!", "Ab1_roles": "Ab1_roles"} {
		assert.Equal(t, want, string(a.Value([]byte(value))))
	}
}

func FuzzValue(f *testing.F) {
	a := address(f, "http://a.localhost/", "http://bb.localhost/")
	f.Add([]byte(`a:1:{i:0;s:19:"http://a.localhost/";}`))
	f.Add([]byte(`{"u":"http:\/\/a.localhost\/"}`))
	f.Fuzz(func(t *testing.T, v []byte) { a.Value(v) })
}
