//go:build unix

package e2e

import (
	"encoding/pem"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"

	"github.com/rogpeppe/go-internal/testscript"
)

// throughProxy serves the script's folder shelf at https://example.com, a name that leads
// there through a proxy alone: PROXY is its address, CERTIFICATES a file that vouches for
// the name. Who comes through it leaves the file proxied.
func throughProxy(env *testscript.Env) error {
	site := httptest.NewTLSServer(http.FileServer(http.Dir(filepath.Join(env.WorkDir, "shelf"))))
	env.Defer(site.Close)
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodConnect || r.Host != "example.com:443" {
			http.Error(w, "only example.com is known here", http.StatusForbidden)
			return
		}
		_ = os.WriteFile(filepath.Join(env.WorkDir, "proxied"), []byte(r.Host), 0o600)
		there, err := net.Dial("tcp", site.Listener.Addr().String())
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadGateway)
			return
		}
		here, sent, err := http.NewResponseController(w).Hijack()
		if err != nil {
			return
		}
		// Only then is it answered: what the client sends after that is read here.
		_, _ = io.WriteString(here, "HTTP/1.1 200 Connection established\r\n\r\n")
		go func() { _, _ = io.Copy(there, sent); there.Close() }()
		_, _ = io.Copy(here, there)
		here.Close()
	}))
	env.Defer(proxy.Close)
	env.Setenv("PROXY", proxy.URL)
	name := filepath.Join(env.WorkDir, "certificates.pem")
	env.Setenv("CERTIFICATES", name)
	return os.WriteFile(name, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: site.Certificate().Raw}), 0o600)
}
