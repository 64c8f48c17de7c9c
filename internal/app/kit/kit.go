// Package kit reads kits: the descriptions of apps that Tivset can install.
//
// A kit is a folder with kit.yaml and the files that it names. The format has
// a version number (kit: 1); docs/kit.md describes it for those who write kits
// or another program that reads them. Reading is strict: an unknown key, a
// wrong type or a missing file is an error with file, line and remedy. A kit
// is data and never runs anything on the operator's machine.
package kit

import (
	"io/fs"
	"maps"
	"regexp"
	"slices"

	"github.com/dustin/go-humanize"
	"go.yaml.in/yaml/v3"

	"tivset/internal/answer"
	"tivset/internal/app/fill"
	"tivset/internal/app/version"
)

// Version is the version of the format that this package reads.
const Version = 1

// Kit is one app's description.
type Kit struct {
	Format    int              `yaml:"kit"`
	App       string           `yaml:"app"`     // the name in commands: lower case letters, digits, -
	Title     string           `yaml:"title"`   // the name that people read
	Kind      string           `yaml:"kind"`    // what the app is for
	Summary   string           `yaml:"summary"` // one line
	About     string           `yaml:"about"`   // a Markdown file about the app's features
	Home      string           `yaml:"home"`
	Licence   Licence          `yaml:"licence"`
	Languages []string         `yaml:"languages"` // language tags (BCP 47), the default first
	Releases  []Release        `yaml:"releases"`
	Archive   Origin           `yaml:"archive"` // where the releases come from by themselves
	Needs     Needs            `yaml:"needs"`   // what releases that come by themselves need
	Questions []Question       `yaml:"questions"`
	Limits    map[string]Limit `yaml:"limits"` // what the app bears of answers that every app has, by their ids
	Extras    []Extra          `yaml:"extras"`
	Place     Place            `yaml:"place"`

	PHPSettings map[string]string `yaml:"php-settings"` // that the app brings with it, the least values of php.ini

	Config  []Config             `yaml:"config"`
	Secrets map[string]Secret    `yaml:"secrets"` // made anew for each site: {secret.NAME}
	Values  map[string]PerEngine `yaml:"values"`  // put together from others: {value.NAME}
	Setup   []Step               `yaml:"setup"`
	Timers  []Timer              `yaml:"timers"`
	Check   Check                `yaml:"check"`
	Admin   string               `yaml:"admin"` // where the admin area is, below the site's address
	Update  Update               `yaml:"update"`
	Stored  []Stored             `yaml:"addresses"` // where the app stores its address
	Now     map[string]Now       `yaml:"now"`       // how what owners change is read, by its name (NowNames)
	// what a copy needs besides: that it sends no mail, is not found by search engines
	Copied []Step `yaml:"copied"`
	// what a site that has come to another place needs besides
	Moved []Step `yaml:"moved"`
	// what gives the admin the password {admin.password}; the configuration is written anew by itself
	Renew []Step     `yaml:"renew"`
	Known *Recognise `yaml:"recognise"` // how to know the app where somebody else installed it
	Try   Try        `yaml:"try"`       // what a trial of the kit needs to know
	// own (when left out): made by the set-up; elsewhere: one that is there, such as a mailbox
	Account string `yaml:"admin-account"`

	// why its releases could not be looked up now; those that were known before hold
	LookupErr error `yaml:"-"`

	files fs.FS
	lines map[string]int  // the line of each key, by its path
	used  map[string]bool // the values that its texts and templates use
}

// PerEngine is a text with places; for values, it may be another with each engine.
type PerEngine struct {
	All string
	By  map[string]string // by engine
}

// For gives the text that holds with an engine.
func (t PerEngine) For(engine string) string {
	if text, ok := t.By[engine]; ok {
		return text
	}
	return t.All
}

// Names lists the values that it has places for, with any engine.
func (t PerEngine) Names() []string {
	var out []string
	for _, text := range append(slices.Collect(maps.Values(t.By)), t.All) {
		for _, p := range fill.Parse(text) {
			if p.Name != "" {
				out = append(out, p.Name)
			}
		}
	}
	return out
}

