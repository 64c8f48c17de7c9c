package mysqld

import (
	"regexp"
	"strings"
)

// administer runs the statements about users, databases, grants and the
// session itself. Done is false for all others.
func (s *session) administer(t []token, original string) (r *result, done bool, err error) {
	switch {
	case begins(t, "create", "database"):
		return nil, true, s.createDatabase(t[2:])
	case begins(t, "drop", "database"):
		return nil, true, s.dropDatabase(t[2:])
	case begins(t, "create", "user"):
		return nil, true, s.createUser(t[2:])
	case begins(t, "drop", "user"):
		return nil, true, s.dropUser(t[2:])
	case begins(t, "grant"):
		return nil, true, s.grant(t[1:])
	case begins(t, "flush", "privileges"):
		return nil, true, nil
	case begins(t, "show"):
		r, err = s.show(t[1:])
		return r, true, err
	case begins(t, "set"):
		return nil, true, s.set(t[1:], original)
	case begins(t, "use") && len(t) == 2:
		return nil, true, s.use(t[1].name())
	case begins(t, "select"):
		return s.ask(t, original)
	}
	return nil, false, nil
}

func (s *session) mustAll(what string) error {
	if s.user.all {
		return nil
	}
	return refuse(1227, "42000", "Access denied; you need %s for this operation", what)
}

func syntax(t []token) error {
	return refuse(1064, "42000", "the stand-in's database server does not know this form, near: %s", join(t))
}

var baseName = regexp.MustCompile(`^[A-Za-z0-9_$-]{1,64}$`)

func (s *session) createDatabase(t []token) error {
	quiet := false
	if begins(t, "if", "not", "exists") {
		quiet, t = true, t[3:]
	}
	if len(t) == 0 || !baseName.MatchString(t[0].name()) {
		return syntax(t)
	}
	name := t[0].name()
	for _, rest := range t[1:] {
		if !rest.any("character", "set", "charset", "collate", "default", "=") &&
			!strings.HasPrefix(strings.ToLower(rest.name()), "utf8mb4") {
			return syntax(t)
		}
	}
	if !s.user.all {
		return refuse(1044, "42000", "Access denied for user '%s'@'%s' to database '%s'", s.user.name, s.user.host, name)
	}
	if s.server.store.hasDatabase(name) {
		if quiet {
			return nil
		}
		return refuse(1007, "HY000", "Can't create database '%s'; database exists", name)
	}
	_, err := s.server.store.db.Exec("INSERT INTO bases VALUES (?)", name)
	return err
}

func (s *session) dropDatabase(t []token) error {
	quiet := false
	if begins(t, "if", "exists") {
		quiet, t = true, t[2:]
	}
	if len(t) != 1 {
		return syntax(t)
	}
	name := t[0].name()
	if !s.server.store.may(s.user, name) {
		return refuse(1044, "42000", "Access denied for user '%s'@'%s' to database '%s'", s.user.name, s.user.host, name)
	}
	if !s.server.store.hasDatabase(name) {
		if quiet {
			return nil
		}
		return refuse(1008, "HY000", "Can't drop database '%s'; database doesn't exist", name)
	}
	if s.database == name {
		s.leave()
	}
	if _, err := s.server.store.db.Exec("DELETE FROM bases WHERE name = ?", name); err != nil {
		return err
	}
	return removeFiles(s.server.file(name))
}

// who reads 'user'@'host'.
func who(t []token) (user, host string, rest []token, ok bool) {
	if len(t) >= 3 && t[1].is("@") {
		return t[0].name(), t[2].name(), t[3:], true
	}
	return "", "", t, false
}

func (s *session) createUser(t []token) error {
	user, host, rest, ok := who(t)
	if !ok || len(rest) != 3 || !begins(rest, "identified", "by") {
		return syntax(t[:min(3, len(t))]) // without the password
	}
	if err := s.mustAll("the CREATE USER privilege"); err != nil {
		return err
	}
	done, err := s.server.store.db.Exec("INSERT OR IGNORE INTO users VALUES (?, ?, ?)", user, host, hash(rest[2].name()))
	if err != nil {
		return err
	}
	if n, _ := done.RowsAffected(); n == 0 {
		return refuse(1396, "HY000", "Operation CREATE USER failed for '%s'@'%s'", user, host)
	}
	return nil
}

func (s *session) dropUser(t []token) error {
	quiet := false
	if begins(t, "if", "exists") {
		quiet, t = true, t[2:]
	}
	user, host, rest, ok := who(t)
	if !ok || len(rest) > 0 {
		return syntax(t)
	}
	if err := s.mustAll("the CREATE USER privilege"); err != nil {
		return err
	}
	done, err := s.server.store.db.Exec("DELETE FROM users WHERE user = ? AND host = ?", user, host)
	if err != nil {
		return err
	}
	if n, _ := done.RowsAffected(); n == 0 && !quiet {
		return refuse(1396, "HY000", "Operation DROP USER failed for '%s'@'%s'", user, host)
	}
	_, err = s.server.store.db.Exec("DELETE FROM grants WHERE user = ? AND host = ?", user, host)
	return err
}

// grant knows GRANT ALL PRIVILEGES ON base.* TO 'user'@'host'.
func (s *session) grant(t []token) error {
	if !begins(t, "all") {
		return syntax(t)
	}
	t = t[1:]
	if begins(t, "privileges") {
		t = t[1:]
	}
	if len(t) != 8 || !t[0].is("on") || !t[2].is(".") || !t[3].is("*") || !t[4].is("to") || t[1].is("*") {
		return syntax(t)
	}
	user, host, _, ok := who(t[5:])
	if !ok {
		return syntax(t)
	}
	if err := s.mustAll("the GRANT OPTION privilege"); err != nil {
		return err
	}
	_, err := s.server.store.db.Exec("INSERT OR REPLACE INTO grants VALUES (?, ?, ?)", user, host, t[1].name())
	return err
}

