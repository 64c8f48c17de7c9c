package job_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/records/job"
)

// step notes what happens to it.
type step struct {
	Name     string `json:"name"`
	Learned  string `json:"learned,omitempty"`
	log      *[]string
	fail     error
	stubborn int // how often its undo fails
}

func (s *step) Kind() string     { return "step" }
func (s *step) Title() string    { return s.Name }
func (s *step) note(what string) { *s.log = append(*s.log, what+" "+s.Name) }
func (s *step) Prepare(context.Context) error {
	s.Learned = "prepared"
	return nil
}

func (s *step) Do(context.Context) error {
	s.note("do")
	return s.fail
}

func (s *step) Undo(ctx context.Context) error {
	if s.stubborn > 0 {
		s.stubborn--
		return errAway
	}
	s.note("undo " + s.Learned)
	return ctx.Err()
}

// finisher notes when it is carried out.
type finisher struct {
	Name string `json:"name"`
	log  *[]string
}

func (f *finisher) Kind() string  { return "finisher" }
func (f *finisher) Title() string { return f.Name }
func (f *finisher) Finish(context.Context) error {
	*f.log = append(*f.log, "finish "+f.Name)
	return nil
}

// settledBy makes a list whose last step settles it.
func settledBy(steps ...job.Step) job.List {
	last := len(steps) - 1
	return job.List{Steps: steps[:last], Commit: steps[last]}
}

var errAway = errors.New("away")

func begin(t *testing.T, dir string, list job.List) *job.Runner {
	t.Helper()
	j, err := job.Begin(job.Files(dir), job.Header{ID: "20261123-080000-abcd", What: "install", Account: "a",
		Address: "x"}, list, time.Now)
	require.NoError(t, err)
	return &job.Runner{Journal: j, Again: func(err error) bool { return errors.Is(err, errAway) }, Patience: time.Second}
}

func TestDone(t *testing.T) {
	var log []string
	var events []job.Event
	list := settledBy(&step{Name: "a", log: &log}, &step{Name: "b", log: &log})
	list.Finish = []job.PostCommit{&finisher{"c", &log}}
	r := begin(t, t.TempDir(), list)
	defer r.Journal.Close()
	r.Progress = func(e job.Event) { events = append(events, e) }
	require.NoError(t, r.Run(context.Background(), list))
	assert.Equal(t, []string{"do a", "do b", "finish c"}, log)
	assert.Equal(t, "done", r.Journal.Ended)
	assert.Len(t, events, 6)
}

func TestFailureIsUndoneLastFirst(t *testing.T) {
	var log []string
	list := settledBy(&step{Name: "a", log: &log, stubborn: 2}, &step{Name: "b", log: &log},
		&step{Name: "c", log: &log, fail: errors.New("full")}, &step{Name: "d", log: &log})
	r := begin(t, t.TempDir(), list)
	defer r.Journal.Close()
	err := r.Run(context.Background(), list)
	var stopped *job.Stopped
	require.ErrorAs(t, err, &stopped)
	assert.True(t, stopped.Undone)
	assert.Equal(t, "c: full", err.Error())
	assert.Equal(t, []string{"do a", "do b", "do c", "undo prepared c", "undo prepared b", "undo prepared a"}, log)
	assert.Equal(t, "undone", r.Journal.Ended)
}

func TestUndoThatFailsIsLeft(t *testing.T) {
	var log []string
	list := settledBy(&step{Name: "a", log: &log, stubborn: 1000}, &step{Name: "b", log: &log, fail: errors.New("full")})
	dir := t.TempDir()
	r := begin(t, dir, list)
	r.Patience = 0
	var stopped *job.Stopped
	require.ErrorAs(t, r.Run(context.Background(), list), &stopped)
	assert.False(t, stopped.Undone)
	assert.ErrorIs(t, stopped.Left, errAway)
	require.NoError(t, r.Journal.Close())
	log = nil
	settled, err := recoverAnew(t, dir, &log)
	require.NoError(t, err)
	assert.False(t, settled)
	assert.Equal(t, []string{"undo prepared a"}, log, "b was undone already")
}

// recoverAnew reads the journal anew, as another process does.
func recoverAnew(t *testing.T, dir string, log *[]string) (bool, error) {
	t.Helper()
	j, err := job.Open(job.Files(dir), "20261123-080000-abcd", time.Now)
	require.NoError(t, err)
	defer j.Close()
	r := &job.Runner{Journal: j}
	return r.Recover(context.Background(), func(kind string, fields json.RawMessage) (any, error) {
		switch kind {
		case "step":
			s := &step{log: log}
			return s, json.Unmarshal(fields, s)
		case "finisher":
			f := &finisher{log: log}
			return f, json.Unmarshal(fields, f)
		}
		return nil, fmt.Errorf("kind %s", kind)
	})
}