// UnmarshalYAML reads a text, or texts by engine.
func (t *PerEngine) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind == yaml.MappingNode {
		return n.Decode(&t.By)
	}
	return n.Decode(&t.All)
}

// Licence is what the app is licensed under.
type Licence struct {
	Name       string `yaml:"name"`
	Text       string `yaml:"text"`        // a file with the whole text
	MustAccept bool   `yaml:"must-accept"` // the owner has to say yes
}

// Release is one version of the app.
type Release struct {
	Release string  `yaml:"release"`
	Date    string  `yaml:"date"`   // YYYY-MM-DD
	Level   string  `yaml:"level"`  // fixes, features or breaking, against the release before
	Urgent  bool    `yaml:"urgent"` // it fixes a security hole
	Fixes   string  `yaml:"fixes"`  // until when it gets fixes, YYYY-MM-DD, where that is known
	Archive Archive `yaml:"archive"`
	Needs   Needs   `yaml:"needs"`
}

// Archive says where a release's files come from. One of From and Name is set.
type Archive struct {
	From   string `yaml:"from"`   // an https address, or a file of the kit
	Name   string `yaml:"name"`   // a file that the owner has to fetch
	Fetch  string `yaml:"fetch"`  // with Name: how to fetch it
	SHA256 string `yaml:"sha256"` // of the archive, in hexadecimal
	Top    string `yaml:"top"`    // the folder inside that holds the app; it is stripped

	Packages *Packages `yaml:"-"` // what it is made of, in place of all that is above
}

// Needs are a release's requirements.
type Needs struct {
	PHP      *PHP              `yaml:"php"`
	Database map[string]string `yaml:"database"` // engine to version range; none when empty
	Space    string            `yaml:"space"`    // such as 40MB
}

// PHP is what a release needs of the PHP runtime.
type PHP struct {
	Version     string            `yaml:"version"`
	Extensions  []string          `yaml:"extensions"`
	Functions   []string          `yaml:"functions"` // that hosts are known to switch off
	Settings    map[string]string `yaml:"settings"`  // the least values of php.ini, such as upload_max_filesize: 8M
	Recommended *PHPWish          `yaml:"recommended"`
}

// PHPWish is what is better to have; a warning when it is not there.
type PHPWish struct {
	Version    string            `yaml:"version"`
	Extensions []string          `yaml:"extensions"`
	Functions  []string          `yaml:"functions"`
	Settings   map[string]string `yaml:"settings"`
}

// Wish gives the requirements alone.
func (p *PHP) Wish() PHPWish { return PHPWish{p.Version, p.Extensions, p.Functions, p.Settings} }

// Ask is a question of the app's own.
type Question struct {
	ID       string   `yaml:"id"`
	Text     string   `yaml:"text"`
	Kind     string   `yaml:"kind"`  // one of answer.Kinds
	Group    string   `yaml:"group"` // site (when left out), data, admin or care
	Default  string   `yaml:"default"`
	Options  []string `yaml:"options"` // for one-of and several-of
	Pattern  string   `yaml:"pattern"` // a regular expression (RE2) for the whole answer
	Hint     string   `yaml:"hint"`    // what the pattern asks for, in words
	Secret   bool     `yaml:"secret"`  // typed unseen, kept in the vault
	Needed   bool     `yaml:"needed"`
	NeededIf string   `yaml:"needed-if"` // a condition: asked only then, and needed
	AskedIf  string   `yaml:"asked-if"`  // a condition: asked only then
	Help     string   `yaml:"help"`
}

// Condition gives when the question is asked: when both of its conditions hold. One that is broken,
// as no kit has that was read, never does.
func (a Question) Condition() answer.Condition {
	var both answer.Condition
	for _, text := range []string{a.NeededIf, a.AskedIf} {
		c, err := answer.ParseCondition(text)
		if err != nil {
			return answer.Never
		}
		both = both.And(c)
	}
	return both
}

// Limit is what an app bears of an answer.
type Limit struct {
	Pattern string `yaml:"pattern"` // a regular expression (RE2) for the whole answer
	Hint    string `yaml:"hint"`    // what it asks for, in words
}

// Fits says whether an answer is within the limit.
func (l Limit) Fits(value string) bool {
	re, err := regexp.Compile("^(?:" + l.Pattern + ")$")
	return err == nil && re.MatchString(value)
}

