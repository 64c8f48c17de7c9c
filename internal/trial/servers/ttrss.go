package servers

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
)

// TTRSS gives the untouched upstream archive of tt-rss, from Debian's source
// packages. It is fetched once and kept in the user's cache folder.
func TTRSS(t Stage) string {
	t.Helper()
	const name = "tt-rss_21~git20210204.b4cbc79+dfsg.orig.tar.xz"
	packing.Lock()
	defer packing.Unlock()
	dir := archives(t)
	file := filepath.Join(dir, name)
	if _, err := os.Stat(file); err == nil {
		return file
	}
	Need(t, "apt-get")
	lists := filepath.Join(folder(t), "lists")
	if err := os.MkdirAll(filepath.Join(lists, "partial"), 0o755); err != nil {
		t.Fatal(err)
	}
	// The machine's own package sources, for source packages; in lists of our
	// own, so that the machine's are left alone.
	out, err := exec.Command("apt-get", "indextargets", "--format", "deb-src $(REPO_URI) $(RELEASE) $(COMPONENT)",
		"Created-By: Packages", "Origin: Debian", "Component: main").Output()
	if err != nil || len(out) == 0 {
		Missing(t, "the sources of Debian's packages are not known here; run apt-get update")
	}
	sources := filepath.Join(filepath.Dir(lists), "sources.list")
	if err := os.WriteFile(sources, []byte(strings.Join(unique(string(out)), "\n")+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	apt := func(args ...string) ([]byte, error) {
		own := []string{"-o", "Dir::Etc::SourceList=" + sources, "-o", "Dir::Etc::SourceParts=/dev/null", "-o",
			"Dir::State::Lists=" + lists, "-o", "APT::Sandbox::User="}
		c := exec.Command("apt-get", append(own, args...)...)
		c.Dir = filepath.Dir(lists)
		return c.CombinedOutput()
	}
	for _, args := range [][]string{{"update"}, {"source", "--download-only", "--tar-only", "tt-rss"}} {
		if out, err := apt(args...); err != nil {
			t.Logf("%s", out)
			Missing(t, "the source package of tt-rss cannot be fetched")
		}
	}
	text, err := os.ReadFile(filepath.Join(filepath.Dir(lists), name))
	if err != nil {
		Missing(t, "the source package of tt-rss is another one now: "+err.Error())
	}
	if err := os.WriteFile(file+".part", text, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(file+".part", file); err != nil {
		t.Fatal(err)
	}
	return file
}

func unique(text string) []string {
	var out []string
	seen := map[string]bool{}
	for line := range strings.Lines(text) {
		if line = strings.TrimSpace(line); line != "" && !seen[line] {
			seen[line] = true
			out = append(out, line)
		}
	}
	return out
}

// packing is for one test at a time: the others take what it packed.
var packing sync.Mutex

// archives is the folder where archives for tests are kept.
func archives(t Stage) string {
	t.Helper()
	cache, err := os.UserCacheDir()
	if err != nil {
		cache = os.TempDir()
	}
	dir := filepath.Join(cache, "tivset-test-archives")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	return dir
}
