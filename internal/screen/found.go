package screen

import (
	"encoding/csv"
	"fmt"
	"io"
	"strconv"
	"time"

	"tivset/internal/answer"
	"tivset/internal/work/adopt"
)

// Found lists the apps that lie in an account.
func (s *Streams) Found(seen *adopt.Seen, now time.Time) {
	if len(seen.All) == 0 {
		s.Print("No app is there that a kit knows: %s looked into.", Counted(seen.Folders, "folder"))
	} else {
		var rows [][]string
		for i, x := range seen.All {
			app := x.Title
			if x.App == "" {
				app = "something"
			}
			rows = append(rows, []string{strconv.Itoa(i + 1), x.Address, app, x.Release, ofAge(x, now), standing(x)})
		}
		s.Table([]string{"", "Address", "App", "Release", "Age", "What of it"}, rows)
		s.Say("\n%s looked into; nothing was changed.", Counted(seen.Folders, "folder"))
	}
	if seen.Cut {
		s.Warn(fmt.Sprintf("There are more folders than the %d that were looked into.", seen.Folders))
	}
	for _, folder := range seen.Unread {
		s.Warn("This folder could not be read: " + folder)
	}
}

// standing is what is to be said of an app that was found.
func standing(x adopt.Sighting) string {
	text := "not on record"
	switch {
	case x.App == "":
		return "no kit knows it; a draft of one: tivset kit new"
	case x.Recorded:
		text = "on record"
	}
	if x.Problem != "" {
		return text + "; " + x.Problem
	}
	if x.Newest != "" && x.Newest != x.Release {
		text += "; newer: " + x.Newest
	}
	return text
}

// ofAge is how old a release is; of something that no kit knows, its first page.
func ofAge(x adopt.Sighting, now time.Time) string {
	at, err := time.Parse(time.DateOnly, x.Date)
	if x.Changed != nil {
		at, err = *x.Changed, nil
	}
	if err != nil {
		return ""
	}
	return aged(now.Sub(at))
}

// aged words how long something has been there.
func aged(d time.Duration) string {
	days := int(d.Hours() / 24)
	switch {
	case days < 1:
		return "today"
	case days < 60:
		return Counted(days, "day")
	case days < 730:
		return Counted(days*12/365, "month")
	}
	return Counted(days/365, "year")
}

// WriteFound writes what can be managed as a table (RFC 4180) to fill in.
func WriteFound(to io.Writer, seen *adopt.Seen) error {
	w := csv.NewWriter(to)
	_ = w.Write([]string{"at", "app", "release", answer.AdminName, answer.AdminPassword, answer.AdminEmail})
	for _, x := range seen.All {
		if x.Adoptable() {
			_ = w.Write([]string{cell(x.Address), cell(x.App), cell(x.Release), "", "", ""})
		}
	}
	w.Flush()
	return w.Error()
}
