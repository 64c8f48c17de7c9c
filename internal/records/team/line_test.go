package team_test

import (
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/records/team"
	"tivset/internal/testing/impostor"
	"tivset/internal/trial/servers"
)

// The database is spoken with only where it proves who it is: encrypted, with a certificate that is known.
func TestTheServerIsKnown(t *testing.T) {
	servers.Slow(t)
	at := strings.Replace(address(t), "sslmode=disable", "", 1)
	_, err := team.Open(ctx, at, time.Now)
	assert.Equal(t, fault.UnknownServer, fault.CodeOf(err), "%v", err)
	remedy := fault.Of(err).Remedy
	pin := regexp.MustCompile(`\?(certificate=[0-9a-f]{64})`).FindStringSubmatch(remedy)
	require.Len(t, pin, 2, remedy)
	l, err := team.Open(ctx, at+pin[1], time.Now)
	require.NoError(t, err, "as the remedy says")
	var encrypted bool
	require.NoError(t, l.Pool().QueryRow(ctx, "SELECT ssl FROM pg_stat_ssl WHERE pid = pg_backend_pid()").Scan(&encrypted))
	assert.True(t, encrypted)
	require.NoError(t, l.Close())
	_, err = team.Open(ctx, at+"certificate="+strings.Repeat("0", 64), time.Now)
	assert.Equal(t, fault.UnknownServer, fault.CodeOf(err), "%v", err)
	_, err = team.Open(ctx, at+"certificate=12", time.Now)
	assert.Equal(t, fault.Usage, fault.Of(err).Kind, "%v", err)
}

// Whoever answers in the database's place gets no password, with whatever line.
func TestAnImpostorGetsNoPassword(t *testing.T) {
	const password = "Lamp 92 of the lock"
	for _, mode := range []string{"", "sslmode=disable", "sslmode=prefer", "sslmode=require"} {
		for _, way := range []uint32{3, 5} {
			i := impostor.PostgreSQL(t, way)
			u := url.URL{Scheme: "postgres", User: url.UserPassword("chief", password), Host: i.Address, Path: "/records",
				RawQuery: mode}
			_, err := team.Open(ctx, u.String(), time.Now)
			assert.Equal(t, fault.UnknownServer, fault.CodeOf(err), "%s %d: %v", mode, way, err)
			assert.NotContains(t, string(i.Heard()), password)
			assert.NotContains(t, string(i.Heard()), "md5")
		}
	}
}
