package site

import (
	"fmt"
	"hash/fnv"
	"strconv"
	"strings"
)

// A crontab is edited between two lines of ours a site (crontab(5)); all else
// in it stays as it is.
func beginMark(address string) string {
	return "# begin tivset " + address + " (goes with the site; change it there, not here)"
}

func endMark(address string) string { return "# end tivset " + address }

// withTimers adds a site's lines to a crontab, in place of those it had.
func withTimers(crontab, address string, lines []string) string {
	rest := withoutTimers(crontab, address)
	if rest != "" && !strings.HasSuffix(rest, "\n") {
		rest += "\n"
	}
	return rest + beginMark(address) + "\n" + strings.Join(lines, "\n") + "\n" + endMark(address) + "\n"
}

// withoutTimers takes a site's lines out.
func withoutTimers(crontab, address string) string {
	var out strings.Builder
	ours := false
	for line := range strings.Lines(crontab) {
		switch text := strings.TrimRight(line, "\r\n"); {
		case text == beginMark(address):
			ours = true
		case ours && text == endMark(address):
			ours = false
		case !ours:
			out.WriteString(line)
		}
	}
	if ours {
		return crontab // somebody took the end away: what is ours cannot be told any more
	}
	return out.String()
}

// schedule writes an interval such as 5m or 2h as crontab's five fields. Sites
// get different minutes of the hour, so that not all of them work at once.
func schedule(every, address string) string {
	n, _ := strconv.Atoi(every[:len(every)-1])
	sum := fnv.New32()
	_, _ = sum.Write([]byte(address))
	minute := sum.Sum32() % 60
	switch {
	case strings.HasSuffix(every, "m") && n < 60:
		return fmt.Sprintf("*/%d * * * *", n)
	case strings.HasSuffix(every, "m"):
		n = (n + 59) / 60
	}
	if n < 24 {
		return fmt.Sprintf("%d */%d * * *", minute, n)
	}
	return fmt.Sprintf("%d 3 */%d * *", minute, (n+23)/24)
}
