package command

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"tivset/internal/records/ledger"
	"tivset/internal/screen"
	"tivset/internal/site"
)

func (a *app) sites() *cobra.Command {
	o := site.Listing{}
	c := &cobra.Command{
		Use:   "sites [WORD…] [flags]",
		Short: "List the installed sites",
		Long: "Lists the sites that are known: those whose address, title, app or account have every word in\n" +
			"them. With --fresh their accounts are looked at first: sizes, and whether the sites are there.",
		Example: "  tivset sites\n  tivset sites forum --sort size\n  tivset sites --newer --json",
		RunE: a.using(func(ctx context.Context, s *site.Service, words []string) error {
			o.Words, o.Account = words, a.account
			all, err := s.List(ctx, o)
			if err != nil {
				return err
			}
			if a.json {
				return a.streams.WriteJSON(all)
			}
			a.listSites(all, len(words) > 0 || o.Newer || o.App != "" || o.Health != "")
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&o.Sort, "sort", "", "by "+strings.Join(site.Sorts(), ", ")+" (address when left out)")
	f.BoolVar(&o.Reverse, "reverse", false, "the other way round")
	f.StringVar(&o.App, "app", "", "only sites of this app")
	f.StringVar(&o.Health, "health", "", "only sites whose health is this: good, bad or gone")
	f.BoolVar(&o.Newer, "newer", false, "only sites for which there is a newer release")
	f.BoolVar(&o.Fresh, "fresh", false, "look at the accounts first")
	option(c, "app", a.appWords, 0)
	return c
}

func ofAccount(all []ledger.Site, name string) []ledger.Site {
	out := []ledger.Site{}
	for _, s := range all {
		if s.Account == name {
			out = append(out, s)
		}
	}
	return out
}

func (a *app) listSites(all []ledger.Site, chosen bool) {
	if len(all) == 0 && chosen {
		a.streams.Say("No site is like that. See all with: tivset sites")
		return
	}
	if len(all) == 0 {
		a.streams.Say("No site is installed yet. See what there is with: tivset browse")
		return
	}
	full := !a.streams.OutTerminal || a.streams.Width >= wide
	head := []string{"Address", "App", "Release", "Newer", "Size", "Backup", "Health"}
	if full {
		head = []string{"Address", "App", "Release", "Newer", "Account", "Files", "Size", "Database", "Installed", "Updated", "Backup", "Care", "Health"}
	}
	var rows [][]string
	for _, s := range all {
		backup, data := "-", "-"
		if s.LastBackupAt != nil {
			backup = s.LastBackupAt.Format(time.DateOnly)
		}
		if s.DatabaseBytes > 0 {
			data = humanize.Bytes(uint64(s.DatabaseBytes))
		}
		newer := dash(s.Newer)
		if s.NewerLevel != "" {
			newer += ", " + s.NewerLevel
		}
		state := s.Health
		if s.CopyOf != "" {
			state += ", a copy"
		}
		row := []string{s.Address, s.App, s.Release, newer, humanize.Bytes(uint64(s.Bytes)), backup, state}
		if full {
			row = []string{s.Address, s.App, s.Release, newer, s.Account, fmt.Sprint(s.Files), humanize.Bytes(uint64(s.Bytes)), data,
				s.InstalledAt.Format(time.DateOnly), s.UpdatedAt.Format(time.DateOnly), backup, s.Care.Updates, state}
		}
		rows = append(rows, row)
	}
	a.streams.Table(head, rows)
}

// wide is how many columns a terminal needs for all that there is to list.
const wide = 150

func dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

func (a *app) show() *cobra.Command {
	return &cobra.Command{
		Use:     "show SITE",
		Short:   "Show one site in full",
		Example: "  tivset show lockside.localhost:8780/forum\n  tivset show forum",
		Args:    takes(1, 1, "SITE"),
		RunE: a.using(func(ctx context.Context, s *site.Service, args []string) error {
			found, err := s.Site(ctx, args[0])
			if err != nil {
				return err
			}
			if a.json {
				return a.streams.WriteJSON(found)
			}
			a.streams.Pairs(sitePairs(found))
			return nil
		}),
		ValidArgsFunction: only(a.siteWords),
	}
}

func sitePairs(s ledger.Site) []screen.Pair {
	release := s.Release
	if s.Newer != "" {
		release += " (newer: " + s.Newer + ", " + s.NewerLevel + ")"
	}
	all := []screen.Pair{{Name: "Address", Text: s.URL}, {Name: "Admin side", Text: s.AdminURL}, {Name: "App", Text: s.App + " " + release}, {Name: "Title", Text: s.Title},
		{Name: "Language", Text: s.Language}, {Name: "Account", Text: s.Account + ", folder " + s.Folder}, {Name: "Admin", Text: s.Admin.Name + ", " + s.Admin.Email}}
	if d := s.Database; d != nil {
		text := fmt.Sprintf("%s on %s (%s)", d.Name, d.Server, screen.Engine(d.Engine))
		if d.User != "" {
			text += ", user " + d.User
		}
		if d.Tables != "" {
			text += ", tables begin with " + d.Tables
		}
		all = append(all, screen.Pair{Name: "Database", Text: text})
	}
	if s.DataFolder != "" {
		all = append(all, screen.Pair{Name: "Data folder", Text: s.DataFolder})
	}
	if len(s.Chosen) > 0 {
		all = append(all, screen.Pair{Name: "Chosen", Text: chosen(s.Chosen)})
	}
	if len(s.SetAside) > 0 {
		all = append(all, screen.Pair{Name: "Set aside", Text: strings.Join(s.SetAside, "\n") + "\nput back when the site is removed"})
	}
	all = append(all,
		screen.Pair{Name: "Files", Text: fmt.Sprintf("%d, %s", s.Files, humanize.Bytes(uint64(s.Bytes)))},
		screen.Pair{Name: "Backup", Text: lastBackup(s)},
		screen.Pair{Name: "Installed", Text: s.InstalledAt.Format("2006-01-02 15:04 MST") + ", job " + s.Job},
		screen.Pair{Name: "Care", Text: strings.Join([]string{"updates " + s.Care.Updates, "backup " + s.Care.Backup, "extensions " + s.Care.Extensions, "themes " + s.Care.Themes, "put back " + s.Care.PutBack, "mails " + s.Care.Mails}, ", ")})
	if l := s.Licence; l != nil {
		all = append(all, screen.Pair{Name: "Licence", Text: l.Name + ", accepted " + l.At.Format("2006-01-02") + " for release " + l.Release})
	}
	if s.CopyOf != "" {
		all = append(all, screen.Pair{Name: "Copy of", Text: s.CopyOf})
	}
	return append(all, screen.Pair{Name: "Health", Text: health(s)}, screen.Pair{Name: "Password", Text: "tivset reveal " + s.Address})
}

// lastBackup says when the last backup was made.
func lastBackup(s ledger.Site) string {
	if s.LastBackupAt == nil {
		return "none yet; make one with: tivset backup " + s.Address
	}
	return s.LastBackupAt.Format("2006-01-02 15:04 MST") + "; see them with: tivset backup " + s.Address + " --list"
}

func chosen(all []ledger.Choice) string {
	var out []string
	for _, c := range all {
		if c.Answer != "" {
			out = append(out, c.ID+": "+screen.OneLine(c.Answer))
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
