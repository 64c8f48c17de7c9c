package command

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"tivset/internal/command/cli"
	"tivset/internal/fault"
)

// Words that people know from elsewhere get ours, and never the opposite; American spellings do.
func TestWordsOfTheTrade(t *testing.T) {
	env := map[string]string{"TIVSET_HOME": t.TempDir()}
	for word, want := range map[string]string{"uninstall": "remove", "delete": "remove", "upgrade": "update",
		"clone":   "copy",
		"staging": "copy", "login": "sign-in", "open": "sign-in", "list": "sites", "import": "adopt", "search": "browse",
		"apps": "browse", "rollback": "undo, or restore", "cron": "maintain", "schedule": "maintain", "rounds": "maintain",
		"instal": "install", "help": ""} {
		said := runIn(context.Background(), env, word, "forum")
		assert.Equal(t, int(fault.Usage), said.code, word)
		if want != "" {
			assert.Contains(t, said.err, "Did you mean "+want+"?", word)
		}
	}
	for _, call := range [][]string{{"catalog", "list"}, {"--json", "catalog", "list"}, {"about", "shaarli", "--license"},
		{"help"}, {"help", "maintain", "on"}} {
		assert.Zero(t, runIn(context.Background(), env, call...).code, "%v", call)
	}
	for _, call := range [][]string{{"help", "nonsense"}, {"help", "maintain", "of"}} {
		said := runIn(context.Background(), env, call...)
		assert.Equal(t, int(fault.Usage), said.code, "%v: %s", call, said.out)
		assert.Contains(t, said.err, "there is no command")
	}
}

// An option that is none gets ours: the nearest, or what people know from elsewhere.
func TestUnknownOptions(t *testing.T) {
	env := map[string]string{"TIVSET_HOME": t.TempDir()}
	for call, want := range map[string]string{"care forum --takes fixes": "--accepts", "backup forum --drop x": "--delete",
		"update --at-once 3": "--parallel", "install willowbench --domain x": "--at", "sites --jsn": "--json"} {
		said := runIn(context.Background(), env, strings.Fields(call)...)
		assert.Equal(t, int(fault.Usage), said.code, call)
		assert.Contains(t, said.err, "Did you mean "+want+"?", call)
	}
	said := runIn(context.Background(), env, "remove", "forum", "--force") // is no --yes: it means more
	assert.NotContains(t, said.err, "Did you mean")
	assert.Contains(t, said.err, "there is no option --force")
}

// What cannot be carried along is refused, and never passed over.
func TestOptionsThatDoNotGoTogether(t *testing.T) {
	env := map[string]string{"TIVSET_HOME": t.TempDir()}
	for call, want := range map[string]string{
		"check forum --repair --accept caches": "do not go together", "check forum --repair --rules": "do not go together",
		"check forum --repair --mine x": "do not go together", "check forum --accept caches --queue": "is of this machine",
		"check forum --rules --queue": "is of this machine", "restore forum --list-files --queue": "is of this machine",
		"sites --not-ours": "goes with --rebuild only"} {
		said := runIn(context.Background(), env, strings.Fields(call)...)
		assert.Equal(t, int(fault.Usage), said.code, call)
		assert.Contains(t, said.err, want, call)
	}
}

// Every command stands under a heading; those of the first hour come first.
func TestHelpHasHeadings(t *testing.T) {
	a := &app{&cli.App{World: System(), Streams: System().Streams()}}
	for _, c := range a.root().Commands() {
		assert.NotEmpty(t, c.GroupID, c.Name())
	}
	said := runIn(context.Background(), map[string]string{"TIVSET_HOME": t.TempDir()}, "--help")
	at := 0
	for _, heading := range []string{"The first hour:", "demo", "account", "browse", "install", "sites", "sign-in",
		"Sites:",
		"Looking after sites:", "Accounts and kits:", "Several people and machines:", "When something went wrong:",
		"Options:"} {
		n := strings.Index(said.out[at:], heading)
		assert.GreaterOrEqual(t, n, 0, heading)
		at += max(n, 0)
	}
	assert.NotContains(t, said.out, "Flags")
}
