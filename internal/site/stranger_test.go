package site_test

import (
	"io"
	"net/http"
	"strings"

	"tivset/internal/sitetest"
)

// ask asks, as a stranger, for what a set-up must not show, and reports what
// came. It returns how many questions it asked.
func ask(w *sitetest.World, base string, found chan<- string) int {
	names := []string{"install/", "install/index.page", "config/moorings.ini", "schema/tables.sql", ".htaccess"}
	addresses := []string{"/.tivset/", "/.tivset/stage/", "/.tivset/busy/"}
	for _, n := range names {
		addresses = append(addresses, base+n, "/"+n, "/stage/"+n)
	}
	for _, a := range addresses {
		r, err := http.NewRequest(http.MethodGet, "http://"+w.Demo.Standin.Web.Address()+a, nil)
		if err != nil {
			continue
		}
		r.Host = "lockside.localhost"
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			continue
		}
		text, _ := io.ReadAll(answer.Body)
		answer.Body.Close()
		if answer.StatusCode == http.StatusOK && (strings.Contains(string(text), "Set up your moorings") || strings.Contains(string(text), "password")) {
			select {
			case found <- a:
			default:
			}
		}
	}
	return len(addresses)
}
