package database_test

import (
	"context"
	"fmt"
	"os"
	"strings"

	"tivset/internal/hosting/database"
	"tivset/internal/hosting/database/sqlite"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/files/local"
)

// A session is a site's database: a script is run with the site's own prefix in place of its, and values are
// no part of statements.
func ExampleSession() {
	top, err := os.MkdirTemp("", "account")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(top)
	account, err := local.Open(top)
	if err != nil {
		panic(err)
	}
	ctx := context.Background()
	if err := account.Mkdir(ctx, "data", 0o700); err != nil {
		panic(err)
	}
	if err := files.Write(ctx, account, "data/forum.sqlite", nil, 0o600); err != nil { // which is an empty database
		panic(err)
	}
	var s database.Session
	if s, err = sqlite.Open(ctx, account, "data/forum.sqlite"); err != nil {
		panic(err)
	}
	defer s.Close()
	script := strings.NewReader("CREATE TABLE app_members (id INTEGER PRIMARY KEY, name TEXT);")
	n, err := s.Run(ctx, script, database.ScriptOptions{From: "app_", To: "r7q_"})
	fmt.Println(n, err)
	fmt.Println(s.Exec(ctx, "INSERT INTO r7q_members (name) VALUES (:name)", map[string]string{"name": "o'lock"}))
	fmt.Println(s.Value(ctx, "SELECT name FROM r7q_members", nil))
	fmt.Println(s.Tables(ctx))
	// Output:
	// 1 <nil>
	// <nil>
	// o'lock <nil>
	// [r7q_members] <nil>
}
