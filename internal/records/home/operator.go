package home

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"tivset/internal/atomicfile"
)

func (h Home) operator() string { return filepath.Join(h.Config, "operator") }

// Operator is the name of who works here, as owners read it in pages and mails; "" when
// it was not told.
func (h Home) Operator() (string, error) {
	text, err := os.ReadFile(h.operator())
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	return strings.TrimSpace(string(text)), err
}

// KeepOperator keeps that name.
func (h Home) KeepOperator(name string) error {
	if err := os.MkdirAll(h.Config, 0o700); err != nil {
		return err
	}
	return atomicfile.Write(h.operator(), []byte(name+"\n"), 0o600)
}
