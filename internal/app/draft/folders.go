package draft

import (
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
)

var (
	writtenName = lazily(
		`(?i)^(_?cache|caches|compiled|compile|templates?_c|tmp|temp|uploads?|userfiles|attachments|` +
			`data|var|logs?|sessions?|storage|media|thumbs?|thumbnails|backups?|pagecache|db)$`,
	)
	compiledName = lazily(`(?i)^(compiled|compile|templates?_c)$`)
	hiddenName   = lazily(
		`(?i)^(config|conf|settings|includes?|inc|lib|libs|src|app|application|classes|vendor|cli|bin|` +
			`sql|schema|migrations?|data|var|logs?|sessions?|storage|backups?|db|cache|tmp|temp|templates?_c|compiled|pagecache)$`,
	)
	keepers = lazily(
		`(?i)(^|/)(\.htaccess|\.gitkeep|\.gitignore|\.keep|index\.html?|index\.php|web\.config|readme[^/]*|empty)$`,
	)
	cronName  = lazily(`(^|/)[a-z_.-]*(cron|daemon|worker|queue)[a-z_.-]*\.php$`) // no names of classes
	sampleRef = lazily(`(?i)(^|/)(samples?|demo|examples?)(/|[^/]*\.sql$)`)
)

// Written are the folders that the app seems to write in, and those of them in which it
// makes programs of its own.
func (a *App) Written() (written, compiled []string) {
	for dir := range a.dirs {
		base := path.Base(dir)
		if !writtenName.MatchString(base) || strings.Count(dir, "/") > 1 || others.MatchString(dir+"/") {
			continue
		}
		switch {
		case !a.empty(dir) && !slices.Contains([]string{"data", "uploads", "upload", "cache", "tmp", "var"}, base),
			a.programs(dir) > 3: // a folder of code that is called so
		case compiledName.MatchString(base):
			compiled = append(compiled, dir)
		default:
			written = append(written, dir)
		}
	}
	slices.Sort(written)
	slices.Sort(compiled)
	return outermost(written), outermost(compiled)
}

// outermost leaves out what lies in another of the list.
func outermost(all []string) []string {
	var out []string
	for _, dir := range all {
		if !slices.ContainsFunc(out, func(o string) bool { return strings.HasPrefix(dir, o+"/") }) {
			out = append(out, dir)
		}
	}
	return out
}

// empty says whether a folder holds only what keeps it there.
func (a *App) empty(dir string) bool {
	for _, name := range a.names {
		if strings.HasPrefix(name, dir+"/") && !keepers.MatchString(name) {
			return false
		}
	}
	return true
}

func (a *App) programs(dir string) (n int) {
	for _, name := range a.names {
		if strings.HasPrefix(name, dir+"/") && php.MatchString(name) && !keepers.MatchString(name) {
			n++
		}
	}
	return n
}

// Hidden are the folders at the top that the web has no business in, by their names.
func (a *App) Hidden() []string {
	var out []string
	for dir := range a.dirs {
		if !strings.Contains(dir, "/") && hiddenName.MatchString(dir) && !a.shown(dir) {
			out = append(out, dir)
		}
	}
	slices.Sort(out)
	return out
}

var shownFile = lazily(`(?i)\.(css|js|png|jpe?g|gif|svg|woff2?|ttf|ico)$`)

// shown says whether a folder holds what pages need: style sheets, scripts, pictures.
func (a *App) shown(dir string) bool {
	return slices.ContainsFunc(a.names, func(name string) bool {
		return strings.HasPrefix(name, dir+"/") && shownFile.MatchString(name)
	})
}

// Timers are the programs that somebody has to run every so often, by their names.
func (a *App) Timers() []string {
	out := a.own(cronName)
	return slices.DeleteFunc(out, func(name string) bool { return strings.Count(name, "/") > 2 })
}

// Samples are what seems to be sample content.
func (a *App) Samples() []string {
	var out []string
	for _, name := range a.own(sampleRef) {
		if strings.HasSuffix(name, ".sql") {
			out = append(out, name)
		}
	}
	return out
}

// Rewriting says whether the app's addresses have to be passed on to it.
func (a *App) Rewriting() bool {
	text := ""
	if b, err := readAll(a.files, ".htaccess"); err == nil {
		text = b
	}
	return strings.Contains(text, "RewriteRule")
}

// readAll reads a file of at most 16 MB.
func readAll(files fs.FS, name string) (string, error) {
	f, err := files.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, 16<<20))
	return string(b), err
}
