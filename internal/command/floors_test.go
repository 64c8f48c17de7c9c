package command_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// floors are the rooms of docs/architecture.md; a room imports only rooms of
// floors below its own, and of its own floor only those listed.
var floors = map[string]int{
	"fault": 0, "near": 0, "secret": 0, "fill": 0, "config": 0, "kit": 0, "catalogue": 0, "account": 0, "place": 0, "answer": 0, "rewrite": 0,
	"files": 1, "files/local": 1, "files/sftp": 1, "ssh": 1, "archive": 1, "database": 1, "database/mariadb": 1, "database/postgresql": 1, "database/sqlite": 1, "database/helper": 1, "files/ftp": 1, "web": 1, "ledger": 1, "vault": 1, "home": 1, "mail": 1, "backup": 1, "doorway": 1,
	"job": 2, "setup": 2, "courier": 2, "reach": 2, "site": 3, "screen": 4, "command": 4,
}

// beside lists the imports allowed on the same floor.
var beside = map[string]string{
	"fill": "near", "config": "fill", "kit": "fault near fill config answer", "catalogue": "fault near kit", "account": "fault near",
	"place": "account fault near", "answer": "fault near", "files/local": "files", "files/sftp": "files ssh", "archive": "files", "files/ftp": "files", "database/mariadb": "database", "database/postgresql": "database", "database/sqlite": "database files", "database/helper": "database", "backup": "archive", "command": "screen",
}

func imports(t *testing.T, pkg string) []string {
	t.Helper()
	out, err := exec.Command("go", "list", "-f", `{{join .Imports " "}}`, pkg).Output()
	require.NoError(t, err)
	return strings.Fields(string(out))
}

func TestImportsPointDownTheFloors(t *testing.T) {
	for room, floor := range floors {
		for _, i := range imports(t, "tivset/internal/"+room) {
			other, ours := strings.CutPrefix(i, "tivset/internal/")
			if !ours {
				continue
			}
			below, known := floors[other]
			if !known { // the sides: only the command line starts a demo
				assert.True(t, room == "command" && other == "demo", "%s imports %s", room, other)
				continue
			}
			allowed := below < floor || below == floor && strings.Contains(" "+beside[room]+" ", " "+other+" ")
			assert.True(t, allowed, "%s imports %s", room, other)
		}
	}
}

func TestWhoMayImportWhat(t *testing.T) {
	only := map[string]string{
		"github.com/spf13/cobra":         "command",
		"charm.land/lipgloss/v2":         "screen",
		"github.com/go-sql-driver/mysql": "database/mariadb",
		"modernc.org/sqlite":             "ledger, database/sqlite",
		"github.com/jackc/pgx/v5":        "database/postgresql",
		"filippo.io/age":                 "vault, backup",
		"github.com/wneessen/go-mail":    "mail",
	}
	for room := range floors {
		for _, i := range imports(t, "tivset/internal/"+room) {
			if owner, limited := only[i]; limited {
				assert.Contains(t, strings.Split(owner, ", "), room, "%s imports %s", room, i)
			}
			assert.False(t, floors[room] < 4 && (i == "os/exec" && room != "files/local" && room != "database/helper" || i == "golang.org/x/term"), "%s imports %s", room, i)
		}
	}
	for _, side := range []string{"standin", "standin/mysqld", "standin/pages", "standin/mailbox", "standin/sftpd", "standin/ftpd", "standin/lines"} {
		for _, i := range imports(t, "tivset/internal/"+side) {
			other, ours := strings.CutPrefix(i, "tivset/internal/")
			assert.True(t, !ours || strings.HasPrefix(other, "standin"), "%s imports %s", side, i)
		}
	}
}
