package sqlite

import (
	"context"
	"database/sql"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"modernc.org/sqlite"
)

// guarded is the driver of databases that strangers may have written into: their schema, their rows and the scripts
// that are loaded reach nothing beside the one file (SQLite, "Defense Against The Dark Arts").
const guarded = "tivset-guarded"

// parameters go with the name of a file: the schema cannot be written directly, its functions are not trusted, and what
// lies in the file is looked at before it is believed.
const parameters = "?_defensive=1&_pragma=trusted_schema(0)&_pragma=cell_size_check(1)&_pragma=foreign_keys(0)" +
	"&_pragma=synchronous(0)"

func init() {
	d := &sqlite.Driver{}
	d.RegisterConnectionHook(func(conn sqlite.ExecQuerierContext, _ string) error {
		return conn.(sqlite.AuthorizerRegisterer).RegisterAuthorizer(allowed)
	})
	sql.Register(guarded, d)
}

// harmless are the pragmas that scripts of apps and this package use; others lead to other files, or let the schema be
// written.
var harmless = []string{"user_version", "application_id", "foreign_keys", "encoding", "auto_vacuum", "page_size",
	"journal_mode", "synchronous", "busy_timeout", "case_sensitive_like", "recursive_triggers", "table_info",
	"table_xinfo", "table_list", "index_list", "index_info", "index_xinfo", "foreign_key_list", "foreign_key_check",
	"integrity_check", "quick_check", "cache_size", "temp_store", "locking_mode", "ignore_check_constraints",
	"legacy_alter_table", "secure_delete", "defer_foreign_keys", "data_version", "freelist_count", "page_count",
	"schema_version"}

// onlyRead are those of them that may be read, and not set.
var onlyRead = []string{"schema_version", "data_version"}

// dangerous are functions that reach beyond the database.
var dangerous = []string{"load_extension", "fts3_tokenizer", "readfile", "writefile", "edit", "sqlite_dbpage"}

// modules are those of virtual tables that apps use: words that are found, and areas.
var modules = []string{"fts3", "fts4", "fts5", "fts5vocab", "rtree", "geopoly"}

// allowed decides what a statement may do while it is prepared (sqlite3_set_authorizer).
func allowed(what sqlite.AuthorizerActionCode, one, two, _, _ string) sqlite.AuthorizerReturnCode {
	deny := false
	switch what {
	case sqlite.AuthAttach, sqlite.AuthDetach: // also of VACUUM, which attaches what it writes into
		deny = true
	case sqlite.AuthPragma:
		name := strings.ToLower(one)
		deny = !slices.Contains(harmless, name) || two != "" && slices.Contains(onlyRead, name)
	case sqlite.AuthFunction:
		deny = slices.Contains(dangerous, strings.ToLower(two))
	case sqlite.AuthCreateVTable:
		deny = !slices.Contains(modules, strings.ToLower(two))
	}
	if deny {
		return sqlite.AuthorizerDeny
	}
	return sqlite.AuthorizerOK
}

// openGuarded opens a database in a file, which strangers may have written into.
func openGuarded(file string) (*sql.DB, error) {
	pool, err := sql.Open(guarded, (&url.URL{Scheme: "file", OmitHost: true, Path: file}).String()+parameters)
	if err != nil {
		return nil, err
	}
	pool.SetMaxOpenConns(1)
	return pool, nil
}

// words are those that statements begin with which a script may have.
var words = []string{"CREATE", "INSERT", "REPLACE", "UPDATE", "DELETE", "DROP", "ALTER", "SELECT", "WITH", "VALUES",
	"BEGIN", "COMMIT", "END", "ROLLBACK", "SAVEPOINT", "RELEASE", "PRAGMA", "ANALYZE", "REINDEX"}

// known says whether a statement is one that a script may have.
func known(statement string) error {
	first := strings.ToUpper(firstWord(statement))
	if !slices.Contains(words, first) {
		return fmt.Errorf("a script may not have a statement that begins with %q", first)
	}
	return nil
}

// firstWord is the first word of a statement, behind its comments.
func firstWord(statement string) string {
	for {
		statement = strings.TrimLeft(statement, " \t\r\n\f\v(;")
		switch {
		case strings.HasPrefix(statement, "--"):
			_, statement, _ = strings.Cut(statement, "\n")
		case strings.HasPrefix(statement, "/*"):
			_, statement, _ = strings.Cut(statement[2:], "*/")
		default:
			end := strings.IndexFunc(statement, func(r rune) bool {
				return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && r != '_'
			})
			if end < 0 {
				end = len(statement)
			}
			return statement[:end]
		}
	}
}

// empty is an empty database in memory, in which definitions are tried.
func empty(ctx context.Context) (*sql.DB, error) {
	pool, err := sql.Open(guarded, ":memory:"+parameters)
	if err != nil {
		return nil, err
	}
	pool.SetMaxOpenConns(1)
	return pool, pool.PingContext(ctx)
}
