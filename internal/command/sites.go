package command

import (
	"context"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"tivset/internal/ledger"
	"tivset/internal/screen"
	"tivset/internal/site"
)

func (a *app) sites() *cobra.Command {
	return &cobra.Command{
		Use:     "sites",
		Short:   "List the installed sites",
		Example: "  tivset sites\n  tivset sites --json",
		Args:    takes(0, 0, ""),
		RunE: a.using(func(ctx context.Context, s *site.Service, _ []string) error {
			all, err := s.Sites(ctx)
			if err != nil {
				return err
			}
			if a.account != "" {
				all = ofAccount(all, a.account)
			}
			if a.json {
				return a.streams.WriteJSON(all)
			}
			a.listSites(all)
			return nil
		}),
	}
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

func (a *app) listSites(all []ledger.Site) {
	if len(all) == 0 {
		a.streams.Say("No site is installed yet. See what there is with: tivset browse")
		return
	}
	var rows [][]string
	for _, s := range all {
		rows = append(rows, []string{s.Address, s.App, s.Release, dash(s.Newer), fmt.Sprint(s.Files), humanize.Bytes(uint64(s.Bytes)), s.InstalledAt.Format("2006-01-02"), s.Health})
	}
	a.streams.Table([]string{"Address", "App", "Release", "Newer", "Files", "Size", "Installed", "Health"}, rows)
}

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
		release += " (newer: " + s.Newer + ")"
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
		all = append(all, screen.Pair{Name: "Set aside", Text: strings.Join(s.SetAside, "\n") + "\nput back by: tivset undo " + s.Job})
	}
	all = append(all,
		screen.Pair{Name: "Files", Text: fmt.Sprintf("%d, %s", s.Files, humanize.Bytes(uint64(s.Bytes)))},
		screen.Pair{Name: "Installed", Text: s.InstalledAt.Format("2006-01-02 15:04 MST") + ", job " + s.Job},
		screen.Pair{Name: "Care", Text: strings.Join([]string{"updates " + s.Care.Updates, "backup " + s.Care.Backup, "extensions " + s.Care.Extensions, "themes " + s.Care.Themes, "put back " + s.Care.PutBack, "mails " + s.Care.Mails}, ", ")})
	if l := s.Licence; l != nil {
		all = append(all, screen.Pair{Name: "Licence", Text: l.Name + ", accepted " + l.At.Format("2006-01-02") + " for release " + l.Release})
	}
	return append(all, screen.Pair{Name: "Health", Text: s.Health}, screen.Pair{Name: "Password", Text: "tivset reveal " + s.Address})
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
