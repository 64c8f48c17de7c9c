package sitetest

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tivset/internal/check"
	"tivset/internal/demo"
	"tivset/internal/records/ledger"
	"tivset/internal/work/place"
)

// Same fails with what has gone and come, a line each.
func Same(t *testing.T, before, after string, why ...any) {
	t.Helper()
	gone, come := demo.Difference(before, after)
	require.Empty(t, append(gone, come...), why...)
}

// CountFiles counts the files in lines of a snapshot.
func CountFiles(lines []string) int {
	n := 0
	for _, l := range lines {
		if strings.HasPrefix(l, "-") {
			n++
		}
	}
	return n
}

// Undo undoes, or finishes, every job that is left. It gives those that it undid.
func Undo(t *testing.T, w *World) (undone []string) {
	t.Helper()
	left, err := w.Desk.Unfinished(context.Background())
	require.NoError(t, err)
	for _, j := range left {
		ended, err := w.Desk.Undo(context.Background(), j.ID)
		require.NoError(t, err)
		if ended.Outcome == ledger.Undone {
			undone = append(undone, j.ID)
		}
	}
	return undone
}

// CopyOf copies or moves a site, or says why that cannot be.
func CopyOf(w *World, r place.Request) error {
	p, err := place.Look(context.Background(), w.Desk, r)
	if err != nil {
		return err
	}
	defer p.Close()
	_, err = place.Carry(context.Background(), w.Desk, p)
	return err
}

// Examined checks a site, and tells which checks passed.
func Examined(t *testing.T, w *World, word string) (check.Examined, map[string]bool) {
	t.Helper()
	x, err := w.Book.Find(context.Background(), word)
	require.NoError(t, err)
	e, err := w.Examiner.Check(context.Background(), x)
	require.NoError(t, err)
	fine := map[string]bool{}
	for _, c := range e.Checks {
		fine[c.Name] = c.OK
	}
	return e, fine
}

// Mails gives the text of every mail in the demo's mailbox.
func Mails(t *testing.T, w *World) string {
	t.Helper()
	var out strings.Builder
	files, err := filepath.Glob(filepath.Join(w.Demo.Standin.Mailbox, "*.eml"))
	require.NoError(t, err)
	for _, f := range files {
		text, err := os.ReadFile(f)
		require.NoError(t, err)
		out.Write(text)
	}
	return strings.ReplaceAll(out.String(), "=\r\n", "")
}
