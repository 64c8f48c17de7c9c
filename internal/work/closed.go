package work

import (
	"fmt"
	"time"

	"tivset/internal/records/ledger"
)

// How many bytes a second are read or written while a site is closed, on a small
// server; measured with make bench and taken low.
const (
	dataRead    = 40 << 20
	dataWritten = 8 << 20
	filesCopied = 20 << 20
)

// ClosedFor estimates for how long a site is closed to visitors by a job that
// reads its database, writes it, or copies its files meanwhile.
func ClosedFor(x ledger.Site, read, written, copied bool) time.Duration {
	total := 2.0
	data := float64(x.DatabaseBytes)
	for rate, counts := range map[float64]bool{dataRead: read, dataWritten: written} {
		if counts {
			total += data / rate
		}
	}
	if copied {
		total += float64(x.Bytes) / filesCopied
	}
	return time.Duration(total * float64(time.Second)).Round(time.Second)
}

// About words how long something takes, as a rough guess.
func About(d time.Duration) string {
	if d < 90*time.Second {
		return fmt.Sprintf("about %d seconds", int(d.Seconds()))
	}
	return fmt.Sprintf("about %d minutes", int((d+30*time.Second)/time.Minute))
}
