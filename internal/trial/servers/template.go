package servers

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"

	"github.com/gofrs/flock"
)

// copied makes data a copy of what fill makes in an empty folder. That is made once for all programs that share
// a folder for temporary files, since it takes some times as long as to copy it. What it is made with (a program,
// and what is said to it) is part of its name.
func copied(t Stage, data, program string, said string, fill func(folder string)) {
	t.Helper()
	info, err := os.Stat(program)
	if err != nil {
		t.Fatal(err)
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%s %d %s %s", program, info.Size(), info.ModTime(), said))
	all := filepath.Join(os.TempDir(), fmt.Sprintf("tivset-test-data-%d", os.Getuid()))
	if err := os.MkdirAll(all, 0o711); err != nil {
		t.Fatal(err)
	}
	made := filepath.Join(all, hex.EncodeToString(sum[:8]))
	lock := flock.New(made + ".lock")
	if err := lock.Lock(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = lock.Close() }()
	if _, err := os.Stat(made + ".whole"); err != nil {
		if err := os.RemoveAll(made); err != nil {
			t.Fatal(err)
		}
		fill(made)
		write(t, made+".whole", nil)
	}
	run(t, "cp", "-a", made, data)
}
