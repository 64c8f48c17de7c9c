package sites

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"

	"tivset/internal/hosting/runtime"
)

// The page on a site that hands a session over. It holds the session's cookies,
// readable only with the half of a secret that the browser brings, is good once
// and for a minute, and removes itself before it gives them.

// gateReady is what the page says to somebody who asks without the half.
const gateReady = "ready"

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
func gateText(r runtime.Runtime, half, to string, cookies []*http.Cookie) (string, error) {
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
	return r.Admit(runtime.Admission{Hash: hex.EncodeToString(sum[:]), Cookies: encode(text), To: encode([]byte(to))}), nil
}
