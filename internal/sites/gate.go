package sites

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"path"
	"strings"

	"tivset/internal/hosting"
)

// The page on a site that hands a session over. It holds the session's cookies,
// readable only with the half of a secret that the browser brings, is good once
// and for a minute, and removes itself before it gives them.

// gateReady is what the page says to somebody who asks without the half.
const gateReady = "ready"

// gates are the pages, by the ending of the files that a site runs. In each the
// half's SHA-256, the cookies, and where it leads to are filled in.
var gates = map[string]string{
	".php": `<?php
// Tivset lets one browser in, once, within a minute.
header('Cache-Control: no-store');
header('Referrer-Policy: no-referrer');
$half = isset($_POST['half']) && is_string($_POST['half']) ? $_POST['half'] : '';
if ($half === '') {
    exit(is_writable(__DIR__) ? 'ready' : 'not here');
}
if (time() - filemtime(__FILE__) > 60 || !hash_equals('%[1]s', hash('sha256', $half)) || !@unlink(__FILE__)) {
    http_response_code(404);
    exit;
}
$sealed = base64_decode('%[2]s');
for ($i = 0, $pad = ''; strlen($pad) < strlen($sealed); $i++) {
    $pad .= hash('sha256', $half . '/' . $i, true);
}
foreach (json_decode($sealed ^ $pad, true) as $c) {
    $more = ['path' => $c['path'], 'secure' => $c['secure'], 'httponly' => $c['http_only']];
    foreach (['domain', 'samesite'] as $name) {
        if ($c[$name] !== '') {
            $more[$name] = $c[$name];
        }
    }
    setrawcookie($c['name'], $c['value'], $more);
}
$to = htmlspecialchars(base64_decode('%[3]s'));
echo '<!doctype html><meta charset="utf-8"><meta http-equiv="refresh" content="0; url=' . $to . '"><title>One moment</title>',
    '<a href="' . $to . '">Go on</a>';
`,
	".page": `{{admit "%[1]s" "%[2]s" "%[3]s"}}`,
}

// gateEnding finds out what the pages in a folder are; "" where none is known.
func gateEnding(ctx context.Context, in *hosting.Account, folder string) (string, error) {
	inside, err := in.Files.List(ctx, folder)
	if err != nil {
		return "", err
	}
	for _, i := range inside {
		if _, runs := gates[path.Ext(i.Name)]; runs && i.Mode.IsRegular() && strings.HasPrefix(i.Name, "index.") {
			return path.Ext(i.Name), nil
		}
	}
	return "", nil
}

// handed is a cookie as the page gives it on.
type handed struct {
	Name     string `json:"name"`
	Value    string `json:"value"`
	Path     string `json:"path"`
	Domain   string `json:"domain"`
	Secure   bool   `json:"secure"`
	HTTPOnly bool   `json:"http_only"`
	SameSite string `json:"samesite"`
}

var sameSites = map[http.SameSite]string{http.SameSiteLaxMode: "Lax", http.SameSiteStrictMode: "Strict",
	http.SameSiteNoneMode: "None"}

// gateText writes the page.
func gateText(ending, half, to string, cookies []*http.Cookie) (string, error) {
	all := []handed{}
	for _, c := range cookies {
		all = append(all, handed{c.Name, c.Value, c.Path, c.Domain, c.Secure, c.HttpOnly, sameSites[c.SameSite]})
	}
	text, err := json.Marshal(all)
	if err != nil {
		return "", err
	}
	for i := range text { // a pad that is used once
		pad := sha256.Sum256([]byte(fmt.Sprintf("%s/%d", half, i/sha256.Size)))
		text[i] ^= pad[i%sha256.Size]
	}
	sum := sha256.Sum256([]byte(half))
	encode := base64.StdEncoding.EncodeToString
	return fmt.Sprintf(gates[ending], hex.EncodeToString(sum[:]), encode(text), encode([]byte(to))), nil
}
