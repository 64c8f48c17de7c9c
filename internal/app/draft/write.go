package draft

import (
	"encoding/json"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"tivset/internal/answer"
	"tivset/internal/app/kit"
)

// Source says where the app that is looked at came from.
type Source struct {
	App     string // the kit's name
	Release string // as far as it is known
	Date    string // YYYY-MM-DD
	Archive string // what the kit says of the archive, as YAML in one line: {from: …}
	Origin  string // or, for releases that come by themselves, what stands below archive:, as YAML

	Summary, Home, Licence string // as a package says them
}

// Draft is the first version of a kit.
type Draft struct {
	Files     map[string]string // by their names in the kit
	Found     []string          // what was found, a line each
	Questions []string          // what its author has to say
}

// Draft writes a kit that tivset kit check takes, with what was found, and a question
// wherever something could not be told.
func (a *App) Draft(from Source) *Draft {
	w := &writer{a: a, from: from, d: &Draft{Files: map[string]string{}}, needs: a.Needs()}
	w.title = titleOf(from.App)
	w.schemas, w.configs = a.Schemas(), a.Configs(w.needs)
	w.head()
	w.releases()
	w.place()
	w.config()
	w.setup()
	w.looksAfter()
	w.checks()
	w.d.Files["kit.yaml"] = w.out.String()
	w.d.Files["about.md"] = "# " + w.title + "\n\n" + orElse(a.Summary(), "What it is for, in a sentence or two.") +
		"\n\n- what it can do, a line each\n"
	return w.d
}

type writer struct {
	a       *App
	from    Source
	d       *Draft
	out     strings.Builder
	title   string
	needs   Needs
	schemas []Schema
	configs []Config
	indent  string            // of questions
	spelled string            // how a sample spells its engine
	secrets map[string]bool   // that the templates use
	values  map[string]string // put together, as YAML
}

func orElse(text, other string) string {
	if text == "" {
		return other
	}
	return text
}

func titleOf(app string) string {
	words := strings.Split(app, "-")
	for i, w := range words {
		if w != "" {
			words[i] = strings.ToUpper(w[:1]) + w[1:]
		}
	}
	return strings.Join(words, " ")
}

func (w *writer) line(format string, args ...any) { fmt.Fprintf(&w.out, format+"\n", args...) }

// ask puts a question to the author, above what it is about.
func (w *writer) ask(format string, args ...any) {
	question := fmt.Sprintf(format, args...)
	w.d.Questions = append(w.d.Questions, question)
	w.line("%s# ? %s", w.indent, question)
}

func (w *writer) found(format string, args ...any) {
	w.d.Found = append(w.d.Found, fmt.Sprintf(format, args...))
}

var plainYAML = lazily(`^[A-Za-z][A-Za-z0-9._/() -]*$`)

// YAML writes a text as YAML, in quotes where it needs them.
func YAML(text string) string { return q(text) }

func q(text string) string {
	words := []string{"true", "false", "yes", "no", "on", "off", "null", "y", "n"}
	if plainYAML.MatchString(text) && !strings.HasSuffix(text, " ") && !slices.Contains(words, strings.ToLower(text)) {
		return text
	}
	b, _ := json.Marshal(text)
	return strings.NewReplacer(`\u003c`, "<", `\u003e`, ">", `\u0026`, "&").Replace(string(b))
}

func list(all []string) string {
	out := make([]string, len(all))
	for i, x := range all {
		out[i] = q(x)
	}
	return "[" + strings.Join(out, ", ") + "]"
}

