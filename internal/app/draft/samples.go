package draft

import (
	"path"
	"slices"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/app/config"
	"tivset/internal/app/fill"
)

// Config is a configuration file that the app comes with a sample of.
type Config struct {
	Path     string // where the app reads it, as far as its sample's name tells
	Sample   string // the sample, in the archive
	Format   string
	Template string
	Places   []Place
}

// Place is a line of a sample for which a value is known.
type Place struct {
	Line       int // from 1
	Key, Value string
}

var (
	sampleName = lazily(`(?i)(^|[-_./])(sample|samp|example|dist|defaults?|template|tmpl|orig|in)($|[-_./])`)
	configName = lazily(
		`(?i)(^|/)(\.env|[^/]*(config|conf|settings?|local|env|parameters|database|connect)[^/]*)\.?[^/]*$`,
	)
	formatOf = []struct {
		format string
		name   *pattern
	}{
		{"dotenv", lazily(`(?i)(^|/)\.env`)},
		{"php", lazily(`(?i)\.(php\d?|inc)`)},
		{"ini", lazily(`(?i)\.(ini|conf|cfg)`)},
		{"json", lazily(`(?i)\.json`)},
		{"yaml", lazily(`(?i)\.ya?ml`)},
		{"toml", lazily(`(?i)\.toml`)},
	}
	notConfig = lazily(
		`(?i)(^|/)(composer|package|phpunit|phpstan|psalm|webpack|tsconfig|\.eslintrc|docker|\.?travis)[^/]*$`,
	)
)

const literal = `('(?:[^'\\]|\\.)*'|"(?:[^"\\$]|\\.)*"|-?\d+|(?i:true|false|null))`

// keyed are the forms in which a format sets a key on a line: group 1 the key, 2 the
// value as it is written.
var keyed = map[string][]*pattern{
	"php": {
		lazily(`define\(\s*['"](\w+)['"]\s*,\s*` + literal + `\s*\)`),
		lazily(`\$([\w>-]+(?:\[['"]?[\w.-]+['"]?\])*)\s*=\s*` + literal + `\s*;`),
		lazily(`['"]([\w.-]+)['"]\s*=>\s*` + literal),
		lazily(`const\s+(\w+)\s*=\s*` + literal + `\s*;`),
	},
	"ini":    {lazily(`^\s*([\w.\[\]-]+)\s*=[ \t]*([^;#]*?)\s*$`)},
	"toml":   {lazily(`^\s*([\w.-]+)\s*=[ \t]*([^#]*?)\s*$`)},
	"dotenv": {lazily(`^\s*(?:export\s+)?(\w+)=(.*?)\s*$`)},
	"yaml":   {lazily(`^\s*(?:- )?([\w.-]+):[ \t]+([^\s{\[|>&*#][^#]*?)\s*$`)},
	"json":   {lazily(`"([\w.-]+)"\s*:\s*("(?:[^"\\]|\\.)*"|-?\d+)`)},
}

var commented = map[string]*pattern{
	"php": lazily(`^\s*(//|#|\*|/\*)`), "ini": lazily(`^\s*[;#]`),
	"toml": lazily(`^\s*#`), "dotenv": lazily(`^\s*#`), "yaml": lazily(`^\s*#`),
	"json": lazily(`^\s*//`),
}

// Configs makes templates of the samples of configuration files that the app comes with:
// those in which a place is known for a value.
func (a *App) Configs(needs Needs) []Config {
	var out []Config
	for _, name := range a.names {
		if others.MatchString(name) || notConfig.MatchString(name) || strings.Count(name, "/") > 3 ||
			!configName.MatchString(name) && !sampleName.MatchString(path.Base(name)) {
			continue
		}
		sample := sampleName.MatchString(path.Base(name))
		format := formatFor(name)
		if format == "" || a.text(name) == "" {
			continue
		}
		c := template(a.text(name), format, needs)
		c.Path, c.Sample = pathOf(name), name
		if data := c.ofData(); len(c.Places) < 2 || data < 2 && !sample || a.has(c.Path) && sample && c.Path != name {
			continue
		}
		if !slices.ContainsFunc(out, func(o Config) bool { return o.Path == c.Path }) {
			out = append(out, c)
		}
	}
	slices.SortStableFunc(out, func(x, y Config) int { return y.ofData() - x.ofData() })
	return out[:min(len(out), 3)]
}

