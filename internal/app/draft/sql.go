package draft

import (
	"regexp"
	"slices"
	"strings"
)

// Schema is a file that makes an app's tables.
type Schema struct {
	File   string
	Engine string // mariadb, postgresql or sqlite
	Prefix string // what the tables' names begin with, with its _; empty for none
	Tables int
	Admins []Account
}

// Account is an account with a password that everybody knows, which a schema makes.
type Account struct {
	Table    string // as in the file
	Name     string // the column of its name, or empty
	Password string // the column of its password's hash, or empty
	Filter   string // how the hash was made: a filter of kits, or empty
}

var (
	sqlFile    = lazily(`(?i)(\.sql|(^|/)(mysql|mariadb|pgsql|postgres(ql)?|sqlite3?))$`)
	makesTable = lazily(
		"(?i)CREATE\\s+TABLE\\s+(?:IF\\s+NOT\\s+EXISTS\\s+)?[`\"\\[]?(?:\\w+\\.)?([\\w#%{}$-]+)",
	)
	upgrades = lazily(
		`(?i)(upgrade|update|migrat|patch|convert|change|alter|drop|uninstall|delta|versions?/)`,
	)
	insertsUser = lazily(
		"(?is)INSERT\\s+(?:IGNORE\\s+)?INTO\\s+[`\"]?(\\w*(?:user|member|account|admin|author|people)\\w*)[`\"]?\\s*" +
			"(?:\\(([^)]*)\\))?\\s*VALUES\\s*\\(((?:[^()']|'(?:[^']|'')*'|\\([^()]*\\))*)\\)",
	)
	ofEngine = map[string]*pattern{
		"mariadb":    lazily("(?i)(auto_increment|engine\\s*=|`\\w+`\\s|unsigned)"),
		"postgresql": lazily(`(?i)(\bserial\b|nextval\(|::regclass|\bbytea\b|with(out)? time zone)`),
		"sqlite":     lazily(`(?i)(autoincrement|pragma )`),
	}
	inPath = map[string]*pattern{
		"mariadb":    lazily(`(?i)(mysql|maria)`),
		"postgresql": lazily(`(?i)(pgsql|postgres)`),
		"sqlite":     lazily(`(?i)sqlite`),
	}
	nameColumn     = lazily(`(?i)^(user_?name|login|name|nick(name)?|user|\w+_login|\w+_?name)$`)
	passwordColumn = lazily(`(?i)(pass(word|wd)?|pwd|hash)`)
)

// hashes tells how a password was hashed by what it looks like.
var hashes = []struct {
	filter string
	form   *pattern
}{
	{"bcrypt", lazily(`^\$2[aby]\$`)},
	{"argon2id", lazily(`^\$argon2`)},
	{"md5", lazily(`^[0-9a-f]{32}$`)},
	{"sha1", lazily(`^[0-9a-f]{40}$`)},
	{"sha256", lazily(`^[0-9a-f]{64}$`)},
}

// Schemas finds the files that make the app's tables: for each engine the one with the
// most tables. SQLite's are those of no other engine.
func (a *App) Schemas() []Schema {
	best := map[string]Schema{}
	for _, name := range a.own(sqlFile) {
		text := a.sqlText(name)
		tables := makesTable.FindAllStringSubmatch(text, -1)
		if len(tables) == 0 || upgrades.MatchString(name) {
			continue
		}
		s := Schema{File: name, Engine: engineOf(name, text), Tables: len(tables), Prefix: prefixOf(tables),
			Admins: admins(text)}
		if s.Tables > best[s.Engine].Tables {
			best[s.Engine] = s
		}
	}
	var out []Schema
	for _, s := range best {
		out = append(out, s)
	}
	slices.SortFunc(out, func(x, y Schema) int { return strings.Compare(x.Engine, y.Engine) })
	return out
}

