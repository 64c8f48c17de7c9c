package home

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"tivset/internal/answer/care"
	"tivset/internal/atomicfile"
	"tivset/internal/fault"
)

func (h Home) care() string { return filepath.Join(h.Config, "care.json") }

// DefaultCare is how sites are looked after that come from now on, where nothing else is said; the usual care where
// nobody decided.
func (h Home) DefaultCare() (c care.Care, err error) {
	text, err := os.ReadFile(h.care())
	if errors.Is(err, fs.ErrNotExist) {
		return care.Usual, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &c)
	}
	if err == nil && !c.Valid() {
		err = errors.New("it is not whole")
	}
	if err != nil {
		return care.Usual, fault.New(fault.Usage, "the care of new sites cannot be read", h.care(),
			"Decide anew: "+fault.Call("care", "--default", "--accepts", "fixes")+"; or take the file away.").Wrap(err)
	}
	return c, nil
}

// KeepDefaultCare keeps it.
func (h Home) KeepDefaultCare(c care.Care) error {
	text, err := json.MarshalIndent(c, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(h.Config, 0o700); err != nil {
		return err
	}
	return atomicfile.Write(h.care(), append(text, '\n'), 0o600)
}