// ofData counts the places that say where the data is.
func (c Config) ofData() (n int) {
	for _, p := range c.Places {
		if strings.HasPrefix(p.Value, "data.") || p.Value == "tables" || strings.HasPrefix(p.Value, "url") {
			n++
		}
	}
	return n
}

func formatFor(name string) string {
	for _, f := range formatOf {
		if f.name.MatchString(path.Base(name)) {
			return f.format
		}
	}
	return ""
}

// pathOf is the name of a sample without what makes it one.
func pathOf(name string) string {
	base := path.Base(name)
	for sampleName.MatchString(base) {
		at := sampleName.FindStringSubmatchIndex(base)
		before, after := base[:at[0]], base[at[1]:]
		join := base[at[6]:at[7]]
		if join == "" || before == "" {
			join = ""
		}
		base = before + join + after
	}
	if base == "" || base == "."+formatFor(name) {
		return name
	}
	return path.Join(path.Dir(name), base)
}

// template puts places into a sample.
func template(text, format string, needs Needs) Config {
	c := Config{Format: format}
	lines := strings.SplitAfter(text, "\n")
	around := nearby{}
	for i, line := range lines {
		around.see(line)
		lines[i] = fill.Escape(line)
		if commented[format].MatchString(line) {
			continue
		}
		found := around.places(strings.TrimRight(line, "\r\n"), format, needs)
		made, end := "", 0
		for _, p := range found {
			made += fill.Escape(line[end:p.from]) + "{" + p.value + "}"
			end = p.to
		}
		if made += fill.Escape(line[end:]); len(found) == 0 || !fitsFormat(lines[:i], made, format) {
			continue
		}
		lines[i] = made
		for _, p := range found {
			c.Places = append(c.Places, Place{i + 1, p.key, p.value})
		}
	}
	c.Template = strings.Join(lines, "")
	return c
}

// spot is a value on a line, and what belongs in its place.
type spot struct {
	key, value string
	from, to   int
}

// places finds the values on a line for which one of ours is known.
func (n *nearby) places(line, format string, needs Needs) (out []spot) {
	for _, form := range keyed[format] {
		for _, at := range form.FindAllStringSubmatchIndex(line, -1) {
			s := spot{key: line[at[2]:at[3]], from: at[4], to: at[5]}
			s.value = n.placeOf(s.key, line[s.from:s.to], needs)
			overlaps := slices.ContainsFunc(out, func(o spot) bool { return s.from < o.to && o.from < s.to })
			if s.value != "" && !overlaps {
				out = append(out, s)
			}
		}
	}
	slices.SortFunc(out, func(a, b spot) int { return a.from - b.from })
	return out
}

// fitsFormat says whether a place may stand where it was put.
func fitsFormat(before []string, line, format string) bool {
	f, err := config.For(format)
	if err != nil {
		return false
	}
	text := strings.Join(before, "") + line
	if format == "json" { // what is half is no JSON: the whole is checked in the end
		return true
	}
	var spans []config.Span
	parts := fill.Parse(text)
	for i, p := range parts {
		if p.Name == "" {
			continue
		}
		end := len(text)
		if i+1 < len(parts) {
			end = parts[i+1].Offset
		}
		spans = append(spans, config.Span{From: p.Offset, To: end})
	}
	return len(f.Open(text, spans)) == 0
}

// nearby is what stands shortly before a line: what a plain “host” belongs to.
type nearby struct{ lines []string }

func (n *nearby) see(line string) {
	if section := sectionLine.MatchString(line); section {
		n.lines = n.lines[:0]
	}
	n.lines = append(n.lines, line)
	if len(n.lines) > 10 {
		n.lines = n.lines[1:]
	}
}

var (
	sectionLine = lazily(`^\s*\[[^\]]+\]\s*$`)
	dataWord    = lazily(
		`(?i)(\bdb|db_|_db|data_?base|mysql|mariadb|pgsql|postgres|\bsql\b|\bdsn\b|connection)`,
	)
	mailWord  = lazily(`(?i)(smtp|imap|e?mail|ldap|redis|memcache|proxy|sphinx|ftp)`)
	notData   = lazily(`(setup|ssl|cert|api|oauth|charset|collat|socket|timeout|persist)`)
	lowered   = strings.NewReplacer("[", "_", "]", "", "'", "", `"`, "", "-", "_", ".", "_", ">", "")
	severalOf = lazily(`_+`)
)

