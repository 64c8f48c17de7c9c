package home

import (
	"os"
	"path/filepath"

	"tivset/internal/atomicfile"
)

func (h Home) recovery() string { return filepath.Join(h.State, "recovery.json") }

// Recovery gives what is kept of the recovery file that was saved last; fs.ErrNotExist for none.
func (h Home) Recovery() ([]byte, error) { return os.ReadFile(h.recovery()) }

// KeepRecovery keeps it.
func (h Home) KeepRecovery(text []byte) error {
	if err := os.MkdirAll(h.State, 0o700); err != nil {
		return err
	}
	return atomicfile.Write(h.recovery(), text, 0o600)
}
