package accounts

import (
	"context"
	"errors"
	"testing"
	"tivset/internal/hosting"

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
	mine := Timer{Every: "1h", Program: "/opt/ti vset", Home: "/home/w/x%"}
	line, _, err := s.RoundsLine(ctx, mine)
	require.NoError(t, err)
	assert.Empty(t, line)
	require.NoError(t, set(s, ctx, mine, true))
	require.NoError(t, set(s, ctx, mine, true))
	assert.Regexp(
		t,
		`(?s)^5 4 \* \* \* mine\n# begin .*\n\d+ \*/1 \* \* \* TIVSET_HOME='/home/w/x\\%' '/opt/ti vset' 'maintain' '--quiet'\n# end [^\n]*\n$`,
		kept,
	)
	other := Timer{Every: "30m", Program: "/bin/tivset", Env: []string{"XDG_DATA_HOME=/home/w/my data"}}
	require.NoError(t, set(s, ctx, other, true), "each home has its own")
	line, _, err = s.RoundsLine(ctx, other)
	require.NoError(t, err)
	assert.Equal(t, "*/30 * * * * XDG_DATA_HOME='/home/w/my data' '/bin/tivset' 'maintain' '--quiet'", line)
	line, _, err = s.RoundsLine(ctx, mine)
	require.NoError(t, err)
	assert.Contains(t, line, "/home/w")
	queued := mine
	queued.Queue = true
	require.NoError(t, set(s, ctx, queued, true), "in the place of the other")
	line, _, err = s.RoundsLine(ctx, mine)
	require.NoError(t, err)
	assert.Contains(t, line, "'maintain' '--quiet' '--queue'")
	require.NoError(t, set(s, ctx, other, false))
	require.NoError(t, set(s, ctx, mine, false))
	assert.Equal(t, "5 4 * * * mine\n", kept)
	kept = hosting.WithTimers("", earlierTimer, []string{"1 * * * * tivset update --due"})
	require.NoError(t, set(s, ctx, other, true))
	assert.NotContains(t, kept, "--due", "what an earlier edition set goes")
	require.NoError(t, set(s, ctx, other, false))
	assert.Empty(t, kept)
	fail = errors.New("you may not")
	assert.ErrorContains(t, set(s, ctx, mine, true), "you may not")
}

func set(s *Keeper, ctx context.Context, t Timer, on bool) error {
	_, err := s.SetRounds(ctx, t, on)
	return err
}
