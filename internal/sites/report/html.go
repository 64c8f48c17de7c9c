package report

import (
	"bytes"
	_ "embed"
	"html/template"
	"time"
)

//go:embed page.html
var pageText string

var page = template.Must(template.New("page").Funcs(template.FuncMap{
	"stack": stack, "below": below, "columns": columns, "curve": curveOf, "left": left, "size": size,
	"minute": func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") },
	"sub":    func(a, b int) int { return a - b },
	"rows":   func(n int) int { return n * 26 },
	"mid":    func(b bar) float64 { return b.Y + b.H/2 + 5 },
	"after":  func(b bar) float64 { return b.X + b.W + 8 },
	"center": func(b bar) float64 { return b.X + b.W/2 },
	"lasted": func(seconds float64) string {
		return time.Duration(seconds * float64(time.Second)).Round(100 * time.Millisecond).String()
	},
}).Parse(pageText))

// HTML is the report as one page that needs no other file and no server.
func (r *Report) HTML() ([]byte, error) {
	var out bytes.Buffer
	err := page.Execute(&out, r)
	return out.Bytes(), err
}

func date(day string) time.Time {
	t, _ := time.Parse(time.DateOnly, day) // as the ledger writes it
	return t
}
