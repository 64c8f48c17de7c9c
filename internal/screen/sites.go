package screen

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"tivset/internal/answer/language"
	"tivset/internal/records/ledger"
	"tivset/internal/sites"
	"tivset/internal/wizard"
)

// Sites lists sites: on a terminal what matters first, elsewhere and with wide all that there
// is to list. Chosen says that not all of them are wanted.
func (s *Streams) Sites(all []ledger.Site, chosen, wide bool) {
	switch {
	case len(all) == 0 && chosen:
		s.Say("No site matches. See all with: tivset sites")
	case len(all) == 0:
		s.Say("No site is installed yet. See what there is with: tivset browse")
	case wide || !s.OutTerminal:
		s.wholeSites(all)
	default:
		s.fewOfSites(all)
	}
}

// fewOfSites tells of each site how it is called, how it is, and what it wants first.
func (s *Streams) fewOfSites(all []ledger.Site) {
	var rows [][]string
	for _, x := range all {
		rows = append(rows, []string{x.Address, titled(x), x.Health, Dash(sites.WantOf(x).What)})
	}
	s.Table([]string{"Address", "Title", "Health", "Next"}, rows)
	s.Say("\n%s", s.paint(faint, "All columns: tivset sites --wide. What is next for a site, and how: tivset show SITE"))
	if s.Idle != "" {
		s.Warn("of the backups and updates that sites ask for: " + s.Idle)
	}
}

// titled is a site's title; a copy is called one.
func titled(x ledger.Site) string {
	if x.CopyOf != "" {
		return "Copy: " + x.Title
	}
	return x.Title
}

func (s *Streams) wholeSites(all []ledger.Site) {
	head := []string{"Address", "Health", "Next", "Title", "App", "Release", "Newer", "Account", "Files", "Size",
		"Database", "Installed", "Updated", "Backup", "Care"}
	var rows [][]string
	for _, x := range all {
		backup, data := "-", "-"
		if x.LastBackupAt != nil {
			backup = x.LastBackupAt.Format(time.DateOnly)
		}
		if x.DatabaseBytes > 0 {
			data = humanize.Bytes(uint64(x.DatabaseBytes))
		}
		newer := Dash(x.Newer)
		if x.NewerLevel != "" {
			newer += ", " + level(x.NewerLevel, x.Urgent)
		}
		rows = append(rows, []string{x.Address, x.Health, Dash(sites.WantOf(x).What), titled(x), x.App, x.Release, newer,
			x.Account, fmt.Sprint(x.Files), humanize.Bytes(uint64(x.Bytes)), data, x.InstalledAt.Format(time.DateOnly),
			x.UpdatedAt.Format(time.DateOnly), backup, x.Care.Accepts})
	}
	s.Table(head, rows)
}

// level words how far a release goes.
func level(of string, urgent bool) string {
	if urgent {
		return of + ", fixes a security hole"
	}
	return of
}

// Dash stands for what there is none of.
func Dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

// Labels lists the labels of a site in words.
func Labels(labels map[string]string) string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(labels)) {
		out = append(out, name+"="+labels[name])
	}
	if len(out) == 0 {
		return "no label"
	}
	return strings.Join(out, ", ")
}

// Site shows one site in full; mails says whether its account can send some.
func (s *Streams) Site(x ledger.Site, mails bool) { s.Pairs(s.sitePairs(x, mails)) }

func (of *Streams) sitePairs(s ledger.Site, mails bool) []Pair {
	release := s.Release
	if s.Newer != "" {
		release += " (newer: " + s.Newer + ", " + level(s.NewerLevel, s.Urgent) + ")"
	}
	all := []Pair{{Name: "Address", Text: s.URL}, {Name: "Admin area", Text: s.AdminURL},
		{Name: "App", Text: s.App + " " + release}, {Name: "Title", Text: s.Title},
		{Name: "Language", Text: language.English(s.Language)}, {Name: "Account", Text: s.Account + ", folder " + s.Folder},
		{Name: "Admin", Text: s.Admin.Name + ", " + s.Admin.Email}}
	if d := s.Database; d != nil {
		text := fmt.Sprintf("%s on %s (%s)", d.Name, d.Server, Engine(d.Engine))
		if d.User != "" {
			text += ", user " + d.User
		}
		if d.Tables != "" {
			text += ", tables begin with " + d.Tables
		}
		all = append(all, Pair{Name: "Database", Text: text})
	}
	if s.DataFolder != "" {
		all = append(all, Pair{Name: "Data folder", Text: s.DataFolder})
	}
	if len(s.Chosen) > 0 {
		all = append(all, Pair{Name: "Chosen", Text: chosenAnswers(s.Chosen)})
	}
	if len(s.SetAside) > 0 {
		all = append(all, Pair{Name: "Set aside", Text: strings.Join(s.SetAside, "\n") +
			"\nput back when the site is removed"})
	}
	all = append(all,
		Pair{Name: "Files", Text: fmt.Sprintf("%d, %s", s.Files, humanize.Bytes(uint64(s.Bytes)))},
		Pair{Name: "Backup", Text: lastBackup(s)},
		Pair{Name: "Installed", Text: s.InstalledAt.Format("2006-01-02 15:04 MST") + ", job " + s.Job},
		Pair{Name: "Care", Text: of.entrusted(s.Care, mails, s.Admin.Email)})
	if l := s.Licence; l != nil {
		all = append(all, Pair{Name: "Licence", Text: l.Name + ", accepted " + l.At.Format("2006-01-02") +
			" for release " + l.Release})
	}
	if len(s.Labels) > 0 {
		all = append(all, Pair{Name: "Labels", Text: Labels(s.Labels)})
	}
	if s.CopyOf != "" {
		all = append(all, Pair{Name: "Copy of", Text: s.CopyOf})
	}
	all = append(all, Pair{Name: "Health", Text: health(s)}, Pair{Name: "Password", Text: "tivset reveal " + s.Address})
	if want := sites.WantOf(s); want.What != "" {
		text := "wants " + want.What + ": " + want.Call
		if s.Tried != nil && s.Newer != "" && s.Due == "" {
			text = s.Tried.Release + " failed on " + s.Tried.At.Format(time.DateOnly) + " and is not tried again by itself: " +
				s.Tried.Problem
		}
		all = append(all, Pair{Name: "Next", Text: text})
	}
	return all
}

// lastBackup says when the last backup was made.
func lastBackup(s ledger.Site) string {
	if s.LastBackupAt == nil {
		return "none yet; make one with: tivset backup " + s.Address
	}
	return s.LastBackupAt.Format("2006-01-02 15:04 MST") + "; see them with: tivset backup " + s.Address + " --list"
}

func chosenAnswers(all []ledger.Choice) string {
	var out []string
	for _, c := range all {
		if c.Answer != "" {
			out = append(out, c.ID+": "+wizard.OneLine(c.Answer))
		}
	}
	return strings.Join(out, "\n")
}

// health words how a site was when it was looked at last.
func health(s ledger.Site) string {
	text := s.Health
	if s.Gone != "" {
		text = "gone: its " + s.Gone
	}
	if s.CheckedAt != nil {
		text += ", looked at " + s.CheckedAt.Format("2006-01-02 15:04 MST")
	}
	return text
}
