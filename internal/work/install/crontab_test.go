package install_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting"
	"tivset/internal/hosting/account"
	"tivset/internal/testing/sitetest"
)

// Many programs edit one crontab at once, and a line of somebody else's comes in
// between: nobody's line is lost.
func TestACrontabThatManyEdit(t *testing.T) {
	const many = 50
	w := sitetest.Demo(t)
	dir := t.TempDir()
	kept, program := filepath.Join(dir, "crontab"), filepath.Join(dir, "crontab.sh")
	require.NoError(t, os.WriteFile(kept, []byte("1 1 * * * mine\n"), 0o600))
	require.NoError(t, os.WriteFile(program, []byte("#!/bin/sh\ncase $1 in\n-l) cat "+kept+";;\n*) cat >"+kept+
		".$$; mv "+kept+".$$ "+kept+";;\nesac\n"), 0o755))
	w.EditAccount(func(a *account.Account) { a.Runtime.Crontab = program })
	before := w.Snapshot()
	a, err := w.Book.Home.Account("quillmere")
	require.NoError(t, err)
	var wait sync.WaitGroup
	for n := range many {
		wait.Go(func() {
			in, err := w.Hosting.Open(ctx, a)
			if !assert.NoError(t, err) {
				return
			}
			defer in.Close()
			address := fmt.Sprintf("lockside.localhost/site%02d", n)
			assert.NoError(t, in.EditCrontab(ctx, func(text string) string {
				return hosting.WithTimers(text, address, []string{fmt.Sprintf("* * * * * run-%02d", n)})
			}))
		})
	}
	wait.Wait()
	text, err := os.ReadFile(kept)
	require.NoError(t, err)
	for n := range many {
		assert.Contains(t, string(text), fmt.Sprintf("run-%02d", n))
	}
	assert.Equal(t, 1, strings.Count(string(text), "mine"))
	sitetest.Same(t, before, w.Snapshot())
}
