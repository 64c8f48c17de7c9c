package team_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/records/job"
	"tivset/internal/records/trust"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
)

const id = "20261123-080000-abcd"

// One program at a time has a journal in hand, on whatever machine.
func TestJournals(t *testing.T) {
	servers.Slow(t)
	at := address(t)
	one := begun(t, at)
	two := one.member(t, at, "steward", trust.Operate)
	_, err := one.Journals.Open(id)
	assert.Error(t, err)
	log, err := one.Journals.New(id)
	require.NoError(t, err)
	require.NoError(t, log.Append([]byte("first\n")))
	_, err = two.Journals.Open(id)
	assert.ErrorIs(t, err, job.ErrRunning)
	_, err = two.Journals.New(id)
	assert.ErrorIs(t, err, job.ErrRunning)
	require.NoError(t, log.Close())
	_, err = two.Journals.New(id)
	assert.Error(t, err, "there is one")
	log, err = two.Journals.Open(id)
	require.NoError(t, err)
	require.NoError(t, log.Append([]byte("second\n")))
	lines, err := log.Lines()
	require.NoError(t, err)
	assert.Equal(t, [][]byte{[]byte("first\n"), []byte("second\n")}, lines)
	require.NoError(t, log.Held())
	require.NoError(t, log.Close())
	ids, err := one.Journals.IDs()
	require.NoError(t, err)
	assert.Equal(t, []string{id}, ids)
	_, err = one.member(t, at, "office", trust.Look).Journals.New("20261123-080000-efgh")
	assert.Equal(t, fault.MayOnlyLook, fault.CodeOf(err), "%v", err)
}

func cut(t *testing.T, at string) { sitetest.CutOff(t, at) }

// A connection that is cut in the middle of a job is made again, and the job goes on.
func TestAConnectionThatIsCut(t *testing.T) {
	servers.Slow(t)
	at := address(t)
	one := begun(t, at)
	log, err := one.Journals.New(id)
	require.NoError(t, err)
	defer log.Close()
	require.NoError(t, log.Append([]byte("first\n")))
	cut(t, at)
	require.NoError(t, log.Append([]byte("second\n")))
	cut(t, at)
	require.NoError(t, log.Held())
	cut(t, at)
	lines, err := log.Lines()
	require.NoError(t, err)
	assert.Len(t, lines, 2)
	_, err = one.team.Addresses(ctx)
	assert.NoError(t, err)
	_, err = one.member(t, at, "steward", trust.Operate).Journals.Open(id)
	assert.ErrorIs(t, err, job.ErrRunning, "it is still in hand")
}

// Who was away while somebody else took the job in hand writes nothing any more.
func TestTakenOver(t *testing.T) {
	servers.Slow(t)
	at := address(t)
	one := begun(t, at)
	two := one.member(t, at, "steward", trust.Operate)
	log, err := one.Journals.New(id)
	require.NoError(t, err)
	defer log.Close()
	require.NoError(t, log.Append([]byte("first\n")))
	cut(t, at)
	theirs, err := two.Journals.Open(id)
	require.NoError(t, err)
	assert.ErrorIs(t, log.Append([]byte("second\n")), job.ErrNotOurs, "while they have it")
	require.NoError(t, theirs.Append([]byte("undone\n")))
	require.NoError(t, theirs.Close())
	assert.ErrorIs(t, log.Append([]byte("second\n")), job.ErrNotOurs, "and afterwards")
	assert.ErrorIs(t, log.Held(), job.ErrNotOurs)
	theirs, err = two.Journals.Open(id)
	require.NoError(t, err)
	defer theirs.Close()
	lines, err := theirs.Lines()
	require.NoError(t, err)
	assert.Equal(t, [][]byte{[]byte("first\n"), []byte("undone\n")}, lines)
}
