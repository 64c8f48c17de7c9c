package servers

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sync"
)

// Roundcube gives the archive that scripts/roundcube.sh packs from Debian's
// packages, and its SHA-256. It is packed once and kept in the user's cache
// folder.
func Roundcube(t Stage) (file, sum string) {
	t.Helper()
	packing.Lock()
	defer packing.Unlock()
	dir := archives(t)
	file = filepath.Join(dir, "roundcube-1.6.5-debian.tar.gz")
	if _, err := os.Stat(file); err != nil {
		Need(t, "apt-get", "dpkg-deb")
		_, here, _, _ := runtime.Caller(0)
		script := filepath.Join(filepath.Dir(here), "../../../scripts/roundcube.sh")
		if out, err := exec.Command("sh", script, file+".part").CombinedOutput(); err != nil {
			t.Logf("%s", out)
			Missing(t, "Roundcube cannot be packed from Debian's packages; run apt-get update")
		}
		if err := os.Rename(file+".part", file); err != nil {
			t.Fatal(err)
		}
	}
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	hash := sha256.Sum256(text)
	return file, hex.EncodeToString(hash[:])
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
