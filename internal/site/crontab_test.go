package site

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCrontab(t *testing.T) {
	const others = "MAILTO=quill\n# a comment\n5 4 * * * ~/backup"
	one := withTimers(others, "a.localhost/x", []string{"*/5 * * * * one"})
	assert.Equal(t, others+"\n"+beginMark("a.localhost/x")+"\n*/5 * * * * one\n"+endMark("a.localhost/x")+"\n", one)
	two := withTimers(one, "a.localhost", []string{"0 1 * * * two"})
	assert.Equal(t, one, withoutTimers(two, "a.localhost"), "another site's lines stay")
	assert.Equal(t, two, withTimers(two, "a.localhost", []string{"0 1 * * * two"}), "twice is once")
	assert.Equal(t, others+"\n", withoutTimers(withoutTimers(two, "a.localhost"), "a.localhost/x"))
	assert.Empty(t, withoutTimers(withTimers("", "a", []string{"x"}), "a"))
	broken := beginMark("a") + "\nx\n5 4 * * * theirs\n"
	assert.Equal(t, broken, withoutTimers(broken, "a"), "without an end nothing is taken")
}

func TestSchedule(t *testing.T) {
	for every, want := range map[string]string{"5m": `^\*/5 \* \* \* \*$`, "90m": `^\d+ \*/2 \* \* \*$`, "2h": `^\d+ \*/2 \* \* \*$`, "48h": `^\d+ 3 \*/2 \* \*$`} {
		assert.Regexp(t, want, schedule(every, "lockside.localhost/forum"))
	}
}

func TestOwnTimer(t *testing.T) {
	kept := "5 4 * * * mine\n"
	fail := error(nil)
	s := &Service{Crontab: func(_ context.Context, input string, args ...string) ([]byte, error) {
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
	assert.Regexp(t, `(?s)^5 4 \* \* \* mine\n# begin .*\n\d+ 3 \*/1 \* \* TIVSET_HOME='/home/w/x\\%' '/opt/ti vset' 'update' '--due' '--quiet'\n# end [^\n]*\n$`, kept)
	require.NoError(t, s.OwnTimer(ctx, "/opt/ti vset", "", false))
	assert.Equal(t, "5 4 * * * mine\n", kept)
	kept = ""
	require.NoError(t, s.OwnTimer(ctx, "/bin/tivset", "", true))
	require.NoError(t, s.OwnTimer(ctx, "/bin/tivset", "", false))
	assert.Empty(t, kept)
	fail = errors.New("you may not")
	assert.ErrorContains(t, s.OwnTimer(ctx, "/bin/tivset", "", true), "you may not")
}