// The journal is cut at every byte, as by a crash: recovery undoes exactly
// what may have been begun, or finishes what had settled.
func TestRecoverFromEveryCut(t *testing.T) {
	var log []string
	dir := t.TempDir()
	list := settledBy(&step{Name: "a", log: &log}, &step{Name: "b", log: &log})
	list.Finish = []job.PostCommit{&finisher{"c", &log}}
	r := begin(t, dir, list)
	require.NoError(t, r.Run(context.Background(), list))
	require.NoError(t, r.Journal.Close())
	whole, err := os.ReadFile(filepath.Join(dir, "20261123-080000-abcd.jsonl"))
	require.NoError(t, err)
	first := strings.IndexByte(string(whole), '\n') + 1
	outcomes := map[string]bool{}
	for cut := first; cut < len(whole); cut++ {
		cutDir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(cutDir, "20261123-080000-abcd.jsonl"), whole[:cut], 0o600))
		var log []string
		settled, err := recoverAnew(t, cutDir, &log)
		require.NoError(t, err, "cut at %d", cut)
		records := strings.Count(string(whole[first:cut]), "\n")
		switch {
		case records >= 4: // b is done
			assert.True(t, settled)
			assert.NotContains(t, log, "undo prepared a")
			assert.Equal(t, records < 6, slices.Contains(log, "finish c"), "it is finished when it was not")
		case records == 0:
			assert.Empty(t, log)
		default:
			assert.False(t, settled)
			assert.Equal(t, "undo prepared a", log[len(log)-1])
			assert.Equal(t, records >= 3, slices.Contains(log, "undo prepared b"))
		}
		outcomes[strings.Join(log, ",")] = true
	}
	assert.GreaterOrEqual(t, len(outcomes), 4)
}

func TestJournalFiles(t *testing.T) {
	dir := t.TempDir()
	for _, id := range []string{"none", "../x", "20261123-080000-abcd"} {
		_, err := job.Open(job.Files(dir), id, time.Now)
		assert.ErrorContains(t, err, "no journal")
	}
	r := begin(t, dir, settledBy(&step{Name: "a"}))
	_, err := job.Open(job.Files(dir), r.Journal.ID, time.Now)
	assert.ErrorIs(t, err, job.ErrRunning)
	require.NoError(t, r.Journal.Close())
	j, err := job.Open(job.Files(dir), r.Journal.ID, time.Now)
	require.NoError(t, err)
	assert.Equal(t, "install", j.What)
	require.NoError(t, j.Close())
	for name, text := range map[string]string{"empty": "", "newer": `{"journal":9,"job":"x"}` + "\n",
		"nonsense": "hello\n", "no such step": `{"journal":1,"plan":[]}` + "\n" + `{"n":3,"state":"begin"}` + "\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "20261123-080000-wxyz.jsonl"), []byte(text), 0o600))
		_, err := job.Open(job.Files(dir), "20261123-080000-wxyz", time.Now)
		assert.Error(t, err, name)
	}
}

func TestInterruptedBetweenSteps(t *testing.T) {
	var log []string
	ctx, cancel := context.WithCancel(context.Background())
	list := settledBy(&step{Name: "a", log: &log}, &step{Name: "b", log: &log})
	r := begin(t, t.TempDir(), list)
	defer r.Journal.Close()
	r.Progress = func(e job.Event) {
		if e.Done {
			cancel()
		}
	}
	err := r.Run(ctx, list)
	require.ErrorIs(t, err, context.Canceled)
	assert.Equal(t, []string{"do a", "undo prepared a"}, log, "the undo is not cancelled")
}

// A job that is to be kept when it fails stays as it is; it is undone when asked for. An
// interrupt is no failure to look at.
func TestFailureIsKept(t *testing.T) {
	var log []string
	list := settledBy(&step{Name: "a", log: &log}, &step{Name: "b", log: &log, fail: errors.New("full")},
		&step{Name: "c", log: &log})
	r := begin(t, t.TempDir(), list)
	defer r.Journal.Close()
	r.Keep = true
	err := r.Run(context.Background(), list)
	var stopped *job.Stopped
	require.ErrorAs(t, err, &stopped)
	assert.True(t, stopped.Kept)
	assert.False(t, stopped.Undone)
	assert.Equal(t, []string{"do a", "do b"}, log)
	assert.Empty(t, r.Journal.Ended)

	log = nil
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	again := begin(t, t.TempDir(), list)
	defer again.Journal.Close()
	again.Keep = true
	require.ErrorAs(t, again.Run(ctx, list), &stopped)
	assert.True(t, stopped.Undone)
}

// lasting is a step that has nothing to take back.
type lasting struct{ step }

func (*lasting) Lasts() bool { return true }

// Nobody is told that a step is undone of which nothing is taken back.
func TestWhatLastsIsNotSaidToBeUndone(t *testing.T) {
	var log, told []string
	list := settledBy(&step{Name: "a", log: &log}, &lasting{step{Name: "b", log: &log}},
		&step{Name: "c", log: &log, fail: errors.New("full")}, &step{Name: "d", log: &log})
	r := begin(t, t.TempDir(), list)
	defer r.Journal.Close()
	r.Progress = func(e job.Event) {
		if e.Undo {
			told = append(told, e.Title)
		}
	}
	require.Error(t, r.Run(context.Background(), list))
	assert.Equal(t, []string{"c", "a"}, told)
	assert.Equal(t, "undone", r.Journal.Ended)
}
