package job_test

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/records/job"
)

// The disk is full in the middle of a line of the journal: the line is as if never
// begun, the job is undone as far as it had come, and when there is space again the
// journal can be read and the rest be undone.
func TestDiskFullInTheMiddleOfALine(t *testing.T) {
	signal.Ignore(syscall.SIGXFSZ)
	defer signal.Reset(syscall.SIGXFSZ)
	var before syscall.Rlimit
	require.NoError(t, syscall.Getrlimit(syscall.RLIMIT_FSIZE, &before))
	defer func() { require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_FSIZE, &before)) }()
	for _, more := range []uint64{0, 1, 40, 100} {
		var log []string
		dir := t.TempDir()
		list := settledBy(&step{Name: "a", log: &log}, &step{Name: "b", log: &log}, &step{Name: "c", log: &log})
		r := begin(t, dir, list)
		file := filepath.Join(dir, r.Journal.ID+".jsonl")
		r.Progress = func(e job.Event) {
			if e.Title != "b" || e.Done || e.Undo {
				return
			}
			info, err := os.Stat(file)
			require.NoError(t, err)
			full := syscall.Rlimit{Cur: uint64(info.Size()) + more, Max: before.Max}
			require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_FSIZE, &full))
		}
		err := r.Run(context.Background(), list)
		require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_FSIZE, &before))
		var stopped *job.Stopped
		require.ErrorAs(t, err, &stopped)
		require.Error(t, errors.Join(stopped.Left, stopped.Unnoted), "that it is undone could not be written")
		require.NoError(t, r.Journal.Close())

		again, err := job.Open(job.Files(dir), r.Journal.ID, time.Now)
		require.NoError(t, err)
		_, err = (&job.Runner{Journal: again}).Recover(context.Background(),
			func(_ string, fields json.RawMessage) (any, error) {
				s := &step{log: &log}
				return s, json.Unmarshal(fields, s)
			})
		require.NoError(t, err)
		assert.Equal(t, "undone", again.Ended)
		assert.Contains(t, log, "undo prepared a")
		require.NoError(t, again.Close())
		_, err = job.Open(job.Files(dir), r.Journal.ID, time.Now)
		require.NoError(t, err)
	}
}
