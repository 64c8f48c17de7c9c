package screen

import (
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"

	"tivset/internal/accounts"
	"tivset/internal/hosting/account"
)

// Account shows an account and what is in it.
func (s *Streams) Account(x *account.Account, f accounts.Facts) { s.Pairs(shownAccount(x, f)) }

func shownAccount(x *account.Account, f accounts.Facts) []Pair {
	space := "not visible from here"
	if f.Files >= 0 {
		space = fmt.Sprintf("%s files, %s", humanize.Comma(int64(f.Files)), humanize.Bytes(uint64(f.Bytes)))
	}
	if f.Free >= 0 {
		space += "; " + humanize.Bytes(uint64(f.Free)) + " left"
	}
	all := []Pair{{Name: "Account", Text: x.Name}, {Name: "Files", Text: x.Reach + ", store " + x.Store},
		{Name: "Space", Text: space}}
	for i, d := range x.Domains {
		text := d.URL + ", folder " + d.Folder
		if d.Primary {
			text += ", the main one"
		}
		for _, s := range f.Domains[i].Sites {
			text += "\n" + s
		}
		all = append(all, Pair{Name: "Domain", Text: text})
	}
	for _, d := range x.Databases {
		text := fmt.Sprintf("%s: %s at %s, names begin with %s", d.Name, Engine(d.Engine), d.Server, Dash(d.Prefix))
		for _, kept := range f.Databases {
			if kept.Server != d.Name {
				continue
			}
			text += "\n" + kept.Name
			if kept.Bytes >= 0 {
				text += ", " + humanize.Bytes(uint64(kept.Bytes))
			}
			if kept.Site != "" {
				text += ", of " + kept.Site
			}
		}
		all = append(all, Pair{Name: "Database", Text: text})
	}
	if x.Runtime.Crontab != "" {
		all = append(all, Pair{Name: "Timers", Text: Dash(strings.Join(f.Timers, "\n"))})
	}
	if x.Mail != nil {
		all = append(all, Pair{Name: "Mail", Text: x.Mail.Server + ", from " + x.Mail.From})
	}
	return all
}