func (w *writer) head() {
	w.line("# A draft, made from the app's files. Lines that begin with “# ?” are questions to you: answer them in the")
	w.line("# lines below, and take them out. docs/kit.md describes every key; kit check and kit try tell more.")
	w.line("kit: 1")
	w.line("app: %s", w.from.App)
	w.ask("Is that how the app writes its name?")
	w.line("title: %s", q(w.title))
	w.ask("What is it for? One of: %s.", strings.Join(kit.Kinds, ", "))
	w.line("kind: website")
	summary := orElse(w.from.Summary, w.a.Summary())
	if summary == "" {
		w.ask("What is it, in one line of your own?")
	}
	w.line("summary: %s", q(clean(orElse(summary, w.title))))
	w.line("about: about.md")
	if w.from.Home != "" {
		w.line("home: %s", q(clean(w.from.Home)))
	}
	name, file := w.a.Licence()
	name = orElse(name, clean(w.from.Licence))
	switch {
	case name == "":
		w.ask("Which licence has it? Nothing in the files says it.")
		w.line("licence: {name: unknown}")
	case file == "":
		w.line("licence: {name: %s}", q(name))
	default:
		if text, err := readAll(w.a.files, file); err == nil {
			w.d.Files["licence.txt"] = printable(text)
		}
		w.line("licence: {name: %s, text: licence.txt}", q(name))
		w.found("licence %s (%s)", name, file)
	}
	w.ask("Which languages does it have? The first is taken when nobody says another.")
	w.line("languages: [en]")
}

// clean is a text on one line, without control characters.
func clean(text string) string { return strings.Join(strings.Fields(printable(text)), " ") }

func printable(text string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x20 && r != '\n' && r != '\t' || r == 0x7f {
			return -1
		}
		return r
	}, text)
}

func (w *writer) releases() {
	w.line("")
	if w.from.Origin != "" {
		w.line("archive:\n%s", w.from.Origin)
		w.line("\nneeds:")
		w.needed("  ")
		return
	}
	w.line("releases:                            # newest first; kit release adds one")
	w.line("  - release: %s", q(orElse(w.from.Release, "0.0.0")))
	w.line("    date: %s", w.from.Date)
	w.line("    level: features")
	w.indent = "    "
	w.ask("Where can owners' machines fetch the archive? An https address, in the place of the file.")
	w.line("    archive: %s", w.from.Archive)
	w.line("    needs:")
	w.needed("      ")
	w.indent = ""
}

func (w *writer) needed(indent string) {
	n := w.needs
	w.indent = indent
	defer func() { w.indent = "" }()
	if n.PHP == "" {
		w.ask("Which version of PHP does it need at least?")
		n.PHP = "7.4"
	}
	w.line("%sphp: {version: %q, extensions: %s}", indent, ">="+n.PHP, list(n.Extensions))
	w.found("PHP %s and extensions %s", n.PHP, orElse(strings.Join(n.Extensions, ", "), "none"))
	if len(w.engines()) > 0 {
		var parts []string
		for _, e := range w.engines() {
			parts = append(parts, e+`: ">=`+leastOf[e]+`"`)
		}
		w.ask("Which versions of the database does it bear?")
		w.line("%sdatabase: {%s}", indent, strings.Join(parts, ", "))
		w.found("databases: %s", strings.Join(w.engines(), ", "))
	}
	w.line("%sspace: %s", indent, strings.ReplaceAll(humanize.Bytes(uint64(max(w.a.Bytes(), 1<<20))), " ", ""))
}

// leastOf are versions that hosts have had for years.
var leastOf = map[string]string{"mariadb": "10.3", "postgresql": "11", "sqlite": "3.7"}

// engines are those that the app has tables for; where it makes its tables itself, those
// that it speaks to.
func (w *writer) engines() []string {
	if len(w.schemas) == 0 {
		return w.needs.Engines
	}
	var out []string
	for _, s := range w.schemas {
		out = append(out, s.Engine)
	}
	return out
}

func (w *writer) place() {
	written, compiled := w.a.Written()
	hidden := w.a.Hidden()
	for _, c := range w.configs {
		if c.Sample != c.Path && path.Dir(c.Path) == "." && !php.MatchString(c.Path) {
			hidden = append(hidden, c.Path)
		}
	}
	w.line("\nplace:")
	w.indent = "  "
	defer func() { w.indent = "" }()
	if w.a.Rewriting() {
		w.line("  rewriting: true                    # its addresses are passed on to it by .htaccess")
	}
	w.ask("Where else does the app write? What is there is the site's, and no release replaces it.")
	w.line("  written: %s", list(written))
	if len(compiled) > 0 {
		w.line("  compiled: %s                 # where it writes programs of its own making", list(compiled))
	}
	w.ask("What else must a stranger never read?")
	w.line("  deny: %s", list(hidden))
	if len(written) > 0 {
		w.found("it writes in %s", strings.Join(written, ", "))
	}
}

