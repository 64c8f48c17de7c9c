package kit

import (
	"encoding/hex"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/Masterminds/semver/v3"
	"github.com/dustin/go-humanize"

	"tivset/internal/answer"
	"tivset/internal/app/config"
	"tivset/internal/app/fill"
	"tivset/internal/app/version"
	"tivset/internal/fault"
	"tivset/internal/hosting/database"
)

// Kinds are the things an app can be for.
var Kinds = []string{"blog", "booking", "bookmarks", "calendar", "crm", "feeds", "forum", "gallery", "helpdesk",
	"learning",
	"projects", "shop", "statistics", "tools", "webmail", "website", "wiki"}

// Levels are how far a release goes beyond the one before.
var Levels = []string{"fixes", "features", "breaking"}

// Engines are the database engines that a kit can name.
var Engines = database.EngineNames()

var (
	appName = regexp.MustCompile(`^[a-z][a-z0-9-]{1,30}$`)
	askName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,30}$`)
	mode    = regexp.MustCompile(`^0[0-7]{3}$`)
	table   = regexp.MustCompile(`^[a-z][a-z0-9_]*_$`)
)

// IsName says whether a name can be an app's.
func IsName(name string) bool { return appName.MatchString(name) }

// checker gathers what is wrong with a kit.
type checker struct {
	*Kit
	found []fault.Problem
}

func (c *checker) wrong(key, what, remedy string) {
	c.found = append(c.found, fault.Problem{ID: c.At(key), What: what, Remedy: remedy})
}

func (c *checker) need(key, value, example string) {
	if strings.TrimSpace(value) == "" {
		c.wrong(key, key+" is missing", "Add it, such as "+example+".")
	}
}

func (c *checker) oneOf(key, value string, of []string) {
	if !slices.Contains(of, value) {
		c.wrong(key, fmt.Sprintf("%s cannot be %q", key, value), "It is one of "+strings.Join(slices.DeleteFunc(
			slices.Clone(of), func(one string) bool { return one == "" }), ", ")+".")
	}
}

// file checks that a file of the kit is there.
func (c *checker) file(key, name string) string {
	text, err := fs.ReadFile(c.files, path.Clean(name))
	if err != nil {
		c.wrong(key, "the kit has no file "+name, "Add the file, or correct its name.")
	}
	return string(text)
}

// printable checks every text of the kit for characters that are none: they could
// move the cursor of whoever reads it.
func (c *checker) printable(v reflect.Value) {
	switch v.Kind() {
	case reflect.String:
		if i := strings.IndexFunc(v.String(), unprintable); i >= 0 {
			c.wrong("kit", fmt.Sprintf("a text holds a control character: %q", v.String()), "Remove it.")
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				c.printable(v.Field(i))
			}
		}
	case reflect.Slice, reflect.Array:
		for i := range v.Len() {
			c.printable(v.Index(i))
		}
	case reflect.Map:
		for entries := v.MapRange(); entries.Next(); {
			c.printable(entries.Key())
			c.printable(entries.Value())
		}
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			c.printable(v.Elem())
		}
	}
}

func unprintable(r rune) bool { return unicode.IsControl(r) && r != '\n' && r != '\t' && r != '\r' }

// inside checks a path below the app's folder.
func (c *checker) inside(key, name string) {
	if name == "" || !fs.ValidPath(strings.TrimSuffix(name, "/")) || name == "." || strings.Contains(name, `\`) {
		c.wrong(key, fmt.Sprintf("%q is not a path below the app's folder", name),
			"Write it without a leading slash and without “..”.")
	}
}

// places checks the places of a text.
func (c *checker) places(key, text string) {
	c.use(text)
	if err := fill.Check(text, c.Names()); err != nil {
		c.wrong(key, err.Error(), "docs/kit.md lists the values.")
	}
}

// problems gives all that is wrong with a kit that could be read.
func (k *Kit) problems() []fault.Problem {
	c := &checker{Kit: k}
	if k.Format != Version {
		c.wrong("kit", fmt.Sprintf("this is format %d of kits", k.Format),
			fmt.Sprintf("This program reads format %d: write kit: %d.", Version, Version))
		return c.found
	}
	if !IsName(k.App) {
		c.wrong("app", fmt.Sprintf("app cannot be %q", k.App),
			"Use lower case letters, digits and -, beginning with a letter.")
	}
	c.printable(reflect.ValueOf(*k))
	c.need("title", k.Title, "title: Inkreach")
	c.need("summary", k.Summary, "summary: A quiet blog")
	c.oneOf("kind", k.Kind, Kinds)
	c.oneOf("admin-account", k.Account, []string{"", "own", elsewhere})
	c.need("licence.name", k.Licence.Name, "licence: {name: MIT}")
	if k.About != "" {
		c.file("about", k.About)
	}
	if k.Licence.Text != "" {
		c.file("licence.text", k.Licence.Text)
	} else if k.Licence.MustAccept {
		c.wrong("licence", "a licence that must be accepted needs its text", "Add text: licence.txt, and the file.")
	}
	c.releases()
	c.questions()
	c.limits()
	c.extras()
	c.place()
	c.configs()
	c.phpSettings()
	c.steps("setup", c.Setup)
	c.steps("update.steps", c.Update.Steps)
	c.steps("copied", c.Copied)
	c.steps("moved", c.Moved)
	c.steps("renew", c.Renew)
	c.steps("try.title", c.Try.Title)
	c.now()
	c.lookedAfter()
	c.timers()
	c.checks()
	return c.found
}

func (c *checker) releases() {
	if c.FollowsUpstream() {
		c.packages()
	}
	if c.FollowsUpstream() == (len(c.Releases) > 0) {
		c.wrong("releases", "a kit has either releases, or archive, from which they come by themselves",
			"Write one of them.")
	}
	if !c.FollowsUpstream() && !reflect.DeepEqual(c.Needs, Needs{}) {
		c.wrong("needs", "releases that are listed say themselves what they need", "Write needs with each release.")
	}
	for i, r := range c.Releases {
		key := "releases." + strconv.Itoa(i)
		c.need(key+".release", r.Release, "release: 1.0.0")
		if _, err := time.Parse(time.DateOnly, r.Date); err != nil {
			c.wrong(key+".date", fmt.Sprintf("%q is not a date", r.Date), "Write it as 2026-09-02.")
		}
		if _, err := time.Parse(time.DateOnly, r.Fixes); r.Fixes != "" && err != nil {
			c.wrong(key+".fixes", fmt.Sprintf("%q is not a date", r.Fixes), "Write it as 2027-09-01.")
		}
		c.oneOf(key+".level", r.Level, Levels)
		if i > 0 && !version.Newer(c.Releases[i-1].Release, r.Release) {
			c.wrong(key+".release", r.Release+" stands after "+c.Releases[i-1].Release, "List releases newest first, each once.")
		}
		c.archive(key+".archive", r.Archive)
		c.needs(key+".needs", r.Needs)
	}
}

func (c *checker) archive(key string, a Archive) {
	if sum, err := hex.DecodeString(a.SHA256); err != nil || len(sum) != 32 {
		c.wrong(key+".sha256", "sha256 is not a SHA-256 checksum", "Write the 64 hexadecimal digits that sha256sum prints.")
	}
	switch {
	case (a.From == "") == (a.Name == ""):
		c.wrong(key, "an archive has either from or name",
			"from: an https address or a file of the kit; name: a file that the owner fetches.")
	case a.Name != "" && a.Fetch == "":
		c.wrong(key, "an archive with name needs fetch", "Say how the owner gets the file.")
	case strings.HasPrefix(a.From, "https://") || a.From == "":
	case strings.Contains(a.From, "://"):
		c.wrong(key+".from", "archives are fetched over https only", "Use an https address or a file of the kit.")
	default:
		if _, err := fs.Stat(c.files, a.From); err != nil {
			c.wrong(key+".from", "the kit has no file "+a.From, "Add the file, or correct its name.")
		}
	}
}

func (c *checker) needs(key string, n Needs) {
	for engine, version := range n.Database {
		c.oneOf(key+".database", engine, Engines)
		c.versions(key+".database."+engine, version)
	}
	if n.PHP != nil {
		c.versions(key+".php.version", n.PHP.Version)
	}
	if n.PHP != nil && n.PHP.Recommended != nil && n.PHP.Recommended.Version != "" {
		c.versions(key+".php.recommended.version", n.PHP.Recommended.Version)
	}
	if n.Space != "" {
		if _, err := humanize.ParseBytes(n.Space); err != nil {
			c.wrong(key+".space", fmt.Sprintf("%q is not a size", n.Space), "Write it as 40MB.")
		}
	}
}

func (c *checker) versions(key, text string) {
	if _, err := semver.NewConstraint(text); err != nil {
		c.wrong(key, fmt.Sprintf("%q is not a range of versions", text), `Write it as ">=10.4".`)
	}
}

func (c *checker) configs() {
	for i, f := range c.Config {
		key := "config." + strconv.Itoa(i)
		c.inside(key+".path", f.Path)
		if f.Mode != "" && !mode.MatchString(f.Mode) {
			c.wrong(key+".mode", fmt.Sprintf("%q is not a file mode", f.Mode), `Write it as "0640".`)
		}
		if len(f.Constant) > 0 {
			c.constants(key, f)
			continue
		}
		format, err := config.For(f.Format)
		if err != nil {
			c.wrong(key+".format", err.Error(), "Choose one of them.")
			continue
		}
		template := c.file(key+".template", f.Template)
		c.use(template)
		for _, t := range config.Check(format, template, c.Names()) {
			c.found = append(c.found, fault.Problem{ID: f.Template + ":" + strconv.Itoa(t.Line), What: t.What,
				Remedy: "See “Templates” in docs/kit.md."})
		}
	}
	for name, s := range c.Secrets {
		if s.Length < 8 || s.Length > 128 || s.Of != "alnum" {
			c.wrong("secrets."+name, "a secret has length (8 to 128) and of: alnum", "Write {length: 24, of: alnum}.")
		}
	}
	for name, v := range c.Values {
		for engine := range v.By {
			c.oneOf("values."+name, engine, Engines)
		}
		for _, text := range append(slices.Collect(maps.Values(v.By)), v.All) {
			c.use(text)
			// A value may use all others but those put together, so that none can go in circles.
			if err := fill.Check(text, c.plainNames()); err != nil {
				c.wrong("values."+name, err.Error(), "A value may use answers, data and secrets, not other values.")
			}
		}
	}
}

func (c *checker) constants(key string, f Config) {
	if f.Template+f.Format+f.Mode != "" {
		c.wrong(key, "set-constant edits a file of the archive, which has its own format and mode",
			"Leave template, format and mode out.")
	}
	for name, text := range f.Constant {
		if !constantName.MatchString(name) {
			c.wrong(key+".set-constant", fmt.Sprintf("%q is not the name of a constant", name), "Write it as SETTINGS_FILE.")
		}
		c.places(key+".set-constant."+name, text)
	}
}

var constantName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// command checks a program's words: it is the account's own php, and secrets
// do not stand where everybody on the machine can read them.
func (c *checker) command(key string, words []string) {
	if words[0] != "php" {
		c.wrong(key, fmt.Sprintf("a command cannot begin with %q", words[0]),
			"It begins with php, for which the account says where it is.")
	}
	for _, w := range words {
		c.places(key, w)
		for _, p := range fill.Parse(w) {
			if strings.HasSuffix(p.Name, ".password") || strings.HasPrefix(p.Name, "secret.") ||
				strings.HasPrefix(p.Name, "value.") || c.secretAsk(p.Name) {
				c.wrong(key, "{"+p.Name+"} stands in a command, where others on the machine can read it",
					"Give secrets, and values put together, to the command by input: or in a configuration file.")
			}
		}
	}
}

func (c *checker) secretAsk(name string) bool {
	q := c.Question(strings.TrimPrefix(name, "answer."))
	return strings.HasPrefix(name, "answer.") && q != nil && q.Secret
}

func (c *checker) place() {
	for key, parts := range map[string][]string{"remove": c.Place.Remove, "deny": c.Place.Deny,
		"untouched": c.Place.Untouched} {
		for i, p := range parts {
			c.inside("place."+key+"."+strconv.Itoa(i), p)
		}
	}
	if c.Place.AdminFolder != "" && !askName.MatchString(c.Place.AdminFolder) {
		c.wrong("place.admin-folder", "the admin folder is one name at the top of the archive", "Write it as admin.")
	}
	if err := fill.Check(c.Admin, []string{answer.AdminFolder}); err != nil {
		c.wrong("admin", "only {admin.folder} may stand in admin", "Write it as {admin.folder}/.")
	}
}

var every = regexp.MustCompile(`^[1-9][0-9]{0,2}[mh]$`)

func (c *checker) timers() {
	for i, t := range c.Timers {
		key := "timers." + strconv.Itoa(i)
		if !every.MatchString(t.Every) {
			c.wrong(key+".every", fmt.Sprintf("%q is not an interval", t.Every), "Write it as 5m or 2h.")
		}
		if (t.Get == "") == (len(t.Command) == 0) {
			c.wrong(key, "a timer has either get or command", "Write get: timer.php, or command: [php, timer.php].")
		}
		if len(t.Command) > 0 {
			c.command(key+".command", t.Command)
		}
		c.need(key+".what", t.What, "what: sends the mails that wait")
		c.places(key+".get", t.Get)
		c.condition(key+".when", t.When, c.answers())
	}
}

// lookedAfter checks what is for the life of a site after its install.
func (c *checker) lookedAfter() {
	for i, p := range c.Update.Keep {
		c.inside("update.keep."+strconv.Itoa(i), p)
	}
	c.kindsOfFolders()
	for i, s := range c.Stored {
		key := "addresses." + strconv.Itoa(i)
		kinds := 0
		for _, name := range []string{s.Table, s.Files, s.DataFiles} {
			if name != "" {
				kinds++
			}
		}
		if kinds != 1 || s.Table == "" && s.Column != "" {
			c.wrong(key, "it is either a table with a column, or files, or data-files",
				"Write {table: facts, column: value} or {files: data/*.json}.")
		}
		for _, pattern := range []string{s.Files, s.DataFiles} {
			if _, err := path.Match(pattern, ""); pattern != "" && (err != nil || !fs.ValidPath(pattern)) {
				c.wrong(key, fmt.Sprintf("%q is not a pattern of names", pattern), "Write it as data/*.json.")
			}
		}
	}
	if c.Known == nil {
		return
	}
	c.inside("recognise.file", c.Known.File)
	if re, err := regexp.Compile(c.Known.Pattern); err != nil || re.NumSubexp() != 1 {
		c.wrong("recognise.pattern", "the pattern needs one group, which holds the release",
			`Write it as "VERSION = '([0-9.]+)'".`)
	}
}

// kindsOfFolders checks the lists of which each folder is in one.
func (c *checker) kindsOfFolders() {
	in := map[string]string{}
	for _, p := range c.Place.Remove {
		in[path.Clean(p)] = "remove"
	}
	for _, list := range []struct {
		key   string
		names []string
	}{{"written", c.Place.Written}, {"mixed", c.Place.Mixed}, {"compiled", c.Place.Compiled}} {
		for i, p := range list.names {
			key := "place." + list.key + "." + strconv.Itoa(i)
			c.inside(key, p)
			if other := in[path.Clean(p)]; other != "" {
				c.wrong(key, p+" stands under "+other+" too", "A folder is of one kind: take it out of one of the lists.")
			}
			in[path.Clean(p)] = list.key
		}
	}
}

// query checks SQL text: values go in as :names, never as places.
func (c *checker) query(key, text string) {
	c.use(text)
	if err := fill.Check(text, []string{"tables"}); err != nil {
		c.wrong(key, "only {tables} may stand in SQL", "Put values under with: and write them as :name.")
	}
}

func (c *checker) request(key string, r Request) {
	if r.Form != "" && r.Form != "page" {
		c.wrong(key+".form", fmt.Sprintf("form cannot be %q", r.Form), "Write form: page.")
	}
	if (r.Get == "") == (r.Post == "" && r.Form == "") {
		c.wrong(key, "a request is either get, or form: page, or post", "Make it several requests.")
	}
	if r.Expect.Text == "" && r.Expect.NotText == "" && r.Form+r.Post != "" {
		c.wrong(key+".expect", "a form that is sent needs expect",
			"Say what the page shows when it worked: a status alone says little.")
	}
	for name, v := range r.Fields {
		c.places(key+".fields."+name, v)
	}
	c.places(key+".expect", r.Expect.Text+r.Expect.NotText)
	c.places(key, r.Get+r.Post)
}

func (c *checker) checks() {
	if c.Check.Front.Get == "" || c.Check.Front.Expect.Text == "" {
		c.wrong("check.front", "the check of the front page needs get and expect.text",
			`Write front: {get: /, expect: {text: "{title}"}}.`)
	}
	c.places("check.front", c.Check.Front.Expect.Text+c.Check.Front.Expect.NotText)
	s := c.Check.SignIn
	c.places("check.sign-in", s.Page+s.Post+s.Then.Get+s.Then.Expect.Text)
	if s.Page == "" || len(s.Fields) == 0 || s.Then.Get == "" || s.Then.Expect.Text == "" {
		c.wrong("check.sign-in", "the check of signing in needs page, fields, and then with get and expect.text",
			"See “Checks” in docs/kit.md.")
	}
	for name, v := range s.Fields {
		c.places("check.sign-in.fields."+name, v)
	}
	if q := c.Check.Database; q != nil {
		c.query("check.database.query", q.Query)
		c.places("check.database.is", q.Is)
	}
}