// Tables lists the tables that a script makes.
func Tables(script string) (out []string) {
	for _, m := range makesTable.FindAllStringSubmatch(script, -1) {
		out = append(out, m[1])
	}
	return out
}

// sqlText reads a schema, whatever its name ends with.
func (a *App) sqlText(name string) string {
	if text := a.text(name); text != "" || a.sizes[name] > 16*largestText {
		return text
	}
	b, err := readAll(a.files, name)
	if err != nil {
		return ""
	}
	return b
}

func engineOf(name, text string) string {
	known := []string{"sqlite", "postgresql", "mariadb"}
	for _, engine := range known { // in one order: some names speak of several
		if inPath[engine].MatchString(name) {
			return engine
		}
	}
	for _, engine := range known {
		if ofEngine[engine].MatchString(text) {
			return engine
		}
	}
	return "mariadb"
}

var plainPrefix = lazily(`^[a-z][a-z0-9]*_`)

// prefixOf is what all tables begin with.
func prefixOf(tables [][]string) string {
	if len(tables) < 2 {
		return ""
	}
	prefix := plainPrefix.FindString(tables[0][1])
	for _, t := range tables {
		if !strings.HasPrefix(t[1], prefix) {
			return ""
		}
	}
	return prefix
}

// admins finds accounts that a schema makes.
func admins(text string) []Account {
	var out []Account
	for _, m := range insertsUser.FindAllStringSubmatch(text, 20) {
		account := Account{Table: m[1]}
		columns := fieldsOf(m[2])
		if m[2] == "" {
			columns = columnsOf(text, m[1])
		}
		values := valuesOf(m[3])
		for i, c := range columns {
			if i >= len(values) {
				break
			}
			switch {
			case passwordColumn.MatchString(c) && account.Password == "":
				account.Password = c
				for _, h := range hashes {
					if h.form.MatchString(values[i]) {
						account.Filter = h.filter
					}
				}
			case nameColumn.MatchString(c) && account.Name == "":
				account.Name = c
			}
		}
		if account.Password != "" && !slices.Contains(out, account) {
			out = append(out, account)
		}
	}
	return out
}

func fieldsOf(list string) []string {
	var out []string
	for _, c := range strings.Split(list, ",") {
		if c = strings.Trim(strings.TrimSpace(c), "`\"[]"); c != "" {
			out = append(out, c)
		}
	}
	return out
}

var columnLine = lazily("(?m)^\\s*[`\"]?(\\w+)[`\"]?\\s+(?i:int|integer|bigint|smallint|tinyint|" +
	"mediumint|serial|bigserial|varchar|char|character|text|mediumtext|longtext|" +
	"boolean|bool|date|datetime|timestamp|enum|blob|" +
	"float|double|decimal|numeric)")

// columnsOf lists the columns of a table that the text makes.
func columnsOf(text, table string) []string {
	at := lazily("(?i)CREATE\\s+TABLE\\s+(?:IF\\s+NOT\\s+EXISTS\\s+)?[`\"]?" + regexp.QuoteMeta(table) +
		"[`\"]?\\s*\\(").FindStringIndex(text)
	if at == nil {
		return nil
	}
	body := text[at[1]:]
	if end := strings.Index(body, ";"); end >= 0 {
		body = body[:end]
	}
	var out []string
	for _, m := range columnLine.FindAllStringSubmatch(body, -1) {
		out = append(out, m[1])
	}
	return out
}

var valueForm = lazily(`\s*'((?:[^']|'')*)'|([^,]+)`)

func valuesOf(list string) []string {
	var out []string
	for _, m := range valueForm.FindAllStringSubmatch(list, -1) {
		if m[1] == "" && strings.TrimSpace(m[2]) == "" && !strings.Contains(m[0], "'") {
			continue
		}
		if m[2] != "" {
			out = append(out, strings.TrimSpace(m[2]))
			continue
		}
		out = append(out, m[1])
	}
	return out
}