// Limited are the answers that a kit may limit.
var Limited = []string{"title", answer.Subtitle, answer.AdminName, answer.AdminEmail, answer.AdminPassword,
	answer.AdminFirstName,
	answer.AdminLastName}

// Extra is something optional that comes with the app.
type Extra struct {
	ID      string              `yaml:"id"`
	Text    string              `yaml:"text"` // the usual wording when left out
	Kind    string              `yaml:"kind"` // yes-no (when left out), one-of or several-of
	Default string              `yaml:"default"`
	Options []string            `yaml:"options"`
	Parts   map[string][]string `yaml:"parts"`   // by option (yes for yes-no): the parts of the archive that only it needs
	Warning string              `yaml:"warning"` // said in the review when it is chosen
	Help    string              `yaml:"help"`
}

// Answer is the id of the answer that chooses the extra.
func (e Extra) Answer() string { return "extra." + e.ID }

// Place is how the app lies in its folder.
type Place struct {
	Remove []string `yaml:"remove"` // parts of the archive that a site does not need
	Deny   []string `yaml:"deny"`   // what the web must never show; asked for after the install
	// a folder of the archive that every site gets under another name: {admin.folder}
	AdminFolder string `yaml:"admin-folder"`
	// where the app writes: what is there is the site's, and no release replaces it
	Written []string `yaml:"written"`
	// where app and owner both put things, such as extensions: the release's files are compared, others are the owner's
	Mixed []string `yaml:"mixed"`
	// where the app writes programs of its own making, which nobody can judge
	Compiled []string `yaml:"compiled"`
	// pages that stay as the release has them while a site is checked, for the app looks at itself: visitors come in there
	Untouched  []string `yaml:"untouched"`
	Rewriting  bool     `yaml:"rewriting"`   // the server has to pass the app's addresses on to it (.htaccess)
	DataFolder bool     `yaml:"data-folder"` // the app keeps files outside of the document root: {data.folder}
}

// Written lists where the app itself writes, whatever it is.
func (p Place) Writes() []string { return slices.Concat(p.Written, p.Compiled) }

// Update is how the app goes from one release to another.
type Update struct {
	// parts of the app's folder that no release replaces; configuration and what is writable are kept by themselves
	Keep  []string `yaml:"keep"`
	Steps []Step   `yaml:"steps"` // carried out in the new release, in order; since says for which
}

// Stored is where the app keeps its address and its folders besides its
// configuration. Either Table or one of the others is set.
type Stored struct {
	Table  string `yaml:"table"`  // without the prefix; * for all
	Column string `yaml:"column"` // * for all, as when left out
	// files below the app's folder, or below its data folder, by a pattern: * for any part of a name
	Files     string `yaml:"files"`
	DataFiles string `yaml:"data-files"`
}

// Try is what a trial needs to know that lives a site's life.
type Try struct {
	Answers map[string]string `yaml:"answers"` // to questions that have no default; {try.mail} is a mail server
	Title   []Step            `yaml:"title"`   // what an owner does who changes the title in the app
}

// Recognise says how an app is known by its files.
type Recognise struct {
	File    string `yaml:"file" json:"file"`       // below the app's folder
	Pattern string `yaml:"pattern" json:"pattern"` // a regular expression (RE2) whose group 1 is the release
}

// Timer is a job that the app needs run every so often. One of Get and Command
// is set.
type Timer struct {
	Every   string   `yaml:"every"`   // a number and m or h, such as 5m
	Get     string   `yaml:"get"`     // the page to fetch, below the site's address
	Command []string `yaml:"command"` // the program to run in the site's folder; the first word is php
	What    string   `yaml:"what"`    // what it does, for people
	When    string   `yaml:"when"`    // a condition; always when left out
}

// Config is a configuration file to write, or a PHP file of the archive in
// which constants get other values.
type Config struct {
	Path     string `yaml:"path"`     // below the app's folder
	Template string `yaml:"template"` // a file of the kit
	Format   string `yaml:"format"`
	Mode     string `yaml:"mode"` // octal; 0640 when left out
	// written when the set-up is over, in the place of what the app's own pages wrote
	After bool `yaml:"after-setup"`
	// a site that somebody else installed may be without it
	Optional bool              `yaml:"optional"`
	Constant map[string]string `yaml:"set-constant"` // by name, the new value of a constant that the file sets once
}

