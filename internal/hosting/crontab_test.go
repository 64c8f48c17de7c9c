package hosting

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestCrontab(t *testing.T) {
	const others = "MAILTO=quill\n# a comment\n5 4 * * * ~/backup"
	one := WithTimers(others, "a.localhost/x", []string{"*/5 * * * * one"})
	assert.Equal(t, others+"\n"+BeginMark("a.localhost/x")+"\n*/5 * * * * one\n"+endMark("a.localhost/x")+"\n", one)
	two := WithTimers(one, "a.localhost", []string{"0 1 * * * two"})
	assert.Equal(t, one, WithoutTimers(two, "a.localhost"), "another site's lines stay")
	assert.Equal(t, two, WithTimers(two, "a.localhost", []string{"0 1 * * * two"}), "twice is once")
	assert.Equal(t, others+"\n", WithoutTimers(WithoutTimers(two, "a.localhost"), "a.localhost/x"))
	assert.Empty(t, WithoutTimers(WithTimers("", "a", []string{"x"}), "a"))
	broken := BeginMark("a") + "\nx\n5 4 * * * theirs\n"
	assert.Equal(t, broken, WithoutTimers(broken, "a"), "without an end nothing is taken")
}

// Of two blocks of ours the first has lost its end: what the owner wrote between
// them stays, and so do the lines of which nobody can tell whose they are.
func TestCrontabWithALostEnd(t *testing.T) {
	const owners = "5 4 * * * theirs\n"
	lost := BeginMark("a") + "\n*/5 * * * * ours\n" + owners
	whole := BeginMark("a") + "\n*/7 * * * * newer\n" + endMark("a") + "\n"
	assert.Equal(t, lost, WithoutTimers(lost+whole, "a"))
	assert.Equal(t, lost+whole, WithoutTimers(lost+whole, "b"))
	other := BeginMark("b") + "\nx\n" + endMark("b") + "\n"
	assert.Equal(t, lost+other, WithoutTimers(lost+other+whole, "a"), "another site's block is no end")
	assert.Equal(t, lost+owners, WithoutTimers(lost+whole+owners, "a"))
}

func TestSchedule(t *testing.T) {
	for every, want := range map[string]string{"5m": `^\*/5 \* \* \* \*$`, "90m": `^\d+ \*/2 \* \* \*$`,
		"2h": `^\d+ \*/2 \* \* \*$`, "48h": `^\d+ 3 \*/2 \* \*$`} {
		assert.Regexp(t, want, Schedule(every, "lockside.localhost/forum"))
	}
}
