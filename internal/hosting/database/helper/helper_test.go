package helper_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/database/databasetest"
	"tivset/internal/hosting/database/helper"
	"tivset/internal/hosting/database/mariadb"
	"tivset/internal/secret"
	"tivset/internal/trial/servers"
)

var ctx = context.Background()

// The sample helper that ships makes databases that the whole suite accepts.
func TestSampleHelper(t *testing.T) {
	servers.Need(t, "jq", "mariadb")
	d := servers.MariaDB(t)
	login := filepath.Join(t.TempDir(), "login.cnf")
	require.NoError(t, os.WriteFile(login, []byte(fmt.Sprintf("[client]\nsocket=%s\nuser=%s\npassword=\"%s\"\n", d.Socket,
		d.User, `a root's password, with '\" in it`)), 0o600))
	t.Setenv("MAKE_DATABASE_LOGIN", login)
	t.Setenv("MAKE_DATABASE_PREFIX", "quill")
	program, err := filepath.Abs("../../../../docs/samples/make-database")
	require.NoError(t, err)
	admin := database.Login{Server: d.Address}
	h := databasetest.Host{Engine: "mariadb", Admin: admin, Helped: true,
		Connect: func(context.Context, database.Login) (database.Server, error) {
			return helper.Of([]string{program}, "mariadb"), nil
		},
		Open: func(ctx context.Context, l database.Login) (database.Session, error) { return mariadb.Open(ctx, l) },
	}
	databasetest.Run(t, h)
	err = helper.Of([]string{program}, "mariadb").CreateDatabase(ctx, "other_one")
	assert.ErrorContains(t, err, "names begin with quill")
	assert.Contains(t, fault.Of(err).Remedy, "prefix: quill")
	err = helper.Of([]string{program}, "mariadb").CreateDatabase(ctx, "quill`; DROP")
	assert.ErrorContains(t, err, "is not a name")
}

func script(t *testing.T, text string) *helper.Server {
	t.Helper()
	name := filepath.Join(t.TempDir(), "helper")
	require.NoError(t, os.WriteFile(name, []byte("#!/bin/sh\n"+text), 0o755))
	return helper.Of([]string{name, "an argument with $HOME"}, "mariadb")
}

func TestHelpersThatWillNotDo(t *testing.T) {
	u := database.User{Name: "quill_a", Password: secret.Of("s3cret-word"), Database: "quill_a",
		Clients: []string{"localhost"}}
	for text, words := range map[string]string{
		"echo nonsense":            "answered what is no JSON",
		"":                         "answered what is no JSON",
		"echo '{\"ok\": true} {}'": "more than one JSON value",
		"echo '{}'":                "neither ok nor an error",
		"cat >&2; exit 1":          "ended with exit code 1",
		"echo '{\"ok\": false, \"error\": \"no\"}'": "refuses: no",
		"sleep 5":               "did not answer in time",
		"sleep 5 & sleep 5":     "did not answer in time",
		"yes | head -c 3000000": "more than 1 MB",
	} {
		s := script(t, text)
		s.Wait = 300 * time.Millisecond
		began := time.Now()
		err := s.CreateUser(ctx, u)
		require.Error(t, err, text)
		assert.ErrorContains(t, err, words, text)
		assert.Equal(t, fault.Failed, fault.Of(err).Kind)
		assert.NotContains(t, fmt.Sprint(err, fault.Of(err).Details), "s3cret-word", "what it was told is not repeated")
		assert.Less(t, time.Since(began), 4*time.Second)
	}
	assert.ErrorContains(t, helper.Of([]string{"/none"}, "mariadb").MayCreate(ctx), "cannot be run")
	assert.ErrorIs(t, script(t, `echo '{"ok": false, "taken": true}'`).CreateDatabase(ctx, "quill_a"), database.ErrTaken)
	require.NoError(t, script(t,
		`[ "$1" = 'an argument with $HOME' ] && grep -q '"do":"create-database","engine":"mariadb","database":"quill_a"' && echo '{"ok": true}'`).CreateDatabase(ctx, "quill_a"))
}
