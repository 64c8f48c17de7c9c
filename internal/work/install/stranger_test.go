package install_test

import (
	"io"
	"net/http"
	"regexp"
	"slices"
	"strings"

	"tivset/internal/testing/sitetest"
)

// ask asks, as a stranger, for what a set-up must not show, and reports what
// came. It returns how many questions it asked.
func ask(w *sitetest.World, base string, found chan<- string) int {
	names := []string{"install/", "install/index.page", "config/willowbench.ini", "schema/tables.sql", ".htaccess"}
	addresses := []string{"/.tivset/", "/.tivset/stage/", "/.tivset/busy/"}
	for _, n := range names {
		addresses = append(addresses, base+n, "/"+n, "/stage/"+n)
	}
	for _, a := range addresses {
		look(w, a, found, "Set up your willowbench", "password")
	}
	return len(addresses)
}

// look asks for one address, and reports it when it shows any of the words.
func look(w *sitetest.World, address string, found chan<- string, words ...string) string {
	r, err := http.NewRequest(http.MethodGet, "http://"+w.Demo.Standin.Web.Address()+address, nil)
	if err != nil {
		return ""
	}
	r.Host = "lockside.localhost"
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return ""
	}
	defer answer.Body.Close()
	text, _ := io.ReadAll(answer.Body)
	if answer.StatusCode != http.StatusOK {
		return ""
	}
	if slices.ContainsFunc(words, func(word string) bool { return strings.Contains(string(text), word) }) {
		select {
		case found <- address:
		default:
		}
	}
	return string(text)
}

var link = regexp.MustCompile(`<a href="([^"/]+)">`)

// wander follows the listings of folders, as deep as it is told, and asks for
// the set-up in every folder that it finds.
func wander(w *sitetest.World, folder string, found chan<- string, deep int) int {
	asked := 1
	for _, m := range link.FindAllStringSubmatch(look(w, folder, found, "Set up your willowbench"), -1) {
		look(w, folder+m[1]+"/install/", found, "Set up your willowbench")
		asked++
		if deep > 0 && !strings.Contains(m[1], ".") {
			asked += wander(w, folder+m[1]+"/", found, deep-1)
		}
	}
	return asked
}
