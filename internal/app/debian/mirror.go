package debian

import (
	"bufio"
	"errors"
	"io"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"pault.ag/go/debian/control"
)

// Source is a line of a machine's configuration: where packages are had from.
type Source struct {
	URI        string // with a final slash
	Suites     []string
	Components []string
	Keyring    string // a file of OpenPGP keys that sign it; "" where the line names none
	Stale      bool   // its index holds also when it says that it does no longer
	Own        bool   // its owner named it for this: its keys are trusted by whatever name
}

// Configured reads a machine's configuration, the folder that apt has it in
// (sources.list(5), both styles). Sources that are no web addresses are passed over.
func Configured(etc fs.FS) ([]Source, error) {
	var out []Source
	names, err := fs.Glob(etc, "sources.list.d/*")
	if err != nil {
		return nil, err
	}
	for _, name := range append([]string{"sources.list"}, names...) {
		file, err := etc.Open(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		read := map[string]func(io.Reader) ([]Source, error){".list": lines, ".sources": stanzas}[path.Ext(name)]
		if read != nil {
			found, errRead := read(io.LimitReader(file, 1<<20))
			out, err = append(out, found...), errRead
		}
		if err := errors.Join(err, file.Close()); err != nil {
			return nil, err
		}
	}
	stale, err := allStale(etc)
	if err != nil {
		return nil, err
	}
	for i := range out {
		out[i].Stale = out[i].Stale || stale
	}
	return slices.DeleteFunc(out, func(s Source) bool {
		return !strings.HasPrefix(s.URI, "http://") && !strings.HasPrefix(s.URI, "https://")
	}), nil
}

// allStale says whether the machine takes indexes that say that they hold no longer,
// as one with a frozen mirror has to (apt.conf(5), Acquire::Check-Valid-Until).
func allStale(etc fs.FS) (bool, error) {
	names, err := fs.Glob(etc, "apt.conf.d/*")
	if err != nil {
		return false, err
	}
	stale := false
	for _, name := range append(names, "apt.conf") {
		text, err := fs.ReadFile(etc, name)
		if err != nil {
			continue // apt passes over what is not there
		}
		if m := validUntil.FindAllSubmatch(text, -1); m != nil {
			stale = off(string(m[len(m)-1][1]))
		}
	}
	return stale, nil
}

var validUntil = regexp.MustCompile(`(?mi)^\s*Acquire::Check-Valid-Until\s+"?(\w+)"?\s*;`)

// off reads a switch of apt's.
func off(text string) bool {
	words := []string{"no", "false", "without", "off", "disable", "0"}
	return slices.Contains(words, strings.ToLower(strings.TrimSpace(text)))
}

// lines reads the style of one line: deb [options] URI suite component…
func lines(from io.Reader) (out []Source, err error) {
	in := bufio.NewScanner(from)
	for in.Scan() {
		text, _, _ := strings.Cut(in.Text(), "#")
		s := Source{}
		if begin, options, has := strings.Cut(text, "["); has {
			inside, rest, closed := strings.Cut(options, "]")
			if !closed {
				continue
			}
			text = begin + rest
			for _, option := range strings.Fields(inside) {
				name, value, _ := strings.Cut(option, "=")
				switch strings.ToLower(name) {
				case "signed-by":
					s.Keyring = value
				case "check-valid-until":
					s.Stale = off(value)
				}
			}
		}
		words := strings.Fields(text)
		if len(words) < 4 || words[0] != "deb" {
			continue
		}
		s.URI, s.Suites, s.Components = slashed(words[1]), words[2:3], words[3:]
		out = append(out, s)
	}
	return out, in.Err()
}

// stanzas reads the style of deb822(5).
func stanzas(from io.Reader) (out []Source, err error) {
	in, err := control.NewParagraphReader(from, nil)
	if err != nil {
		return nil, err
	}
	all, err := in.All()
	for _, p := range all {
		v := p.Values
		if !slices.Contains(strings.Fields(v["Types"]), "deb") || strings.EqualFold(strings.TrimSpace(v["Enabled"]), "no") {
			continue
		}
		keyring := strings.TrimSpace(v["Signed-By"])
		if strings.Contains(keyring, "\n") { // the key itself, which names no Debian archive that is known elsewhere
			keyring = ""
		}
		for _, uri := range strings.Fields(v["URIs"]) {
			out = append(out, Source{URI: slashed(uri), Suites: strings.Fields(v["Suites"]),
				Components: strings.Fields(v["Components"]), Keyring: keyring, Stale: off(v["Check-Valid-Until"])})
		}
	}
	return out, err
}

func slashed(uri string) string { return strings.TrimRight(uri, "/") + "/" }
