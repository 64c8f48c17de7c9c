package kit

import (
	"cmp"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/app/fill"
)

// NowNames are the values that owners change in the app, and that are read from
// it as they are.
var NowNames = []string{"title", answer.Subtitle, "language", answer.AdminName, answer.AdminEmail}

// Now says where the app keeps one of these values: the first value of a query,
// a constant or the first group of a pattern in a file, or that in a page.
type Now struct {
	Query    string            `yaml:"query"`    // {tables} is the table prefix
	With     map[string]string `yaml:"with"`     // values for the :names of the query
	File     string            `yaml:"file"`     // below the app's folder
	Constant string            `yaml:"constant"` // of a PHP file, set once as a plain string
	Get      string            `yaml:"get"`      // a page, below the app's address
	Pattern  string            `yaml:"pattern"`  // a regular expression (RE2) with one group
	As       string            `yaml:"as"`       // html: the app keeps the value escaped, as its pages show it
}

// AsHTML is how values are kept that are escaped as HTML.
const AsHTML = "html"

// Told lists the templates in which a value stands so that it can be read back from the
// files that were written after them.
func (k *Kit) Told(name string) []Config {
	var out []Config
	for _, c := range k.Config {
		text, err := fs.ReadFile(k.files, path.Clean(c.Template))
		if c.Template == "" || err != nil {
			continue
		}
		if slices.ContainsFunc(fill.Parse(string(text)), func(p fill.Part) bool {
			_, back := fill.Back(p, "")
			return p.Name == name && back
		}) {
			out = append(out, c)
		}
	}
	return out
}

// ReadsNow says whether a value can be read from the app as it is.
func (k *Kit) ReadsNow(name string) bool {
	_, said := k.Now[name]
	return said || len(k.Told(name)) > 0
}

// now checks how the site is read as it is.
func (c *checker) now() {
	for _, name := range slices.Sorted(maps.Keys(c.Now)) {
		key := "now." + name
		c.oneOf(key, name, NowNames)
		c.nowOne(key, c.Now[name])
	}
}

func (c *checker) nowOne(key string, n Now) {
	form := strings.Join(n.form(), " and ")
	if !slices.Contains([]string{"query", "file and constant", "file and pattern", "get and pattern"}, form) {
		c.wrong(
			key,
			fmt.Sprintf("it is read by a query, by a file with a constant or a pattern, or by get with a pattern; not "+
				"by %q", form),
			"Write {query: …}, {file: …, constant: …}, {file: …, pattern: …} or {get: …, pattern: …}.",
		)
	}
	if n.As != "" {
		c.oneOf(key+".as", n.As, []string{AsHTML})
	}
	if n.File != "" {
		c.inside(key+".file", n.File)
	}
	if re, err := regexp.Compile(n.Pattern); n.Pattern != "" && (err != nil || re.NumSubexp() != 1) {
		c.wrong(key+".pattern", "the pattern needs one group, which holds the value", `Write it as "<title>(.*?)</title>".`)
	}
	if n.Constant != "" && !constantName.MatchString(n.Constant) {
		c.wrong(key+".constant", fmt.Sprintf("%q is not the name of a constant", n.Constant), "Write it as SITE_TITLE.")
	}
	c.query(key+".query", n.Query)
	c.places(key+".get", n.Get)
	for name, v := range n.With {
		c.places(key+".with."+name, v)
	}
}

// form names the keys that are there.
func (n Now) form() []string {
	var out []string
	for _, k := range []struct{ key, value string }{{"query", n.Query}, {"file", n.File}, {"get", n.Get},
		{"constant", n.Constant}, {"pattern", n.Pattern}} {
		if k.value != "" {
			out = append(out, k.key)
		}
	}
	return out
}

// Doubts lists what of a kit is no mistake and will not do for long.
func (k *Kit) Doubts() []string {
	var out []string
	for _, p := range fill.Parse(k.Check.Front.Expect.Text) {
		if slices.Contains(NowNames, p.Name) {
			out = append(out, fmt.Sprintf("%s: the check of the front page looks for {%s}, which owners change: name a text "+
				"that is the app's own", k.At("check.front"), p.Name))
		}
	}
	for _, name := range []string{"title", answer.AdminName} {
		if k.Uses(name) && !k.ReadsNow(name) && !(name == answer.AdminName && k.AccountElsewhere()) {
			out = append(out, fmt.Sprintf("%s: nothing says how {%s} is read when the owner has changed it: add it below now:",
				k.At("now"), name))
		}
	}
	return append(out, k.links()...)
}

// links finds what in the kit's folder only leads to a file: what it leads to may be another one elsewhere.
func (k *Kit) links() (out []string) {
	// A folder that cannot be listed has none; what git keeps is not packed.
	_ = fs.WalkDir(k.files, ".", func(name string, d fs.DirEntry, err error) error {
		switch {
		case err == nil && d.IsDir() && strings.HasPrefix(d.Name(), ".git"):
			return fs.SkipDir
		case err == nil && d.Type()&fs.ModeSymlink != 0:
			out = append(out, name+" is a link: put the file itself in its place, the kit is to be the same everywhere")
		}
		return nil
	})
	return out
}

// NowWord names such a value for people.
func NowWord(name string) string {
	words := map[string]string{answer.AdminName: "admin's name", answer.AdminEmail: "admin's e-mail address"}
	return cmp.Or(words[name], name)
}

// RenewsPassword says whether the kit can give the admin another password: by steps, or
// in the configuration, where the app keeps it.
func (k *Kit) RenewsPassword() bool {
	return !k.AccountElsewhere() && (len(k.Renew) > 0 || slices.ContainsFunc(k.Config, func(c Config) bool {
		text, err := fs.ReadFile(k.files, path.Clean(c.Template))
		return c.Template != "" && err == nil && k.names(string(text), answer.AdminPassword)
	}))
}

// names says whether a text has a place for a value, or for one that is put together
// from it.
func (k *Kit) names(text, name string) bool {
	return slices.ContainsFunc(fill.Parse(text), func(p fill.Part) bool {
		other, is := k.Values[strings.TrimPrefix(p.Name, "value.")]
		return p.Name == name || is && slices.Contains(other.Names(), name)
	})
}
