package screen_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/records/job"
	"tivset/internal/screen"
)

func streams() (*screen.Streams, *bytes.Buffer, *bytes.Buffer) {
	var out, err bytes.Buffer
	return &screen.Streams{In: strings.NewReader(""), Out: &out, Err: &err, Width: 80}, &out, &err
}

// Whatever the screen, everything stands on it; what is not a screen gets whole lines.
func TestTablesOnNarrowScreens(t *testing.T) {
	head := []string{"Address", "Title", "Health", "Next"}
	rows := func() [][]string {
		return [][]string{{"lockside.localhost/forum", "Lockside Talk of Everything", "good",
			"update to 2.5.0 waits for you"}}
	}
	s, out, _ := streams()
	s.ErrTerminal = true
	s.Width = 40
	s.Table(head, rows())
	assert.Equal(t, 2, strings.Count(out.String(), "\n"), "a pager gets whole lines")
	s.OutTerminal, s.Width = true, 80
	out.Reset()
	s.Table(head, rows())
	assert.Equal(t, `Address                   Title                   Health  Next
lockside.localhost/forum  Lockside Talk of        good    update to 2.5.0 waits
                          Everything                      for you
`, out.String())
	s.Width = 44
	out.Reset()
	s.Table(head, rows())
	assert.Equal(t, `  Address   lockside.localhost/forum
  Title     Lockside Talk of Everything
  Health    good
  Next      update to 2.5.0 waits for you
`, out.String())
}

func TestTable(t *testing.T) {
	s, out, _ := streams()
	s.Table([]string{"App", "Title"}, [][]string{{"x", "é日"}, {"longer", "a\x1b[31mb"}})
	assert.Equal(t, "App     Title\nx       é日\nlonger  a�[31mb\n", out.String())
}

// A run that is under way for hours is told of as one that something holds up, with what ends it.
func TestUnderWay(t *testing.T) {
	s, out, _ := streams()
	now := time.Date(2026, 12, 2, 9, 0, 0, 0, time.Local)
	s.UnderWay(time.Time{}, now)
	assert.Empty(t, out.String())
	s.UnderWay(now.Add(-time.Hour), now)
	assert.Equal(t, "A maintenance run has been under way since 2 December, 08:00.\n", out.String())
	out.Reset()
	s.UnderWay(now.Add(-7*time.Hour), now)
	assert.Contains(t, out.String(), "for 7 hours, since 2 December, 02:00")
	assert.Contains(t, out.String(), "tivset jobs")
}

func TestFault(t *testing.T) {
	s, out, err := streams()
	f := &fault.Error{Kind: fault.Usage, What: "cannot begin", Where: "x", Remedy: "mend it",
		Details:  []string{"a detail"},
		Problems: []fault.Problem{{ID: "title", What: fault.Needed, Remedy: "give it"}, {ID: "rows", What: "no number"}},
		Missing:  []string{"title"}, Job: "j1", Cause: errors.New("why")}
	s.Fault(f)
	assert.Equal(t, "tivset: cannot begin (x): why\n  a detail\n  title: needed, and not given\n      give it\n  rows: "+
		"no number\n  → mend it\n", err.String())
	assert.Empty(t, out.String())
	require.NoError(t, s.FaultJSON(f))
	var got map[string]any
	require.NoError(t, json.Unmarshal(out.Bytes(), &got))
	assert.Equal(t, "refused", got["outcome"])
	assert.Equal(t, map[string]any{"code": "wrong-answers", "what": "cannot begin: why", "where": "x",
		"remedy": "mend it"}, got["error"])
	assert.Equal(t, []any{"title"}, got["missing"])
	assert.Equal(t, "j1", got["job"])
	for kind, code := range map[fault.Kind]int{fault.Failed: 1, fault.Usage: 2, fault.NeedsConfirmation: 3,
		fault.Incomplete: 4} {
		assert.Equal(t, code, screen.Code(fault.New(kind, "", "", "")))
	}
	assert.Zero(t, screen.Code(nil))
}

// On a terminal a long fault goes on below its beginning, and the program's name
// stands there once.
func TestFaultOnATerminal(t *testing.T) {
	s, _, err := streams()
	s.ErrTerminal, s.Width = true, 60
	cause := errors.New("Error 1146 (42S02): Table 'quill_journal.tmjz_berths' doesn't exist")
	s.Fault(fault.New(fault.Failed, "Bring the database to the release", "lockside.localhost/journal",
		"Try again.").Wrap(cause))
	lines := strings.Split(strings.TrimSpace(err.String()), "\n")
	require.Greater(t, len(lines), 2, err.String())
	assert.Equal(t, 1, strings.Count(err.String(), "tivset:"), err.String())
	for _, line := range lines[1 : len(lines)-1] {
		assert.True(t, strings.HasPrefix(line, "        "), line)
	}
	again := fault.New(fault.Failed, "it failed: "+cause.Error(), "", "").Wrap(cause)
	assert.Equal(t, 1, strings.Count(fmt.Sprint(s.Failed(again)), cause.Error()), "a cause is said once, in JSON too")
}

