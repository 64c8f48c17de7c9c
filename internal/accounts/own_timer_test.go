package accounts

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOwnTimer(t *testing.T) {
	kept := "5 4 * * * mine\n"
	fail := error(nil)
	s := &Keeper{Crontab: func(_ context.Context, input string, args ...string) ([]byte, error) {
		switch {
		case fail != nil:
			return nil, fail
		case args[0] == "-l" && kept == "":
			return nil, errors.New("exit status 1: no crontab for w")
		case args[0] == "-l":
			return []byte(kept), nil
		}
		kept = input
		return nil, nil
	}}
	ctx := context.Background()
	require.NoError(t, s.OwnTimer(ctx, "/opt/ti vset", "/home/w/x%", true))
	require.NoError(t, s.OwnTimer(ctx, "/opt/ti vset", "/home/w/x%", true))
	assert.Regexp(
		t,
		`(?s)^5 4 \* \* \* mine\n# begin .*\n\d+ \*/1 \* \* \* TIVSET_HOME='/home/w/x\\%' '/opt/ti vset' 'update' '--due' '--in-hours' '--quiet'\n# end [^\n]*\n$`,
		kept,
	)
	require.NoError(t, s.OwnTimer(ctx, "/opt/ti vset", "", false))
	assert.Equal(t, "5 4 * * * mine\n", kept)
	kept = ""
	require.NoError(t, s.OwnTimer(ctx, "/bin/tivset", "", true))
	require.NoError(t, s.OwnTimer(ctx, "/bin/tivset", "", false))
	assert.Empty(t, kept)
	fail = errors.New("you may not")
	assert.ErrorContains(t, s.OwnTimer(ctx, "/bin/tivset", "", true), "you may not")
}
