package command

import (
	"bytes"
	"context"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tivset/internal/command/cli"
	"tivset/internal/testing/sitetest"
)

// said is what a run of the program said, and how it ended.
type said struct {
	out, err string
	code     int
}

// run runs a command line as the program does, with the home of a test's world.
func run(t *testing.T, ctx context.Context, w *sitetest.World, args ...string) said {
	t.Helper()
	folder := filepath.Dir(w.Home.Config)
	require.Equal(t, folder, filepath.Dir(w.Home.Data))
	return runIn(ctx, map[string]string{"TIVSET_HOME": folder}, args...)
}

// runIn does so with an environment.
func runIn(ctx context.Context, env map[string]string, args ...string) said {
	var out, err bytes.Buffer
	code := Main(ctx, args, cli.World{In: strings.NewReader(""), Out: &out, Err: &err, Now: time.Now,
		Env: func(name string) string { return env[name] }})
	return said{out.String(), err.String(), code}
}
