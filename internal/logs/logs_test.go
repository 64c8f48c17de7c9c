package logs_test

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/logs"
)

func opened(t *testing.T, hide func(string) string) (context.Context, string) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "job.log")
	l, closer, err := logs.Open(file, hide)
	require.NoError(t, err)
	t.Cleanup(func() { _ = closer.Close() })
	return logs.With(context.Background(), l), file
}

func read(t *testing.T, file string) string {
	t.Helper()
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	return string(text)
}

func ask(ctx context.Context, err error) {
	defer logs.Asked(ctx, "files", "move", "a", "s3cret")(&err)
}

func TestAsked(t *testing.T) {
	hide := func(text string) string { return strings.ReplaceAll(text, "s3cret", "…") }
	ctx, file := opened(t, hide)
	ask(ctx, nil)
	ask(ctx, errors.New("the server says s3cret"))
	ask(ctx, fs.ErrNotExist)
	ask(context.Background(), nil) // nobody listens
	lines := strings.Split(strings.TrimSpace(read(t, file)), "\n")
	require.Len(t, lines, 3)
	assert.Contains(t, lines[0], `level=INFO msg="files: move" took=`)
	assert.Contains(t, lines[0], `names="a → …"`)
	assert.Contains(t, lines[1], `level=WARN`)
	assert.Contains(t, lines[1], `error="the server says …"`)
	assert.Contains(t, lines[2], "level=INFO")
}

// A command's log and a job's hear the same; what the job hides the command's has not either.
func TestTwoLogs(t *testing.T) {
	ctx, whole := opened(t, nil)
	file := filepath.Join(t.TempDir(), "job.log")
	l, closer, err := logs.Open(file, nil)
	require.NoError(t, err)
	defer closer.Close()
	within := logs.With(logs.Hiding(ctx, func(text string) string { return strings.ReplaceAll(text, "s3cret", "…") }), l)
	ask(within, nil)
	ask(ctx, nil)
	assert.Equal(t, 1, strings.Count(read(t, file), `msg="files: move"`))
	lines := strings.Split(read(t, whole), "\n")
	assert.NotContains(t, lines[0], "s3cret")
	assert.Contains(t, lines[1], "s3cret")
}

// A log of a job that goes on for ever ends before it fills the disk.
func TestALogEnds(t *testing.T) {
	ctx, file := opened(t, nil)
	long := errors.New(strings.Repeat("x", 1<<20))
	for range 20 {
		ask(ctx, long)
	}
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Less(t, info.Size(), int64(logs.Longest+1000))
	assert.Equal(t, 1, strings.Count(read(t, file), "the log ends here"))
}

func TestPrune(t *testing.T) {
	dir, old := t.TempDir(), time.Now().AddDate(0, 0, -40)
	for _, name := range []string{"old.log", "new.log", "old.jsonl"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o600))
	}
	require.NoError(t, os.Chtimes(filepath.Join(dir, "old.log"), old, old))
	require.NoError(t, os.Chtimes(filepath.Join(dir, "old.jsonl"), old, old))
	logs.Prune(dir, time.Now().AddDate(0, 0, -30))
	left, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	assert.Len(t, left, 2)
	assert.NoFileExists(t, filepath.Join(dir, "old.log"))
}
