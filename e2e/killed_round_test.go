//go:build unix

package e2e

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/records/ledger"
	"tivset/internal/trial/servers"
)

// mailed is the text of all mails in the demo's mailbox.
func (p *program) mailed() string {
	letters, err := filepath.Glob(filepath.Join(p.demo.Standin.Mailbox, "*.eml"))
	require.NoError(p.t, err)
	var all strings.Builder
	for _, name := range letters {
		text, err := os.ReadFile(name)
		require.NoError(p.t, err)
		all.WriteString(strings.ReplaceAll(string(text), "=\r\n", ""))
	}
	return all.String()
}

// A maintenance run that is killed, wherever it is: what it did at the site is in one mail in the end, in one event
// for a program of the owner's, and in the record; and nothing waits in the outbox.
func TestKilledRoundsAreToldOf(t *testing.T) {
	servers.Slow(t)
	step := 11
	if os.Getenv("TIVSET_SWEEP") == "whole" {
		step = 1
	}
	died := 0
	for at := 3; ; at += step {
		if !killedRound(t, at) {
			break
		}
		died++
	}
	assert.Greater(t, died, 5)
	t.Logf("killed at %d moments", died)
}

// killedRound kills a run when it reads the clock for the n-th time; false where it had ended by then.
func killedRound(t *testing.T, at int) (died bool) {
	t.Helper()
	p := newProgram(t)
	out, err := p.as("tivset", nil, install("inkreach", "lockside.localhost/journal", "--release", "1.3.2",
		"-a", "care.notify=everything", "-a", "care.accepts=features", "-a", "care.after=0d",
		"-a", "care.rehearse=nothing")...).CombinedOutput()
	require.NoError(t, err, string(out))
	heard, hears := filepath.Join(t.TempDir(), "heard"), filepath.Join(t.TempDir(), "hears")
	require.NoError(t, os.WriteFile(hears, []byte("#!/bin/sh\ncat >>"+heard+"; echo >>"+heard+"\n"), 0o755))
	require.NoError(t, p.as("tivset", nil, "notify", "add", "exec:"+hears, "--of", "everything").Run())

	killed := p.as("tivset-dies", []string{fmt.Sprintf("DIE_AT=%d", at), "LATER=72h"}, "maintain", "--now").Run()
	for n := range 2 { // the first finds what was left
		out, err = p.as("tivset-later", []string{fmt.Sprintf("LATER=%dh", 73+n)}, "maintain", "--now").CombinedOutput()
		require.NoError(t, err, "%d: %s", at, out)
	}
	events, err := os.ReadFile(heard)
	require.NoError(t, err)
	const updated = "from 1.3.2 to 1.4.0"
	told := p.mailed()
	assert.Equal(t, 1, strings.Count(told, updated), "killed at %d: %s", at, told)
	assert.Equal(t, 1, strings.Count(string(events), updated), "killed at %d: %s", at, events)
	left, err := filepath.Glob(filepath.Join(p.demo.Folder, "state", "outbox", "*"))
	require.NoError(t, err)
	assert.Empty(t, left, "killed at %d", at)
	records, err := ledger.Open(t.Context(), filepath.Join(p.demo.Folder, "data", "ledger.db"))
	require.NoError(t, err)
	rounds, err := records.Rounds(t.Context())
	require.NoError(t, errors.Join(err, records.Close()))
	assert.Equal(t, 1, strings.Count(fmt.Sprint(rounds), updated), "killed at %d: %s", at, rounds)
	return killed != nil
}
