package release

import (
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"tivset/internal/app/archive"
	"tivset/internal/app/catalogue"
	"tivset/internal/app/config"
	"tivset/internal/app/draft"
	"tivset/internal/app/fill"
	"tivset/internal/app/kit"
	"tivset/internal/fault"
)

// Examine opens a release's archive and says what of the kit does not fit what is in
// it: names that are not there, marks that say another release. What cannot be had,
// such as an archive that its owner has to fetch, is an error.
func (a *Archives) Examine(ctx context.Context, k catalogue.Entry, r *kit.Release) ([]fault.Problem, error) {
	file, err := a.Fetch(ctx, k, r, Given{})
	if err != nil {
		return nil, err
	}
	e := &examiner{k: k, r: r, texts: map[string]string{}, names: map[string]bool{}}
	e.wanted = e.looksInto()
	if err := e.read(ctx, file); err != nil {
		e.wrong("releases", err.Error(), "Look at the archive's top folder, and at disk under needs.")
		return e.found, nil
	}
	e.places()
	e.setup()
	e.programs()
	e.tables()
	e.constants()
	e.marks()
	return e.found, nil
}

type examiner struct {
	k      catalogue.Entry
	r      *kit.Release
	wanted []string          // files that are looked into
	texts  map[string]string // their contents
	names  map[string]bool   // of files and folders
	found  []fault.Problem
}

func (e *examiner) wrong(key, what, remedy string) {
	e.found = append(e.found, fault.Problem{ID: e.k.At(key), What: "release " + e.r.Release + ": " + what, Remedy: remedy})
}

// looksInto lists files whose content counts.
func (e *examiner) looksInto() []string {
	var out []string
	if e.k.Known != nil {
		out = append(out, path.Clean(e.k.Known.File))
	}
	for _, c := range e.k.Config {
		if len(c.Constant) > 0 {
			out = append(out, path.Clean(c.Path))
		}
	}
	for _, s := range slices.Concat(e.k.Setup, e.k.Update.Steps) {
		if s.SQL != nil {
			out = append(out, path.Clean(s.SQL.File))
		}
	}
	return out
}

// read reads the archive through.
func (e *examiner) read(ctx context.Context, name string) error {
	file, err := os.Open(name)
	if err != nil {
		return err
	}
	defer file.Close()
	err = archive.Walk(ctx, file, e.r.Archive.Top, limitsOf(e.r), func(x archive.Entry, content io.Reader) error {
		for at := path.Clean(x.Name); at != "."; at = path.Dir(at) {
			e.names[at] = true
		}
		if slices.Contains(e.wanted, path.Clean(x.Name)) {
			text, err := io.ReadAll(io.LimitReader(content, 4<<20))
			e.texts[path.Clean(x.Name)] = string(text)
			return err
		}
		return nil
	})
	if err == nil && len(e.names) == 0 {
		err = fmt.Errorf("there is nothing in the archive below %q", e.r.Archive.Top)
	}
	return err
}

// there complains of a name that the archive does not have.
func (e *examiner) there(key, name string) {
	if name = path.Clean(name); name != "." && !e.names[name] {
		e.wrong(key, "the archive has no "+name, "Correct the name, or take it out.")
	}
}

// places looks at the names that the kit has under place and extras.
func (e *examiner) places() {
	p := e.k.Place
	for i, name := range p.Remove {
		e.there("place.remove."+strconv.Itoa(i), name)
	}
	if p.AdminFolder != "" {
		e.there("place.admin-folder", p.AdminFolder)
	}
	made := slices.Concat(p.Writes(), []string{kit.UserINI})
	for _, c := range e.k.Config {
		made = append(made, c.Path)
	}
	for i, name := range p.Deny {
		if !archive.Skipped(path.Clean(name), made) {
			e.there("place.deny."+strconv.Itoa(i), name)
		}
	}
	for i, x := range e.k.Extras {
		for _, option := range slices.Sorted(maps.Keys(x.Parts)) {
			for _, name := range x.Parts[option] {
				e.there("extras."+strconv.Itoa(i)+".parts", name)
			}
		}
	}
}

// setup looks at what the set-up takes from the archive, with each engine.
func (e *examiner) setup() {
	engines := slices.Sorted(maps.Keys(e.r.Needs.Database))
	for i, s := range e.k.Setup {
		key := "setup." + strconv.Itoa(i)
		if s.SQL != nil {
			for _, engine := range engines {
				if name, err := e.with(engine, s.SQL.File); err == nil {
					e.there(key+".sql.file", name)
				}
			}
		}
		for _, name := range s.Remove {
			if !archive.Skipped(path.Clean(name), e.k.Place.Writes()) {
				e.there(key+".remove", name)
			}
		}
	}
}

