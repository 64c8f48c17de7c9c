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
	"fault": 0, "near": 0, "secret": 0, "app/fill": 0, "app/config": 0, "app/kit": 0, "app/catalogue": 0, "hosting/account": 0, "hosting/place": 0, "answer": 0, "app/rewrite": 0,
	"hosting/files": 1, "hosting/files/local": 1, "hosting/files/sftp": 1, "hosting/ssh": 1, "app/archive": 1, "hosting/database": 1, "hosting/database/mariadb": 1, "hosting/database/postgresql": 1, "hosting/database/sqlite": 1, "hosting/database/helper": 1, "hosting/files/ftp": 1, "hosting/web": 1, "records/ledger": 1, "records/vault": 1, "records/home": 1, "mail": 1, "records/backup": 1, "doorway": 1,
	"records/job": 2, "app/setup": 2, "hosting/courier": 2, "hosting/reach": 2, "site": 3, "screen": 4, "command": 4,
}

// beside lists the imports allowed on the same floor.
var beside = map[string]string{
	"app/fill": "near", "app/config": "app/fill", "app/kit": "fault near app/fill app/config answer", "app/catalogue": "fault near app/kit", "hosting/account": "fault near",
	"hosting/place": "hosting/account fault near", "answer": "fault near", "hosting/files/local": "hosting/files", "hosting/files/sftp": "hosting/files hosting/ssh", "app/archive": "hosting/files", "hosting/files/ftp": "hosting/files", "hosting/database/mariadb": "hosting/database", "hosting/database/postgresql": "hosting/database", "hosting/database/sqlite": "hosting/database hosting/files", "hosting/database/helper": "hosting/database", "records/backup": "app/archive", "command": "screen",
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
		"github.com/go-sql-driver/mysql": "hosting/database/mariadb",
		"modernc.org/sqlite":             "records/ledger, hosting/database/sqlite",
		"github.com/jackc/pgx/v5":        "hosting/database/postgresql",
		"filippo.io/age":                 "records/vault, records/backup",
		"github.com/wneessen/go-mail":    "mail",
	}
	for room := range floors {
		for _, i := range imports(t, "tivset/internal/"+room) {
			if owner, limited := only[i]; limited {
				assert.Contains(t, strings.Split(owner, ", "), room, "%s imports %s", room, i)
			}
			assert.False(t, floors[room] < 4 && (i == "os/exec" && room != "hosting/files/local" && room != "hosting/database/helper" || i == "golang.org/x/term"), "%s imports %s", room, i)
		}
	}
	for _, side := range []string{"standin", "standin/mysqld", "standin/pages", "standin/mailbox", "standin/sftpd", "standin/ftpd", "standin/lines"} {
		for _, i := range imports(t, "tivset/internal/"+side) {
			other, ours := strings.CutPrefix(i, "tivset/internal/")
			assert.True(t, !ours || strings.HasPrefix(other, "standin"), "%s imports %s", side, i)
		}
	}
}
