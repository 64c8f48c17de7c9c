package screen_test

import (
	"bytes"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/screen"
	"tivset/internal/secret"
	"tivset/internal/site"
	"tivset/internal/work/remove"
)

// evil holds what somebody's title, file or message could say to a terminal.
const evil = "a\x1b[2J\x1b]0;owned\x07b\x1b[31m\u009b31mc\rd\u202ee\x08\nfake line"

// Whatever is shown, of anything of somebody else's no more than text reaches the
// terminal; and what stands in a list stays on its line.
func TestNothingOfTheirsReachesTheTerminal(t *testing.T) {
	for _, color := range []bool{true, false} {
		var out, errs bytes.Buffer
		s := &screen.Streams{Out: screen.Spelling(&out), Err: screen.Spelling(&errs), Width: 100, Color: color,
			OutTerminal: true, ErrTerminal: true, Loud: true}
		x := ledger.Site{Title: evil, Address: evil, URL: evil}
		s.Print("A %s of %v", evil, errors.New(evil))
		s.Say("%s", evil)
		s.Warn(evil)
		s.Note(evil)
		s.Table([]string{"Name"}, [][]string{{evil}})
		s.Pairs([]screen.Pair{{Name: "x", Text: evil}})
		s.Fault(&fault.Error{What: evil, Where: evil, Details: []string{evil}, Remedy: evil, Cause: errors.New(evil),
			Problems: []fault.Problem{{ID: evil, What: evil, Remedy: evil}}})
		s.Checks(check.Examined{Address: evil, App: evil, Checks: []check.Checked{{Name: "files", Detail: evil}}})
		s.Removed(&remove.Done{Plan: &remove.Plan{Site: x, Stays: []string{evil}}})
		p := screen.NewProgress(s, time.Now)
		p.Show(job.Event{Title: evil})
		p.Show(job.Event{Title: evil, Count: 1, Total: 2, Unit: "files"})
		p.Show(job.Event{Title: evil, Done: true})
		p.Show(job.Event{Title: evil, Undo: true, Detail: evil})
		require.NoError(t, s.WriteJSON(map[string]string{"title": evil}))
		require.NoError(t, s.WriteLine(map[string]string{"title": evil}))

		for name, text := range map[string]string{"out": out.String(), "err": errs.String()} {
			for _, own := range []string{"\r\x1b[K", "\x1b[1A", "\x1b[1m", "\x1b[2m", "\x1b[31m", "\x1b[1;31m", "\x1b[32m",
				"\x1b[36m", "\x1b[m", "\x1b[0m"} {
				if color || strings.Contains(own, "K") || strings.Contains(own, "A") {
					text = strings.ReplaceAll(text, own, "")
				}
			}
			for _, harm := range []string{"\x1b", "\x07", "\u009b", "\r", "\u202e", "\x08"} {
				assert.NotContains(t, text, harm, "%s, color %v", name, color)
			}
			assert.NotContains(t, text, "b\x1b[31m")
		}
		if color { // what is laid out in pairs and reviews keeps its own colours
			out.Reset()
			s.Pairs([]screen.Pair{{Name: "Where", Text: "there"}})
			s.Print("%s", "  "+s.ReviewRemove(&remove.Plan{Site: ledger.Site{Title: "T", URL: "u"}}))
			s.Checks(check.Examined{Address: "a", App: "b", Checks: []check.Checked{{Name: "files", Detail: "fine", OK: true},
				{Name: "space", Detail: "none"}}})
			assert.NotContains(t, out.String(), "\uFFFD")
			assert.Contains(t, out.String(), "\x1b[2mWhere\x1b[m")
		}
		out.Reset()
		s.Table([]string{"Name"}, [][]string{{evil}})
		s.Checks(check.Examined{Address: "a", App: "b", Checks: []check.Checked{{Name: "files", Detail: evil}}})
		s.Removed(&remove.Done{Plan: &remove.Plan{Stays: []string{evil}}})
		for line := range strings.Lines(out.String()) {
			assert.False(t, strings.HasPrefix(strings.TrimSpace(line), "fake line"), "%q", line)
		}
	}
}

// A spreadsheet takes none of the credentials' names for a formula.
func TestNoFormulasAmongTheCredentials(t *testing.T) {
	var out bytes.Buffer
	s := &screen.Streams{Out: &out}
	require.NoError(t, s.CredentialsCSV([]site.Credentials{{Site: ledger.Site{Title: "=HYPERLINK(\"http://x\")",
		AdminURL: "http://lockside.localhost/", Admin: ledger.Admin{Name: "@wharfinger"}},
		Password: secret.Of("pass-word")}}))
	assert.Contains(t, out.String(), "\"'=HYPERLINK(")
	assert.Contains(t, out.String(), ",'@wharfinger,pass-word")
}
