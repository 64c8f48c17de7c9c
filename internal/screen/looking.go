package screen

import (
	"fmt"

	"github.com/charmbracelet/x/ansi"

	"tivset/internal/check"
)

// Looking shows how far a look at several sites is, on a line of its own: it gives what hears of each site, and what
// takes the line away at the end. Of one site, and where no line can move, nothing is shown.
func (s *Streams) Looking(of int) (tell func(check.Examined), end func()) {
	if of < 2 || s.Quiet || s.JSON || !s.moves() {
		return nil, func() {}
	}
	seen, wrong := 0, 0
	return func(e check.Examined) {
			if seen++; !e.OK {
				wrong++
			}
			s.Measure()
			text := fmt.Sprintf("  · %d of %d sites looked at, %d with something wrong", seen, of, wrong)
			fmt.Fprint(s.Err, "\r\x1b[K"+ansi.Truncate(text, max(20, s.Width-1), "…"))
		}, func() {
			if seen > 0 {
				fmt.Fprint(s.Err, "\r\x1b[K")
			}
		}
}