func (s *session) show(t []token) (*result, error) {
	switch {
	case begins(t, "grants"):
		return s.showGrants(t[1:])
	case begins(t, "databases"):
		return s.system("SELECT schema_name AS Database FROM information_schema.schemata ORDER BY schema_name")
	case begins(t, "tables") && len(t) == 1:
		if s.db == nil {
			return nil, refuse(1046, "3D000", "No database selected")
		}
		r := &result{columns: []string{"Tables_in_" + s.database}}
		for _, name := range s.tables(s.database) {
			r.rows = append(r.rows, []any{name})
		}
		return r, nil
	case begins(t, "full"), begins(t, "create", "table"), begins(t, "triggers"), begins(t, "events"),
		begins(t, "procedure", "status"), begins(t, "function", "status"):
		return s.describe(t)
	case begins(t, "warnings"):
		return &result{columns: []string{"Level", "Code", "Message"}}, nil
	}
	return nil, syntax(t)
}

func (s *session) showGrants(t []token) (*result, error) {
	user, host := s.user.name, s.user.host
	if begins(t, "for") {
		var ok bool
		if user, host, _, ok = who(t[1:]); !ok {
			return nil, syntax(t)
		}
	}
	if !s.user.all && (user != s.user.name || host != s.user.host) {
		return nil, refuse(1044, "42000", "Access denied for user '%s'@'%s' to database 'mysql'", s.user.name, s.user.host)
	}
	at := " TO `" + user + "`@`" + host + "`"
	r := &result{columns: []string{"Grants for " + user + "@" + host}}
	if user == "root" {
		r.rows = append(r.rows, []any{"GRANT ALL PRIVILEGES ON *.*" + at + " WITH GRANT OPTION"})
		return r, nil
	}
	var known int
	if err := s.server.store.db.QueryRow("SELECT count(*) FROM users WHERE user = ? AND host = ?", user,
		host).Scan(&known); err != nil {
		return nil, err
	}
	if known == 0 {
		return nil, refuse(1141, "42000", "There is no such grant defined for user '%s' on host '%s'", user, host)
	}
	r.rows = append(r.rows, []any{"GRANT USAGE ON *.*" + at})
	rows, err := s.server.store.db.Query("SELECT pattern FROM grants WHERE user = ? AND host = ? ORDER BY pattern", user,
		host)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var pattern string
		if err := rows.Scan(&pattern); err != nil {
			return nil, err
		}
		r.rows = append(r.rows, []any{"GRANT ALL PRIVILEGES ON `" + pattern + "`.*" + at})
	}
	return r, rows.Err()
}

// settings are those that a session may set without effect here.
var settings = regexp.MustCompile(`(?i)^(names|character|session|@@|transaction|foreign_key_checks|unique_checks|sql_mode|time_zone|autocommit|sql_notes|wait_timeout|net_)`)

func (s *session) set(t []token, original string) error {
	if len(t) > 0 && settings.MatchString(join(t)) {
		return nil
	}
	return syntax(t)
}

// ask answers questions about the server itself.
func (s *session) ask(t []token, original string) (*result, bool, error) {
	one := func(column string, v any) (*result, bool, error) {
		return &result{[]string{column}, [][]any{{v}}}, true, nil
	}
	lower := strings.ToLower(join(t[1:]))
	switch {
	case lower == "version ( )" || lower == "@@version":
		return one("VERSION()", Version)
	case strings.HasPrefix(lower, "@@version_comment"):
		return one("@@version_comment", "the stand-in's database server")
	case lower == "@@max_allowed_packet":
		return one("@@max_allowed_packet", int64(mostRead))
	case lower == "database ( )":
		if s.database == "" {
			return one("DATABASE()", nil)
		}
		return one("DATABASE()", s.database)
	case lower == "user ( )" || lower == "current_user ( )":
		return one("USER()", s.user.name+"@"+s.user.host)
	case strings.Contains(lower, "information_schema ."), strings.Contains(lower, "mysql . "):
		if strings.Contains(lower, "mysql . ") && !s.user.all {
			return nil, true, refuse(1142, "42000", "SELECT command denied to user '%s'@'%s' for table 'user'", s.user.name,
				s.user.host)
		}
		statements, err := translate(t)
		if err != nil {
			return nil, true, err
		}
		r, err := s.system(statements[0])
		return r, true, err
	}
	return nil, false, nil
}

// system runs a query on what the system schemas show.
func (s *session) system(query string) (*result, error) {
	db, err := s.server.store.catalogue(s.user, s.tables, s.server.size)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	r, err := fetch(db, query)
	if err != nil {
		return nil, explain(err, query)
	}
	return r, nil
}

// tables lists the tables of a database.
func (s *session) tables(database string) []string {
	db := s.db
	if database != s.database {
		opened, err := openSQLite(s.server.file(database))
		if err != nil {
			return nil
		}
		defer opened.Close()
		db = opened
	}
	r, err := fetch(db, "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite~_%' ESCAPE '~' "+
		"ORDER BY name")
	if err != nil {
		return nil
	}
	var out []string
	for _, row := range r.rows {
		out = append(out, text(row[0]))
	}
	return out
}
