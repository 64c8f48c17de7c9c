package kit

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Step is one step of the set-up. Exactly one of its
// kinds (stepKinds) is set; what else there is goes with one of them.
type Step struct {
	SQL     *SQLFile          `yaml:"sql"`
	RunSQL  string            `yaml:"run-sql"` // one statement; {tables} is the table prefix
	With    map[string]string `yaml:"with"`    // values for the :names of run-sql
	Request *Request          `yaml:"request"`
	// a program of the account's, run in the app's folder; the first word is php
	Command []string `yaml:"command"`
	Input   string   `yaml:"input"`  // what the command reads, and the only place for secrets
	Time    string   `yaml:"time"`   // for how long the command may run, such as 2m; 5m when left out
	Expect  *Expect  `yaml:"expect"` // what the command prints, text and not-text
	Remove  []string `yaml:"remove"` // files and folders to take away
	Write   *Written `yaml:"write"`  // a file to write
	When    string   `yaml:"when"`   // a condition; always when left out
	// in an update: the release that needs the step, which is left out where the site has that one already
	Since string `yaml:"since"`
}

// Written is a file of the app's that a step writes: no program, and nothing that its
// owner changes, which is configuration.
type Written struct {
	File string `yaml:"file"` // below the app's folder
	Text string `yaml:"text"` // with values in it, as they are
	Mode string `yaml:"mode"` // octal; 0644 when left out
}

// SQLFile is a script of the archive to run in the site's database.
type SQLFile struct {
	File   string `yaml:"file"`
	Tables string `yaml:"tables"` // the prefix in the file that the site's own prefix replaces
}

// Request asks the app's own pages for something, as a browser would. Cookies
// last from one request of the set-up to the next.
type Request struct {
	Get    string            `yaml:"get"`    // below the app's address
	Post   string            `yaml:"post"`   // where a form goes that is not read off a page
	Form   string            `yaml:"form"`   // "page": send the form of the page got last, with its own defaults
	Fields map[string]string `yaml:"fields"` // what to put into the form
	Expect Expect            `yaml:"expect"`
}

// Expect is how an answer of the app is judged.
type Expect struct {
	Status  int    `yaml:"status"`   // 200 when left out
	Text    string `yaml:"text"`     // must be in the page
	NotText string `yaml:"not-text"` // must not be in the page
}

// StepKind is one kind of set-up step: all that this package and those above it
// know of it. How it is carried out stands in the package setup, under its Key.
type StepKind struct {
	Key   string // in the kit's file
	Pages bool   // it needs the app's own pages, which strangers must not reach meanwhile
	Data  bool   // it changes the site's database directly
	Still bool   // it cannot change the site's data: it works on the app's own files alone

	is    func(Step) bool
	label func(Step) string // what it does, for people
	check func(c *checker, key string, s Step)
}

// stepKinds are the kinds. A new one is an entry here, its fields in Step, and
// a file in the package setup.
var stepKinds = []StepKind{
	{Key: "sql", Data: true,
		is:    func(s Step) bool { return s.SQL != nil },
		label: func(s Step) string { return "Load " + s.SQL.File },
		check: (*checker).sqlStep},
	{Key: "run-sql", Data: true,
		is:    func(s Step) bool { return s.RunSQL != "" },
		label: func(Step) string { return "Set the site up in its database" },
		check: func(c *checker, key string, s Step) { c.query(key, s.RunSQL) }},
	{Key: "request", Pages: true,
		is: func(s Step) bool { return s.Request != nil },
		label: func(s Step) string {
			if s.Request.Get != "" {
				return "Open the app's set-up page"
			}
			return "Send the app's set-up form"
		},
		check: func(c *checker, key string, s Step) { c.request(key, *s.Request) }},
	{Key: "command",
		is:    func(s Step) bool { return len(s.Command) > 0 },
		label: func(Step) string { return "Run the app's own set-up" },
		check: (*checker).commandStep},
	{Key: "write", Still: true,
		is:    func(s Step) bool { return s.Write != nil },
		label: func(s Step) string { return "Write " + s.Write.File },
		check: (*checker).writeStep},
	{Key: "remove", Still: true,
		is:    func(s Step) bool { return len(s.Remove) > 0 },
		label: func(Step) string { return "Take away what only the set-up needs" },
		check: func(c *checker, key string, s Step) {
			for _, p := range s.Remove {
				c.inside(key, p)
			}
		}},
}

