package accounts

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/command/cli"
	"tivset/internal/wizard"
)

// answers gives the same answer to every question, and counts them.
type answers struct {
	wizard.Asker
	answer string
	err    error
	asked  int
}

func (a *answers) Ask(context.Context, wizard.Prompt) (string, error) {
	a.asked++
	return a.answer, a.err
}

// Who works here is asked for once, and only where the login does not say it; whoever leaves the
// question is asked again.
func TestOperatorIsAskedForOnce(t *testing.T) {
	full := ""
	w := cli.World{FullName: func() string { return full }}
	dir := t.TempDir()
	w.Env = func(name string) string { return map[string]string{"TIVSET_HOME": dir}[name] }
	a := &app{&cli.App{World: w}}
	left := &answers{err: wizard.ErrNoAnswer}
	require.NoError(t, a.askOperator(t.Context(), left))
	assert.Equal(t, cli.Who(), a.World.Operator())
	told := &answers{answer: " The steward "}
	for range 2 {
		require.NoError(t, a.askOperator(t.Context(), told))
	}
	assert.Equal(t, "The steward", a.World.Operator())
	assert.Equal(t, []int{1, 1}, []int{left.asked, told.asked})
	dir, full = t.TempDir(), "A Wharfinger"
	require.NoError(t, a.askOperator(t.Context(), told))
	assert.Equal(t, "A Wharfinger", a.World.Operator(), "the login says it")
	assert.Equal(t, 1, told.asked)
}