var valueName = lazily(`\{(secret|value)\.([a-z0-9-]+)`)

func (w *writer) config() {
	w.secrets, w.values = map[string]bool{}, map[string]string{}
	if len(w.configs) == 0 {
		w.ask("Which file holds the app's configuration? None was found with a sample. Write it as a template:")
		w.line("# config:\n#   - {path: config.php, template: config.php.tmpl, format: php, mode: \"0640\"}")
		return
	}
	w.line("\nconfig:")
	w.indent = "  "
	defer func() { w.indent = "" }()
	for _, c := range w.configs {
		name := strings.TrimPrefix(strings.ReplaceAll(c.Path, "/", "-"), ".") + ".tmpl"
		w.d.Files[name] = c.Template
		if c.Sample == c.Path {
			w.ask("%s comes with the app: is it the file to write, or a default that another one overrides?", c.Path)
		}
		var keys []string
		for _, p := range c.Places {
			keys = append(keys, p.Key+" = {"+p.Value+"}")
		}
		w.line("  # from %s: %s", c.Sample, strings.Join(keys, ", "))
		w.line("  - {path: %s, template: %s, format: %s, mode: \"0640\"}", q(c.Path), q(name), c.Format)
		w.found("configuration %s, from %s: %d places", c.Path, c.Sample, len(c.Places))
		w.uses(c)
	}
	if len(w.secrets) > 0 {
		w.line("\nsecrets:                             # made anew for each site")
		for _, s := range slices.Sorted(maps.Keys(w.secrets)) {
			w.line("  %s: {length: 32, of: alnum}", s)
		}
	}
}

// uses notes which secrets and values a template needs.
func (w *writer) uses(c Config) {
	for _, m := range valueName.FindAllStringSubmatch(c.Template, -1) {
		if m[1] == "secret" {
			w.secrets[m[2]] = true
		}
	}
	for _, p := range c.Places {
		if p.Value != "value.engine" {
			continue
		}
		line := strings.Split(w.a.text(c.Sample), "\n")[p.Line-1]
		for _, spelled := range slices.Sorted(maps.Keys(spellings)) {
			if strings.Contains(line, "'"+spelled+"'") || strings.Contains(line, `"`+spelled+`"`) ||
				strings.HasSuffix(strings.TrimSpace(line), spelled) {
				w.spelled = spelled
			}
		}
	}
	if w.spelled != "" {
		w.values["engine"] = byEngine(w.engines(), func(e string) string { return spellings[w.spelled][e] })
	}
}