// Secret is a random string made for each site.
type Secret struct {
	Length int    `yaml:"length"`
	Of     string `yaml:"of"` // alnum
	// a copy gets one of its own: nothing in the data was made with it
	Anew bool `yaml:"anew"`
}

// Anew lists the vault's names of the secrets that a copy gets anew.
func (k *Kit) Anew() []string {
	var out []string
	for name, s := range k.Secrets {
		if s.Anew {
			out = append(out, "secret."+name)
		}
	}
	slices.Sort(out)
	return out
}

// Check is how to know that a site works.
type Check struct {
	Front    Request     `yaml:"front"`
	SignIn   SignIn      `yaml:"sign-in"`
	Database *CheckQuery `yaml:"database"`
}

// SignIn signs in as the admin: the form on Page is sent with Fields, then
// Then is fetched, where only somebody signed in sees Then.Expect.
type SignIn struct {
	Page   string            `yaml:"page"`
	Post   string            `yaml:"post"` // where to send Fields, when the page has no form
	Fields map[string]string `yaml:"fields"`
	Then   Request           `yaml:"then"`
}

// CheckQuery asks the site's database, with the site's own credentials.
type CheckQuery struct {
	Query string `yaml:"query"`
	Is    string `yaml:"is"`
}

// AccountElsewhere says that people sign in with accounts that the app does not
// make, such as those of a mail server.
func (k *Kit) AccountElsewhere() bool { return k.Account == elsewhere }

const elsewhere = "elsewhere"

// Files gives the kit's folder.
func (k *Kit) Files() fs.FS { return k.files }

// Newest returns the newest release; an empty one where none has been looked up.
func (k *Kit) Newest() *Release {
	if len(k.Releases) == 0 {
		return &Release{}
	}
	return &k.Releases[0]
}

// Find returns the release of a version, or nil; of releases that came as packages
// also the newest of the app's own version.
func (k *Kit) Find(wanted string) *Release {
	for _, name := range []func(*Release) string{func(r *Release) string { return r.Release }, (*Release).Upstream} {
		for i := range k.Releases {
			if name(&k.Releases[i]) == wanted {
				return &k.Releases[i]
			}
		}
	}
	return nil
}

// Versions lists the releases, newest first.
func (k *Kit) Versions() []string {
	out := make([]string, len(k.Releases))
	for i := range k.Releases {
		out[i] = k.Releases[i].Release
	}
	return out
}

// NeedsDatabase says whether the release uses a database at all.
func (r *Release) NeedsDatabase() bool { return len(r.Needs.Database) > 0 }

// Between lists the releases after one, up to and with another, newest first.
func (k *Kit) Between(after, to string) []Release {
	var out []Release
	for _, r := range k.Releases {
		if version.Newer(r.Release, after) && !version.Newer(r.Release, to) {
			out = append(out, r)
		}
	}
	if k.FollowsUpstream() && len(out) > 0 { // the release that it is compared with may be gone
		out[len(out)-1].Level = version.Level(after, out[len(out)-1].Release)
	}
	return out
}

// Holds says whether what changes with the place is replaced in a column: in all,
// unless the kit says in which. Tables are given without their prefix.
func (k *Kit) Holds(table, column string) bool {
	said := false
	for _, s := range k.Stored {
		if s.Table == "" {
			continue
		}
		said = true
		if (s.Table == "*" || s.Table == table) && (s.Column == "*" || s.Column == "" || s.Column == column) {
			return true
		}
	}
	return !said
}

// UsesTables says whether the app's tables can begin with any prefix.
func (k *Kit) UsesTables() bool { return k.Uses("tables") || k.prefixes() }

func (k *Kit) prefixes() bool {
	for _, s := range k.Setup {
		if s.SQL != nil && s.SQL.Tables != "" {
			return true
		}
	}
	return false
}

// Disk is how many bytes the release says that it needs; 0 when it does not.
func (r *Release) Space() int64 {
	n, err := humanize.ParseBytes(r.Needs.Space)
	if err != nil {
		return 0
	}
	return int64(n)
}