// rules give the value that belongs to a key; the first that fits counts. Those with data
// hold only where the key, or what stands shortly before, speaks of a database.
var rules = []struct {
	data  bool
	key   *pattern
	value string
}{
	{false, lazily(`admin_?(pass(word|wd)?|pwd)$`), "admin.password"},
	{false, lazily(`admin_?(user(name)?|login|name)$`), "admin.name"},
	{false, lazily(`(admin|contact|webmaster|site)_?e?_?mail(_?address)?$`), "admin.email"},
	{true, lazily(`(pass(word|wd|wort)?|pwd|pw)$`), "data.password"},
	{true, lazily(`(user(name)?|login|usr)$`), "data.user"},
	{true, lazily(`(host(name)?|server|address)$`), "data.host"},
	{true, lazily(`port$`), "data.port"},
	{true, lazily(`(table_?)?(prefix|praefix)$`), "tables"},
	{false, lazily(`(^|_)table_?prefix$`), "tables"},
	{true, lazily(`(type|driver|engine|adapter|dbms|backend)$`), "value.engine"},
	{true, lazily(`(sqlite_?)?(file(name)?|path)$`), "data.file"},
	{
		true,
		lazily(`(^|_)(db_?name|db|database(_?name)?|name|schema|base|dbname|database_default)$`),
		answer.DataName,
	},
	{
		false,
		lazily(`(^|_)(site|base|app|root|self|home|full|public|blog|forum|web)_?(url|uri|address)(_?path)?$`),
		"url",
	},
	{false, lazily(`(^|_)(site|blog|forum|app|page)_?(title|name)$`), "title"},
	{false, lazily(`(^|_)((default_?)?lang(uage)?|locale)$`), "language"},
	{
		false,
		lazily(
			`(secret(_?key)?|salt|app_?key|cookie_?key|encryption_?key|auth_?key|nonce|pepper|crypt_?key|hash_?key)$`,
		),
		"secret.",
	},
}

// placeOf gives the value that belongs to a key, with the filter that the value as it was
// written asks for; empty for none.
func (n *nearby) placeOf(key, was string, needs Needs) string {
	plain := strings.Trim(severalOf.ReplaceAllString(lowered.Replace(strings.ToLower(key)), "_"), "_")
	about := strings.Join(n.lines, "")
	data := !notData.MatchString(plain) && (dataWord.MatchString(plain) ||
		dataWord.MatchString(about) && !mailWord.MatchString(plain) && !mailWord.MatchString(n.last()))
	for _, r := range rules {
		if r.data && !data || !r.key.MatchString(plain) {
			continue
		}
		return dressed(r.value, plain, was, needs)
	}
	return ""
}

func (n *nearby) last() string { return n.lines[len(n.lines)-1] }

// dressed gives a value the form in which the sample has it.
func dressed(value, key, was string, needs Needs) string {
	bare := strings.Trim(was, `'"`)
	quoted := bare != was
	switch {
	case slices.Contains([]string{"true", "false"}, strings.ToLower(was)):
		return ""
	case value == "secret.":
		return "secret." + strings.ReplaceAll(strings.TrimPrefix(key, "_"), "_", "-")
	case value == "data.port" && !quoted && bare != "":
		return "data.port | number"
	case value == "data.host" && strings.Contains(bare, ":"):
		return answer.DataServer
	case value == "url" && !strings.HasSuffix(bare, "/"):
		return "url | trim-slash"
	case value == "value.engine" && (len(needs.Engines) < 2 || spellings[bare] == nil):
		return ""
	case value == "data.file" && !slices.Contains(needs.Engines, "sqlite"):
		return ""
	}
	return value
}

// spellings are how apps name the engines, by how they name MySQL.
var spellings = map[string]map[string]string{
	"mysql":  {"mariadb": "mysql", "postgresql": "pgsql", "sqlite": "sqlite"},
	"mysqli": {"mariadb": "mysqli", "postgresql": "pgsql", "sqlite": "sqlite3"},
	"pgsql":  {"mariadb": "mysql", "postgresql": "pgsql", "sqlite": "sqlite"},
	"sqlite": {"mariadb": "mysql", "postgresql": "postgres", "sqlite": "sqlite"},
}
