package check

import (
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/trial/servers"
)

// What a picture has to be made by an Apache and a PHP for it to say what only a program can.
const (
	asScript = "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\nit '\necho ran\n"
	asPage   = "<!--#set var=\"was\" value=\"ran\" -->it <!--#echo var=\"was\" -->"
	asPHP    = "<?php echo 'it ', 'ran';"
)

// Each way to have a picture run does so on a real Apache, and is found; the same picture under rules that are found to
// be harmless is none.
func TestOrdersOnApache(t *testing.T) {
	servers.Need(t, "apache2", "php-fpm8.2")
	root := filepath.Join(servers.AccountFolder(t), "web")
	require.NoError(t, os.Mkdir(root, 0o755))
	at := servers.Apache(t, []servers.Site{{Name: "lockside.localhost", Root: root}})
	for name, c := range map[string]struct {
		rules, picture string
		runs           bool
	}{
		"handler":   {"Options +ExecCGI\nAddHandler cgi-script .jpg", asScript, true},
		"quoted":    {"Options \"+ExecCGI\"\n\"AddHandler\" \"cgi-script\" \".jpg\"", asScript, true},
		"continued": {"Opt\\\nions +ExecCGI\nAdd\\\nHan\\\ndler cgi-script .jpg", asScript, true},
		"rewritten": {"Options +ExecCGI\nRewriteEngine On\nRewriteRule \\.jpg$ - [H=cgi-script]", asScript, true},
		"a late line": {strings.Repeat("# of no interest\n", 4400) + "Options +ExecCGI\nSetHandler cgi-script", asScript,
			true},
		"includes":   {"Options +Includes\nAddOutputFilter INCLUDES .jpg", asPage, true},
		"the x bit":  {"Options +Includes\nAddType text/html .jpg\nXBitHack on", asPage, true},
		"prepended":  {"auto_prepend_file = a.jpg", asPHP, true},
		"denied":     {"Options -Indexes\nAddType image/jpeg .jpg", asScript, false},
		"a comment":  {"Options -Indexes\n# goes on \\\nAddHandler cgi-script .jpg", asScript, false},
		"none of it": {"<IfModule no_such_module>\nErrorDocument 404 /none\n</IfModule>", asPHP, false},
	} {
		t.Run(name, func(t *testing.T) {
			folder := filepath.Join(root, strings.ReplaceAll(name, " ", "-"))
			require.NoError(t, os.MkdirAll(folder, 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(folder, "a.jpg"), []byte(c.picture), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(folder, "index.php"), []byte("<?php echo ' front';"), 0o644))
			file, page := ".htaccess", "a.jpg"
			if name == "prepended" {
				file, page = ".user.ini", "index.php"
			}
			require.NoError(t, os.WriteFile(filepath.Join(folder, file), []byte(c.rules), 0o644))
			answer, err := (&http.Client{}).Do(&http.Request{Method: http.MethodGet, Host: "lockside.localhost",
				URL: &url.URL{Scheme: "http", Host: at, Path: "/" + filepath.Base(folder) + "/" + page}})
			require.NoError(t, err)
			text, err := io.ReadAll(answer.Body)
			require.NoError(t, err)
			require.NoError(t, answer.Body.Close())
			require.Equal(t, http.StatusOK, answer.StatusCode, "%s", text)
			assert.Equal(t, c.runs, strings.Contains(string(text), "it ran"), "what Apache does: %s", text)
			assert.Equal(t, c.runs, hasOrders(file, c.rules), "what is said of it")
		})
	}
}