func byEngine(engines []string, of func(string) string) string {
	var parts []string
	for _, e := range engines {
		parts = append(parts, e+": "+q(of(e)))
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

func (w *writer) setup() {
	page, forms := w.a.SetUpPages()
	parts := w.a.SetUpParts()
	var steps []string
	switch {
	case len(w.schemas) > 0:
		steps = w.bySQL()
	case page != "":
		steps = w.byPages(page, forms)
	}
	if len(steps) > 0 && len(parts) > 0 {
		steps = append(steps, "  - remove: "+list(parts))
		w.found("set up by %s", strings.Join(parts, ", "))
	}
	if len(w.values) > 0 {
		w.line("\nvalues:")
		for _, name := range slices.Sorted(maps.Keys(w.values)) {
			w.line("  %s: %s", name, w.values[name])
		}
	}
	w.line("")
	if len(steps) == 0 {
		w.ask("How is it set up? No file with its tables was found, and no page that makes them.")
		w.line("setup: []")
		return
	}
	w.line("setup:                               # in order; the app lies where nobody can reach it meanwhile")
	for _, s := range steps {
		w.out.WriteString(s + "\n")
	}
}

// question is a question within steps that are put together.
func (w *writer) question(format string, args ...any) string {
	text := fmt.Sprintf(format, args...)
	w.d.Questions = append(w.d.Questions, text)
	return "  # ? " + text
}

func (w *writer) bySQL() []string {
	file := w.schemas[0].File
	if len(w.schemas) > 1 {
		file = "{value.schema}"
		files := map[string]string{}
		for _, s := range w.schemas {
			files[s.Engine] = s.File
		}
		w.values["schema"] = byEngine(w.engines(), func(e string) string { return files[e] })
	}
	step := "  - sql: {file: " + q(file)
	if prefix := w.schemas[0].Prefix; prefix != "" {
		step += ", tables: " + prefix
	}
	out := []string{step + "}"}
	done := false
	for _, s := range w.schemas {
		w.found("tables for %s: %s (%d, beginning with %q)", s.Engine, s.File, s.Tables, s.Prefix)
		for _, account := range s.Admins {
			if !done {
				out = append(out, w.admin(s, account)...)
			}
			done = true
		}
	}
	if !done {
		out = append(
			out,
			w.question("How does the admin's account come to be? The tables come without one. Where a statement "+
				"does it:"),
			`  # - run-sql: "INSERT INTO {tables}users (name, hash) VALUES (:name, :hash)"`,
			`  #   with: {name: "{admin.name}", hash: "{admin.password | bcrypt}"}`,
		)
	}
	return out
}

// admin replaces an account that everybody knows the password of.
func (w *writer) admin(s Schema, of Account) []string {
	table := of.Table
	if s.Prefix != "" {
		table = "{tables}" + strings.TrimPrefix(table, s.Prefix)
	}
	set, with := of.Password+" = :hash", `hash: "{admin.password | `+orElse(of.Filter, "bcrypt")+`}"`
	if of.Name != "" {
		set, with = of.Name+" = :name, "+set, `name: "{admin.name}", `+with
	}
	w.found("an account of a known password in %s (%s): replaced in the set-up", s.File, of.Table)
	var out []string
	if of.Filter == "" {
		out = append(out, w.question("How does it keep passwords? The one in %s has no known form.", s.File))
	}
	return append(
		out,
		w.question("Is that the admin's row?"),
		fmt.Sprintf(`  - run-sql: "UPDATE %s SET %s WHERE %s"`, table, set,
			w.firstRow(s, of)),
		"    with: {"+with+"}",
	)
}

// firstRow is a condition for the row of the account, by its first column.
func (w *writer) firstRow(s Schema, of Account) string {
	if columns := columnsOf(w.a.sqlText(s.File), of.Table); len(columns) > 0 &&
		strings.HasSuffix(strings.ToLower(columns[0]), "id") {
		return columns[0] + " = 1"
	}
	return "1 = 1"
}

func (w *writer) byPages(page string, forms []Form) []string {
	out := []string{
		w.question("What do its set-up pages show, one after the other? Each form needs a text that tells that it " +
			"went well."),
		"  - request: {get: " + q(page) + "}",
	}
	for i, f := range forms {
		if i == 6 {
			break
		}
		fields := w.fields(f)
		out = append(out, "  # the form in "+f.File+": "+strings.Join(f.Fields, ", "))
		out = append(out, "  - request: {form: page, fields: {"+strings.Join(fields, ", ")+"}, expect: {not-text: error}}")
	}
	w.found("set-up page %s with %d forms", page, len(forms))
	return out
}

// fields gives the fields of a form that a value is known for.
func (w *writer) fields(f Form) []string {
	var out []string
	around := nearby{lines: []string{strings.Join(f.Fields, " ")}}
	for _, name := range f.Fields {
		value := around.placeOf(name, `""`, Needs{})
		switch plain := strings.ToLower(name); {
		case value == "" || strings.HasPrefix(value, "secret.") || strings.HasPrefix(value, "url"):
			switch {
			case strings.Contains(plain, "mail"):
				value = answer.AdminEmail
			case strings.Contains(plain, "pass"):
				value = answer.AdminPassword
			case strings.Contains(plain, "user"), strings.Contains(plain, "login"):
				value = answer.AdminName
			case strings.Contains(plain, "title"):
				value = "title"
			default:
				continue
			}
		}
		out = append(out, q(name)+`: "{`+value+`}"`)
	}
	return out
}

func (w *writer) looksAfter() {
	w.line("")
	marks := w.a.Marks(w.from.Release)
	switch {
	case len(marks) > 0 && (w.from.Release == "" || marks[0].Release == w.from.Release):
		m := marks[0]
		w.line("recognise: {file: %s, pattern: %s}", q(m.File), q(m.Pattern))
		w.found("it says that it is %s in %s", m.Release, m.File)
	case len(marks) > 0:
		w.ask("Where does it say that it is %s? What is adopted is known by that. Other numbers are in %s.", w.from.Release,
			otherMarks(marks))
	default:
		w.ask("Where does it say which release it is? What is adopted is known by that.")
	}
	w.ask(
		"Where does it keep its address besides its configuration? Copies and moves look in all tables when nothing is said.",
	)
	w.ask("What gives the admin a new password? Steps, as in the set-up, under renew:")
	w.ask("How are title and admin read when the owner changed them? See “As the site is”, under now:")
	for _, t := range w.a.Timers() {
		w.ask("Does %s have to be run every so often? If so: timers: [{every: 1h, command: [php, %s], what: …}]", t, t)
		w.found("a program that may want a timer: %s", t)
	}
	for _, s := range w.a.Samples() {
		w.ask("Is %s sample content? An extra with id: sample loads it only where it is wanted.", s)
	}
}

func otherMarks(all []Mark) string {
	var out []string
	for _, m := range all[:min(len(all), 3)] {
		out = append(out, m.File+" ("+m.Release+")")
	}
	return strings.Join(out, ", ")
}

func (w *writer) checks() {
	w.line("\ncheck:")
	w.indent = "  "
	w.ask("Which text on its front page is the app's own, and changed by no owner?")
	w.line("  front: {get: /, expect: {text: %s}}", q(w.title))
	f, page := w.a.SignIn(), "/"
	if f == nil {
		w.ask("Where do people sign in, and what are the form's fields called? No form with a password was found.")
		f = &Form{Fields: []string{"username", "password"}, Secret: "password"}
	} else {
		w.found("the form to sign in, in %s: %s", f.File, strings.Join(f.Fields, ", "))
		if php.MatchString(f.File) && strings.Count(f.File, "/") <= 1 {
			page = f.File
		}
		w.ask("Is %s the page with the form of %s?", page, f.File)
	}
	user := f.Fields[0]
	if user == f.Secret && len(f.Fields) > 1 {
		user = f.Fields[1]
	}
	w.line("  sign-in:")
	w.line("    page: %s", q(page))
	name := q(user) + `: "{admin.name}", `
	if user == f.Secret { // there is only a password
		name = ""
	}
	w.line(`    fields: {%s%s: "{admin.password}"}`, name, q(f.Secret))
	w.indent = "    "
	w.ask("Which page does only somebody signed in see, and which text on it?")
	w.line("    then: {get: /, expect: {text: %s}}", q(orElse(w.a.SignedIn(), "logout")))
}

// Named is a name for a kit, made of a file's or a package's.
func Named(name string) string {
	name = strings.ToLower(path.Base(name))
	if r := ReleaseOf(name); r != "" {
		name = name[:strings.Index(name, r)]
	}
	name = lazily(`\.(tar|tgz|zip|t[bx]z).*$`).ReplaceAllString(name, "")
	name = strings.Trim(lazily(`[^a-z0-9]+`).ReplaceAllString(name, "-"), "-")
	if !kit.IsName(name) {
		return "app"
	}
	return name
}
