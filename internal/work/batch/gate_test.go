package batch

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"tivset/internal/hosting/account"
)

// A server that bears fewer than thought is given fewer, and more again once it is calm.
func TestGate(t *testing.T) {
	now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	g := newGate(func() time.Time { return now })
	one := &account.Account{Name: "quillmere"}
	keys := g.keys(AtOnce(4), one, "")
	in := func() (n int) {
		for g.enter(keys) {
			n++
		}
		return n
	}
	assert.Equal(t, 4, in())
	g.crowded("quillmere")
	g.crowded("quillmere") // another of the same crowd
	for range 4 {
		g.leave(keys)
	}
	assert.Equal(t, 2, in(), "half of those who were there")
	now = now.Add(2 * time.Second)
	g.crowded("quillmere")
	now = now.Add(2 * time.Second)
	g.crowded("quillmere")
	g.leave(keys)
	g.leave(keys)
	assert.Equal(t, 1, in(), "one is always let in")
	now = now.Add(time.Minute)
	g.leave(keys)
	assert.Equal(t, 2, in(), "calm again")
	g.leave(keys)
	assert.Equal(t, 1, in(), "but not all at once")
}

// Accounts of one host and with one database server share what that bears.
func TestGateOfAHost(t *testing.T) {
	at := func(name string) *account.Account {
		return &account.Account{Name: name, Reach: "sftp://" + name + "@host.example:22/home",
			Databases: []account.Database{{Name: "main", Server: "db.example:3306"}}}
	}
	g := newGate(time.Now)
	limits := Limits{Account: 2, Host: 3, Database: 5, Machine: 9}
	a, b := g.keys(limits, at("a"), "main"), g.keys(limits, at("b"), "main")
	assert.True(t, g.enter(a))
	assert.True(t, g.enter(a))
	assert.False(t, g.enter(a), "the account is full")
	assert.True(t, g.enter(b))
	assert.False(t, g.enter(b), "the host is full")
	g.leave(a)
	assert.True(t, g.enter(b))
}