// StepKinds lists the kinds that there are.
func StepKinds() []StepKind { return slices.Clone(stepKinds) }

// kinds are those that a step is of: one, unless the kit is wrong.
func (s Step) kinds() []StepKind {
	return slices.DeleteFunc(StepKinds(), func(k StepKind) bool { return !k.is(s) })
}

// Kind is the kind of a step of a kit that was read; the zero kind of a step
// that is none.
func (s Step) Kind() StepKind {
	if all := s.kinds(); len(all) > 0 {
		return all[0]
	}
	return StepKind{}
}

// Label words what a step does, for people.
func (s Step) Label() string {
	if k := s.Kind(); k.label != nil {
		return k.label(s)
	}
	return "Do nothing"
}

// ByForms says whether the set-up uses the app's own pages, which strangers
// must not reach meanwhile.
func (k *Kit) ByForms() bool { return ByForms(k.Setup) }

// ByForms says whether steps use the app's own pages.
func ByForms(steps []Step) bool {
	return slices.ContainsFunc(steps, func(s Step) bool { return s.Kind().Pages })
}

// Patience is for how long a command may run.
func (s Step) Patience() time.Duration {
	if d, err := time.ParseDuration(s.Time); err == nil {
		return d
	}
	return 5 * time.Minute
}

// steps checks a list of steps: each is of one kind, and what goes with it is
// in order.
func (c *checker) steps(list string, steps []Step) {
	for i, s := range steps {
		key := fmt.Sprintf("%s.%d", list, i)
		if s.Since != "" && (list != "update.steps" || c.Find(s.Since) == nil && !c.FollowsUpstream()) {
			c.wrong(key+".since", fmt.Sprintf("since cannot be %q here", s.Since),
				"It names one of the releases, in a step below update:.")
		}
		kinds := s.kinds()
		for _, k := range kinds {
			k.check(c, key+"."+k.Key, s)
		}
		if len(kinds) != 1 {
			c.wrong(key, "a step is one of "+stepKeys(), "Make it several steps.")
		}
		if len(s.Command) == 0 && (s.Input+s.Time != "" || s.Expect != nil) {
			c.wrong(key, "input, time and expect of a step go with command", "Put the expect of a request below request:.")
		}
		c.condition(key+".when", s.When, c.answers())
		for name, v := range s.With {
			c.places(key+".with."+name, v)
		}
	}
}

func stepKeys() string {
	var keys []string
	for _, k := range stepKinds {
		keys = append(keys, k.Key)
	}
	return strings.Join(keys, ", ")
}

func (c *checker) sqlStep(key string, s Step) {
	c.inside(key+".file", s.SQL.File)
	c.places(key+".file", s.SQL.File)
	if s.SQL.Tables != "" && !table.MatchString(s.SQL.Tables) {
		c.wrong(key+".tables", fmt.Sprintf("%q is not a table prefix", s.SQL.Tables), "Write it as app_.")
	}
}

// runs are files that a server runs, or that tell it to run others.
var runs = regexp.MustCompile(`(?i)(\.(php\d?|phtml|phar|inc|cgi|pl|py|sh)|(^|/)\.(htaccess|user\.ini))$`)

func (c *checker) writeStep(key string, s Step) {
	c.inside(key+".file", s.Write.File)
	c.places(key+".text", s.Write.Text)
	if s.Write.Mode != "" && !mode.MatchString(s.Write.Mode) {
		c.wrong(key+".mode", fmt.Sprintf("%q is not a file mode", s.Write.Mode), `Write it as "0644".`)
	}
	if runs.MatchString(s.Write.File) {
		c.wrong(key+".file", s.Write.File+" is a program, in which a value has to be quoted",
			"Write it under config:, with its format.")
	}
	if list, _, _ := strings.Cut(key, "."); list == "renew" || list == "moved" || list == "try" {
		c.wrong(key, "write cannot stand in "+list+", which works on a site that is there",
			"Write the file in the set-up or in an update, or keep the value in the configuration.")
	}
}

func (c *checker) commandStep(key string, s Step) {
	c.command(key, s.Command)
	step := strings.TrimSuffix(key, ".command")
	c.places(step+".input", s.Input)
	if _, err := time.ParseDuration(s.Time); err != nil && s.Time != "" {
		c.wrong(step+".time", fmt.Sprintf("%q is not a time", s.Time), "Write it as 90s or 5m.")
	}
	if s.Expect != nil {
		c.places(step+".expect", s.Expect.Text+s.Expect.NotText)
	}
}
