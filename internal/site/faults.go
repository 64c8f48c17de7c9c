package site

import (
	"fmt"
	"strings"

	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting/place"
)

// IsThere is the fault of a place that has a site already.
func IsThere(at place.Place) error {
	return fault.New(fault.NeedsConfirmation, "a site is at this address already", at.URL(),
		"Choose another directory, or look at it with: "+fault.Call("show", at.Address()))
}

// mostInTheWay is how many lines of what is in the way are told.
const mostInTheWay = 15

// InTheWay is the fault of a folder that holds what would have to make room.
func InTheWay(folder string, lines []string) error {
	if len(lines) > mostInTheWay {
		rest := len(lines) - mostInTheWay
		lines = append(append([]string{}, lines[:mostInTheWay]...), fmt.Sprintf("… and %d more", rest))
	}
	return &fault.Error{Kind: fault.NeedsConfirmation, Code: fault.InTheWay, What: "something is in the way",
		Where:   folder,
		Details: lines,
		Remedy: "Choose another directory with --at, or have it set aside with -a occupied=set-aside, from where it can " +
			"be put back. Nothing was touched."}
}

// Meets refuses a database in which a site's tables would meet others.
func Meets(k *kit.Kit, d *Data, tables []string) error {
	if !k.UsesTables() && len(tables) > 0 {
		return fault.New(fault.Usage, fmt.Sprintf("%s needs a database of its own, and this one has %s", k.Title,
			tableCount(len(tables))),
			d.Name, "Choose an empty database.")
	}
	var same []string
	for _, t := range tables {
		if strings.HasPrefix(strings.ToLower(t), strings.ToLower(d.Tables)) {
			same = append(same, t)
		}
	}
	if len(same) == 0 {
		return nil
	}
	return &fault.Error{Kind: fault.Usage, What: fmt.Sprintf("%s in this database begin with %s already",
		tableCount(len(same)), d.Tables),
		Where: d.Name, Details: same[:min(len(same), 10)],
		Remedy: "Choose another data.tables, or leave it out and one is made."}
}

func tableCount(n int) string {
	if n == 1 {
		return "1 table"
	}
	return fmt.Sprintf("%d tables", n)
}
