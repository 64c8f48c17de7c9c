package pages_test

import (
	"io"
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/standin/pages"
)

func serve(t *testing.T, files map[string]string) func(method, path string) (int, string) {
	t.Helper()
	root := t.TempDir()
	for name, text := range files {
		full := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, []byte(text), 0o644))
	}
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(root, "out.txt")))
	s, err := pages.Start(pages.Options{Address: "127.0.0.1:0", Roots: map[string]string{"a.localhost": root}})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return func(method, path string) (int, string) {
		r, err := http.NewRequest(method, "http://"+s.Address()+path, nil)
		require.NoError(t, err)
		r.Host = "a.localhost:80"
		if path == "/elsewhere" {
			r.Host = "b.localhost"
		}
		answer, err := (&http.Client{CheckRedirect: func(*http.Request, []*http.Request) error {
			return http.ErrUseLastResponse
		}}).Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.StatusCode, string(text)
	}
}

func TestServes(t *testing.T) {
	ask := serve(t, map[string]string{
		"index.page": `<p>{{ excerpt "a b c" 2 }} {{ .nothing }}</p>`, "style.css": "body {}", "parts/x.part": "secret",
		"deny/.htaccess": "Require all denied\n", "deny/deep/file.txt": "secret",
		"config.php": "<?php\ndefine('A', 'secret');\n", "code.php": "<?php echo 'hi';", "bad.page": "{{ nonesuch }}",
		"fail.page": `{{ fail 503 "later <b>" }}`,
		"go.page":   `{{ redirect "/x" }}`, "up.page": `{{ config "../../x.ini" }}`, "sub/index.html": "sub",
		"empty/.keep": "",
	})
	for path, want := range map[string]struct {
		status int
		text   string
	}{
		"/": {200, "a b …"}, "/style.css": {200, "body {}"}, "/parts/x.part": {404, "nothing is here"},
		"/deny/deep/file.txt": {403, "not allowed"},
		"/deny/.htaccess":     {403, "not allowed"}, "/config.php": {200, ""}, "/code.php": {501, "not PHP"},
		"/bad.page":  {500, "The page failed"},
		"/fail.page": {503, "later &lt;b&gt;"}, "/go.page": {303, "/x"}, "/up.page": {500, "The page failed"},
		"/none": {404, "nothing is here"},
		"/sub":  {301, "/sub/"}, "/sub/": {200, "sub"}, "/empty/": {404, "nothing"}, "/../../etc/passwd": {404, "nothing"},
		"/out.txt": {403, "not allowed"}, "/elsewhere": {404, "no domain b.localhost"},
	} {
		status, text := ask(http.MethodGet, path)
		assert.Equal(t, want.status, status, path)
		assert.Contains(t, text, want.text, path)
		assert.NotContains(t, text, "secret", path)
	}
	status, _ := ask(http.MethodPost, "/style.css")
	assert.Equal(t, 405, status)
}

func TestReaders(t *testing.T) {
	got, err := pages.ReadPHP("<?php # c\n/* d */ define( 'A' , 'x' ) ; $a['b'] = 5; $t = TRUE; // end\n?>")
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"A": "x", "a.b": "5", "t": "true"}, got)
	for _, bad := range []string{"", "define('A', 'x');", "<?php echo 1;", "<?php define('A', \"x\");",
		"<?php define('A', 'x", "<?php define('A', 'x')"} {
		_, err := pages.ReadPHP(bad)
		assert.Error(t, err, bad)
	}
	got, err = pages.ReadINI("; c\n[s]\na = plain ; note\nb=\"q;\"\n\n[u]\na = 5\n")
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"s.a": "plain", "s.b": "q;", "u.a": "5"}, got)
	for _, bad := range []string{"[s\n", "novalue\n", "a = \"open\n", "a = ${HOME}\n", "a = \"${HOME}\"\n", "a = x|y\n",
		"a = 'open\n"} {
		_, err := pages.ReadINI(bad)
		assert.Error(t, err, bad)
	}
}
