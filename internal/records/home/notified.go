package home

import (
	"errors"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"tivset/internal/atomicfile"
	"tivset/internal/fault"
)

// Notified is a program that this machine tells what its maintenance runs do and meet. It is this machine's alone: what
// it runs, and whom it asks, is nothing that a team's records could say.
type Notified struct {
	To  string `yaml:"to"`            // exec:/PROGRAM, or https://…
	Of  string `yaml:"of"`            // trouble, changes, everything
	Key string `yaml:"key,omitempty"` // signs what goes to an address: base64
}

func (h Home) notified() string { return filepath.Join(h.Config, "notify.yaml") }

// Notified are those programs.
func (h Home) Notified() (all []Notified, err error) {
	text, err := os.ReadFile(h.notified())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil {
		err = yaml.Unmarshal(text, &all)
	}
	if err != nil {
		return nil, fault.New(fault.Usage, "who is notified cannot be read", h.notified(),
			"Mend it, or take it away and add them anew: "+fault.Call("notify", "add", "exec:/PROGRAM")).Wrap(err)
	}
	return all, nil
}

// KeepNotified keeps them.
func (h Home) KeepNotified(all []Notified) error {
	text, err := yaml.Marshal(all)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(h.Config, 0o700); err != nil {
		return err
	}
	return atomicfile.Write(h.notified(), text, 0o600)
}

// What a program that is told begins with.
const (
	byExec  = "exec:"
	byHTTPS = "https:"
)

// IsProgram says whether a letter is for a program rather than a person.
func IsProgram(to string) bool {
	return strings.HasPrefix(to, byExec) || strings.HasPrefix(to, byHTTPS)
}

// Program is the file of exec:FILE; "" of anything else.
func Program(to string) string {
	file, is := strings.CutPrefix(to, byExec)
	if !is {
		return ""
	}
	return file
}

// ValidNotified is what is wrong with a new one, if anything.
func ValidNotified(n Notified, reaches []string) error {
	if !slices.Contains(reaches, n.Of) {
		return fault.New(fault.Usage, "nobody can be told of “"+n.Of+"”", "--of", "It is one of "+
			strings.Join(reaches, ", ")+".")
	}
	if file := Program(n.To); file != "" {
		info, err := os.Stat(file)
		switch {
		case !filepath.IsAbs(file):
			return fault.New(fault.Usage, "the program's whole path is needed", n.To, "Write it as exec:/PATH/OF/PROGRAM.")
		case err != nil:
			return fault.New(fault.Usage, "the program cannot be looked at", file, "Put it there first.").Wrap(err)
		case !info.Mode().IsRegular() || info.Mode()&0o111 == 0:
			return fault.New(fault.Usage, "the file cannot be run", file, "Make it a program: chmod +x "+file)
		case info.Mode()&0o022 != 0:
			return fault.New(fault.Usage, "others may write into the program, and would have it do what they like", file,
				"Take that from them first: chmod go-w "+file)
		}
		return nil
	}
	u, err := url.Parse(n.To)
	if err != nil || u.Scheme != "https" || u.Hostname() == "" || u.User != nil || u.Fragment != "" {
		return fault.New(fault.Usage, "it is neither a program nor an https address", n.To,
			"Write exec:/PATH/OF/PROGRAM, or https://HOST/PATH.")
	}
	return nil
}
