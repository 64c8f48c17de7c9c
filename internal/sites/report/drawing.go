package report

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/dustin/go-humanize"
)

// The drawings are SVG (W3C, SVG 1.1) in the page itself, of shapes with positions that are
// worked out here.

// bar is one bar of a drawing, in its own units.
type bar struct {
	X, Y, W, H float64
	Class      string
	Label      string
	N          int
}

// wide is how wide drawings are, in their own units.
const wide = 640

// stack lays counts beside each other on one line, each as wide as its share.
func stack(counts []Count) (out []bar) {
	total := 0
	for _, c := range counts {
		total += c.N
	}
	at := 0.0
	for _, c := range counts {
		if c.N == 0 {
			continue
		}
		w := wide * float64(c.N) / float64(total)
		out = append(out, bar{X: at, W: max(1, w-2), H: 34, Class: c.What, Label: c.What, N: c.N})
		at += w
	}
	return out
}

// below lays counts below each other, the longest as wide as there is room.
func below(counts []Count) (out []bar) {
	most := 1
	for _, c := range counts {
		most = max(most, c.N)
	}
	for i, c := range counts {
		out = append(out, bar{X: 190, Y: float64(i * 26), W: 380 * float64(c.N) / float64(most), H: 18,
			Class: fmt.Sprintf("age%d", i), Label: c.What, N: c.N})
	}
	return out
}

// columns lays days beside each other: what was done, on top what was undone and left.
func columns(days []Work) (out []bar) {
	most := 4
	for _, d := range days {
		most = max(most, d.Done+d.Undone+d.Left)
	}
	w := float64(wide) / float64(len(days))
	for i, d := range days {
		y := 70.0
		for _, part := range []struct {
			class, word string
			n           int
		}{{"good", "done", d.Done}, {"unknown", "undone", d.Undone}, {"bad", "not at their end", d.Left}} {
			if part.n == 0 {
				continue
			}
			h := 66 * float64(part.n) / float64(most)
			y -= h
			out = append(out, bar{X: float64(i) * w, Y: y, W: w - 3, H: h, Class: part.class,
				Label: fmt.Sprintf("%s: %d %s", d.Day, part.n, part.word), N: part.n})
		}
	}
	return out
}

// curve is a line over days, with the area below it.
type curve struct {
	Line, Area  string // as polyline and polygon have them
	Most, Least string
	First, Last string
}

// curveOf draws what all took; nil where fewer than two days are known.
func curveOf(days []Day) *curve {
	if len(days) < 2 {
		return nil
	}
	most := int64(1)
	for _, d := range days {
		most = max(most, d.Bytes)
	}
	first, last := date(days[0].Day), date(days[len(days)-1].Day)
	span := max(1, last.Sub(first).Hours())
	var points []string
	for _, d := range days {
		x := wide * date(d.Day).Sub(first).Hours() / span
		points = append(points, fmt.Sprintf("%.1f,%.1f", x, 140-130*float64(d.Bytes)/float64(most)))
	}
	line := strings.Join(points, " ")
	return &curve{Line: line, Area: fmt.Sprintf("0,140 %s %d,140", line, wide), Most: size(most), Least: "0",
		First: days[0].Day, Last: days[len(days)-1].Day}
}

// left are the certificates as bars: a quarter of a year is as wide as there is room.
func left(all []Certificate) (out []bar) {
	for i, c := range all {
		class := "good"
		switch {
		case c.Days < 7:
			class = "bad"
		case c.Days < 21:
			class = "unknown"
		}
		out = append(out, bar{X: 250, Y: float64(i * 26), W: max(2, 320*float64(min(90, max(0, c.Days)))/90), H: 18,
			Class: class, Label: c.Domain, N: c.Days})
	}
	return out
}

func size(bytes int64) string { return humanize.Bytes(uint64(max(0, bytes))) }

// host is the domain of an address, with its port.
func host(address string) string {
	at, err := url.Parse(address)
	if err != nil {
		return address
	}
	return at.Host
}
