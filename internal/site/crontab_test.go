package site

import (
	"testing"

	"github.com/stretchr/testify/assert"
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
