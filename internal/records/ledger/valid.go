package ledger

import (
	"fmt"
	"io/fs"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode"
)

var (
	appForm     = regexp.MustCompile(`^[a-z][a-z0-9-]{1,30}$`)
	addressForm = regexp.MustCompile(`^[a-z0-9]([a-z0-9.-]*[a-z0-9])?(:[0-9]{1,5})?(/[^/\\\x00]+)*$`)
	jobForm     = regexp.MustCompile(`^[0-9]{8}-[0-9]{6}-[a-z0-9]{4}$`)
	dataForm    = regexp.MustCompile(`^[A-Za-z0-9_$.-]{0,128}$`)
	sumForm     = regexp.MustCompile(`^[0-9a-f]{64}$`)
	// LabelForm is what the name of a label looks like.
	LabelForm  = regexp.MustCompile(`^[a-z][a-z0-9_-]{0,30}$`)
	tablesForm = regexp.MustCompile(`^[A-Za-z0-9_]{0,64}$`)
)

// Valid says what is wrong with a record that comes from elsewhere, a backup say;
// nil when every field is one that this program could have written. What is in it
// is used as the names of files, databases and users.
func (s Site) Valid() error {
	at, err := url.Parse(s.URL)
	switch {
	case !appForm.MatchString(s.App):
		return wrong("app", s.App)
	case s.Release == "" || len(s.Release) > 64 || !plain(s.Release) || strings.Contains(s.Release, "/"):
		return wrong("release", s.Release)
	case !addressForm.MatchString(s.Address) || path.Clean(s.Address) != s.Address:
		return wrong("address", s.Address)
	case err != nil || at.Scheme != "http" && at.Scheme != "https" || at.User != nil ||
		strings.TrimSuffix(at.Host+at.Path, "/") != s.Address:
		return wrong("url", s.URL)
	case !strings.HasPrefix(s.URL, s.AdminURL) && !strings.HasPrefix(s.AdminURL, at.Scheme+"://"+at.Host+"/") ||
		!plain(s.AdminURL):
		return wrong("admin_url", s.AdminURL)
	case !within(s.Folder):
		return wrong("folder", s.Folder)
	case s.DataFolder != "" && (!within(s.DataFolder) || s.DataFolder == "."):
		return wrong("data_folder", s.DataFolder)
	case s.Title == "" || !plain(s.Title) || !plain(s.Language) || !plain(s.Admin.Name) || !plain(s.Admin.Email):
		return wrong("title or admin", s.Title)
	case s.Job != "" && !jobForm.MatchString(s.Job), s.LastJob != "" && !jobForm.MatchString(s.LastJob):
		return wrong("job", s.Job+s.LastJob)
	case !s.Care.Valid():
		return wrong("care", fmt.Sprint(s.Care))
	case s.Files < 0 || s.Bytes < 0 || s.DatabaseBytes < 0:
		return wrong("size", fmt.Sprint(s.Bytes))
	}
	return s.validLists()
}

func (s Site) validLists() error {
	for _, name := range s.Entries {
		if !within(name) || strings.Contains(name, "/") || name == "." {
			return wrong("entries", name)
		}
	}
	for key, names := range map[string][]string{"set_aside": s.SetAside, "folders_made": s.FoldersMade} {
		for _, name := range names {
			if !within(name) || name == "." {
				return wrong(key, name)
			}
		}
	}
	if d := s.Database; d != nil {
		for key, name := range map[string]string{"server": d.Server, "engine": d.Engine, "name": d.Name, "user": d.User} {
			if !dataForm.MatchString(name) || name == "" && key != "user" {
				return wrong("database."+key, name)
			}
		}
		if !tablesForm.MatchString(d.Tables) {
			return wrong("database.tables", d.Tables)
		}
	}
	for _, m := range s.Mine {
		if !within(m.Name) || !sumForm.MatchString(m.Sum) {
			return wrong("mine", m.Name)
		}
	}
	for _, one := range s.Suspects {
		if !Nameable(one.Name) || one.AgainAt != nil && one.GoneAt == nil {
			return wrong("suspects", one.Name)
		}
	}
	for _, e := range s.Exposed {
		if !plain(e.Check) || slices.ContainsFunc(e.Parts, func(p string) bool { return !plain(p) }) {
			return wrong("accepted_exposure", e.Check)
		}
	}
	for name, is := range s.Labels {
		if !LabelForm.MatchString(name) || !plain(is) {
			return wrong("labels", name)
		}
	}
	for _, c := range s.Chosen {
		if c.ID == "" || !plain(c.ID) {
			return wrong("chosen", c.ID)
		}
	}
	return nil
}

// Nameable says whether a record can hold the name of a file.
func Nameable(name string) bool { return within(name) }

// within says whether a name is one below the account's top.
func within(name string) bool {
	return fs.ValidPath(name) && !strings.ContainsAny(name, "\\\x00") && plain(name)
}

// plain says whether a text has no control characters.
func plain(text string) bool { return strings.IndexFunc(text, unicode.IsControl) < 0 }

func wrong(field, value string) error { return fmt.Errorf("its %s cannot be %q", field, value) }