func TestConfirm(t *testing.T) {
	for answer, want := range map[string]bool{"y\n": true, " YES \n": true, "\n": false, "n\n": false, "": false,
		"yep\n": false, "y": true} {
		s, _, _ := streams()
		s.In = strings.NewReader(answer)
		assert.Equal(t, want, screen.NewAsker(s).Confirm(context.Background(), "Install?"), "%q", answer)
	}
}

func TestProgress(t *testing.T) {
	s, _, err := streams()
	now := time.Unix(0, 0)
	p := screen.NewProgress(s, func() time.Time { now = now.Add(time.Second); return now })
	play := func() {
		p.Show(job.Event{Step: 1, Of: 2, Title: "Unpack", Stage: job.StageFiles})
		p.Show(job.Event{Step: 1, Of: 2, Title: "Unpack", Stage: job.StageFiles, Count: 30, Total: 100, Unit: "files"})
		p.Show(job.Event{Step: 1, Of: 2, Title: "Unpack", Stage: job.StageFiles, Count: 60, Total: 100, Unit: "files"})
		p.Show(job.Event{Step: 1, Of: 2, Title: "Unpack", Stage: job.StageFiles, Done: true})
		p.Show(job.Event{Step: 2, Of: 2, Title: "Load"})
		p.Show(job.Event{Step: 2, Of: 2, Title: "Load", Undo: true})
		p.Show(job.Event{Step: 1, Of: 2, Title: "Unpack", Stage: job.StageFiles, Undo: true, Detail: "away"})
		p.Show(job.Event{Step: 1, Of: 2, Title: "Unpack", Stage: job.StageFiles, Undo: true, Detail: "away"})
	}
	play()
	assert.Equal(t, "  ✓ Bring the files\n  ✗ Set the app up\n  Undoing what was begun:\n"+
		"  … waiting: away\n", err.String())
	err.Reset()
	s.ErrTerminal = true
	p = screen.NewProgress(s, func() time.Time { now = now.Add(2 * time.Second); return now })
	play()
	assert.Contains(t, err.String(), "Bring the files [=========       ] 60 of 100 files, 3s left")
	p.Show(job.Event{Title: "Fetch", Count: 12_000_000, Total: 80_000_000, Unit: "bytes"})
	assert.Contains(t, err.String(), "Fetch [==              ] 12 MB of 80 MB")
	p.Show(job.Event{Title: "Fetch", Count: 80_000_000, Total: 80_000_000, Unit: "bytes"})
	assert.Contains(t, err.String(), "Fetch … 80 MB done, going on", "it is unpacked now: a full bar would look stuck")
	p.Show(job.Event{Title: "Keep", Count: 1200, Unit: "bytes"})
	assert.True(t, strings.HasSuffix(err.String(), "Keep … 1.2 kB"), "of what nobody can measure no bar stands")
	s.Quiet = true
	err.Reset()
	play()
	assert.Empty(t, err.String())
}

func TestLargeDocumentsAreOneLine(t *testing.T) {
	s, out, _ := streams()
	require.NoError(t, s.WriteJSON(strings.Split(strings.Repeat("x<,", 40_000), ",")))
	assert.Equal(t, 1, strings.Count(out.String(), "\n"))
	assert.Contains(t, out.String(), "x<")
	out.Reset()
	require.NoError(t, s.WriteJSON(map[string]int{"a": 1}))
	assert.Equal(t, "{\n  \"a\": 1\n}\n", out.String())
}

// An undo says what is so again, each once, and nothing of stages that left nothing to undo; a stage of a job that
// comes
// again later is not told twice.
func TestWhatIsSoAgain(t *testing.T) {
	s, _, err := streams()
	now := time.Now()
	p := screen.NewProgress(s, func() time.Time { return now })
	for n, stage := range []job.Stage{job.StageData, job.StageFiles, job.StageData} {
		p.Show(job.Event{Step: n + 1, Of: 4, Title: "x", Stage: stage})
		p.Show(job.Event{Step: n + 1, Of: 4, Title: "x", Stage: stage, Done: true})
	}
	assert.Equal(t, "  ✓ Make the database\n  ✓ Bring the files\n", err.String())
	err.Reset()
	for _, stage := range []job.Stage{job.StageChecking, job.StageMigrating, job.StageMigrating, job.StageBackingUp,
		job.StageClosing} {
		p.Show(job.Event{Step: 1, Of: 4, Title: "x", Stage: stage, Undo: true})
	}
	assert.Equal(t, "  Undoing what was begun:\n  ↶ the database is back\n  ↶ the site is open again\n", err.String())
}
