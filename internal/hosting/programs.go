package hosting

import (
	"context"
	"encoding/json"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/hosting/files"
)

// Programs gives the ability to run the account's programs, where its reach has
// it.
func (a *Account) Programs() (files.Commander, bool) {
	c, ok := a.Files.(files.Commander)
	return c, ok
}

func (a *Account) crontabCommander() (files.Commander, error) {
	c, ok := a.Programs()
	if !ok || !a.HasCrontab() {
		return nil, fault.NewAs(fault.NoAnswer, fault.Failed, "the account's crontab cannot be reached", a.Name,
			"Reach the account over SSH with a shell, or leave runtime: crontab: out.")
	}
	return c, nil
}

// Runtime is what a PHP interpreter tells of itself.
type Runtime struct {
	Version    string            `json:"version"`
	Extensions []string          `json:"extensions"`
	Functions  map[string]bool   `json:"functions"`
	Settings   map[string]string `json:"settings"`
}

// HasPHP says whether the account names a PHP program that can be run.
func (a *Account) HasPHP() bool {
	_, ok := a.Programs()
	return ok && a.Runtime.PHP != ""
}

// AskPHP asks the account's own PHP program about itself, and about functions
// and settings (php.ini) by name: it runs a script that names only those.
func (a *Account) AskPHP(ctx context.Context, functions, settings []string) (Runtime, error) {
	var r Runtime
	names, err := json.Marshal([][]string{append([]string{}, functions...), append([]string{}, settings...)})
	if err != nil {
		return r, err
	}
	quoted := strings.NewReplacer(`\`, `\\`, "'", `\'`).Replace(string(names))
	script := "<?php [$f, $s] = json_decode('" + quoted + `', true);
echo json_encode(['version' => PHP_VERSION, 'extensions' => get_loaded_extensions(),
  'functions' => (object) array_combine($f, array_map('function_exists', $f)),
  'settings' => (object) array_combine($s, array_map(fn($n) => (string) ini_get($n), $s))]);`
	commander, _ := a.Programs()
	out, err := commander.Command(ctx, ".", []string{a.Runtime.PHP}, script)
	if err != nil {
		return r, err
	}
	return r, json.Unmarshal(out, &r)
}
