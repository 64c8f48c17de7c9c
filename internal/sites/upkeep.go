package sites

import (
	"context"
	"fmt"
	"time"

	"tivset/internal/fault"
	"tivset/internal/site"
)

// Upkeep is whether what the care of sites asks for is done by anything.
type Upkeep struct {
	On   bool      // a scheduler of this machine does it
	Last time.Time // when maintenance was run last, by whichever machine; zero for never
	Now  time.Time
}

// late is after how long without a run nothing can be said to look after sites whose care goes by days.
const late = 26 * time.Hour

// UpkeepOf finds that out. On says whether a scheduler of this machine runs it.
func UpkeepOf(ctx context.Context, b *site.Book, on bool, now time.Time) (Upkeep, error) {
	u := Upkeep{On: on, Now: now}
	mine, err := b.Home.Rounds()
	if err != nil {
		return u, err
	}
	u.Last = mine.At
	all, err := b.Ledger.Rounds(ctx)
	for _, r := range all {
		if r.At.After(u.Last) {
			u.Last = r.At
		}
	}
	return u, err
}

// Wanting says why nothing looks after the sites, and what would change it; "" where something does.
func (u Upkeep) Wanting() (why, call string) {
	since := u.Now.Sub(u.Last)
	switch {
	case !u.Last.IsZero() && since < late:
		return "", ""
	case !u.On && u.Last.IsZero():
		return "nothing does this yet, as maintenance is off", fault.Call("maintain", "on")
	case !u.On:
		return "nothing does this, as maintenance is off; it was run last " + Ago(since), fault.Call("maintain", "on")
	case u.Last.IsZero():
		return "", "" // it was switched on, and begins within the hour
	}
	return "maintenance was run last " + Ago(since) + ": this machine was off, or asleep", fault.Call("maintain")
}

// Ago words for how long something was.
func Ago(d time.Duration) string {
	switch hours := int(d.Hours()); {
	case hours < 1:
		return "within the last hour"
	case hours < 48:
		return fmt.Sprintf("%d hours ago", hours)
	}
	return fmt.Sprintf("%d days ago", int(d.Hours())/24)
}
