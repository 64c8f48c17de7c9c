package home

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"go.yaml.in/yaml/v3"

	"tivset/internal/atomicfile"
	"tivset/internal/fault"
)

func (h Home) selections() string { return filepath.Join(h.Config, "selections.yaml") }

// Selections are the filters of sites that were saved, by their names; none where nobody saved one.
func (h Home) Selections() (all map[string][]string, err error) {
	text, err := os.ReadFile(h.selections())
	if errors.Is(err, fs.ErrNotExist) {
		return map[string][]string{}, nil
	}
	if err == nil {
		err = yaml.Unmarshal(text, &all)
	}
	if err != nil {
		return nil, fault.New(fault.Usage, "the saved selections cannot be read", h.selections(),
			"Put the file right, or take it away.").Wrap(err)
	}
	if all == nil {
		all = map[string][]string{}
	}
	return all, nil
}

// KeepSelection saves a filter under a name, in the place of one that had it.
func (h Home) KeepSelection(name string, where []string) error {
	all, err := h.Selections()
	if err != nil {
		return err
	}
	all[name] = where
	text, err := yaml.Marshal(all)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(h.Config, 0o700); err != nil {
		return err
	}
	return atomicfile.Write(h.selections(), text, 0o600)
}