// programs looks at the scripts that steps and timers run.
func (e *examiner) programs() {
	script := func(key string, words []string) {
		if len(words) > 1 && !strings.HasPrefix(words[1], "-") && !strings.Contains(words[1], "{") {
			e.there(key+".command", words[1])
		}
	}
	for i, t := range e.k.Timers {
		script("timers."+strconv.Itoa(i), t.Command)
	}
	for list, steps := range e.lists() {
		for i, s := range steps {
			script(list+"."+strconv.Itoa(i), s.Command)
		}
	}
}

// lists are the kit's lists of steps, by their keys.
func (e *examiner) lists() map[string][]kit.Step {
	return map[string][]kit.Step{"setup": e.k.Setup, "update.steps": e.k.Update.Steps, "renew": e.k.Renew,
		"copied": e.k.Copied, "moved": e.k.Moved, "try.title": e.k.Try.Title}
}

var namedTable = regexp.MustCompile(`\{tables\}(\w+)`)

// tables looks whether the tables that the kit names are made, where scripts of the
// archive alone make them.
func (e *examiner) tables() {
	made := e.made()
	if made == nil {
		return
	}
	look := func(key, name string) {
		if name != "" && name != "*" && !made[strings.ToLower(name)] {
			e.wrong(key, "no script of the set-up makes a table "+name, "Correct the name; without the prefix that all have.")
		}
	}
	named := func(key, text string) {
		for _, m := range namedTable.FindAllStringSubmatch(text, -1) {
			look(key, m[1])
		}
	}
	for i, s := range e.k.Stored {
		look("addresses."+strconv.Itoa(i)+".table", s.Table)
	}
	for list, steps := range e.lists() {
		if list == "update.steps" { // which meets the tables of an older release
			continue
		}
		for i, s := range steps {
			named(list+"."+strconv.Itoa(i)+".run-sql", s.RunSQL)
		}
	}
	for name, now := range e.k.Now {
		named("now."+name+".query", now.Query)
	}
	if e.k.Check.Database != nil {
		named("check.database.query", e.k.Check.Database.Query)
	}
}

// made lists the tables that the set-up makes, without their prefix; nil where the app's
// own pages or programs, statements or an update may make some.
func (e *examiner) made() map[string]bool {
	made := map[string]bool{}
	for _, s := range slices.Concat(e.k.Setup, e.k.Update.Steps) {
		switch {
		case s.SQL != nil:
			text, there := e.texts[path.Clean(s.SQL.File)]
			if !there {
				return nil
			}
			for _, name := range draft.Tables(text) {
				made[strings.ToLower(strings.TrimPrefix(name, s.SQL.Tables))] = true
			}
		case s.Kind().Pages, len(s.Command) > 0, makesTables.MatchString(s.RunSQL):
			return nil
		}
	}
	return made
}

var makesTables = regexp.MustCompile(`(?i)\b(create|rename)\b`)

// with fills in what is known of a name before there is a site.
func (e *examiner) with(engine, text string) (string, error) {
	v := fill.Values{"data.engine": engine, "release": e.r.Upstream(), "app": e.k.App}
	for name, value := range e.k.Values {
		if one := value.For(engine); !strings.Contains(one, "{") {
			v["value."+name] = one
		}
	}
	return fill.Text(text, v)
}

// constants looks at the constants that the kit sets in files of the archive.
func (e *examiner) constants() {
	for i, c := range e.k.Config {
		key := "config." + strconv.Itoa(i)
		if len(c.Constant) == 0 {
			continue
		}
		text, there := e.texts[path.Clean(c.Path)]
		if !there {
			e.there(key+".path", c.Path)
			continue
		}
		for _, name := range slices.Sorted(maps.Keys(c.Constant)) {
			if _, err := config.Constant(text, name); err != nil {
				e.wrong(key+".set-constant", err.Error(), "Set a constant that the file sets once.")
			}
		}
	}
}

// marks looks at how the app is known.
func (e *examiner) marks() {
	if e.k.Known == nil {
		return
	}
	text, there := e.texts[path.Clean(e.k.Known.File)]
	if !there {
		e.there("recognise.file", e.k.Known.File)
		return
	}
	re, err := regexp.Compile(e.k.Known.Pattern)
	if err != nil {
		return // said by the check of the kit
	}
	m := re.FindStringSubmatch(text)
	switch {
	case len(m) < 2:
		e.wrong("recognise.pattern", "nothing in "+e.k.Known.File+" fits the pattern", "Look at the file, and correct it.")
	case m[1] != e.r.Upstream():
		e.wrong("recognise.pattern", fmt.Sprintf("by its marks it is %s", m[1]), "Correct the pattern, or the release.")
	}
}
