package draft

import (
	"context"
	"io/fs"
	"path"
	"slices"
	"strings"
)

// App is an unpacked app that is looked at.
type App struct {
	files fs.FS
	names []string         // of files, sorted
	dirs  map[string]int   // folders, with how many files are in and below each
	sizes map[string]int64 // of files
	texts map[string]string
}

// largestText is how many bytes of a file are looked into.
const largestText = 512 << 10

// texts are the kinds of files that are looked into.
var readable = lazily(
	`(?i)(\.(php\d?|inc|phtml|html?|tpl|twig|json|sql|ini|conf|cfg|ya?ml|toml|xml|txt|md)|` +
		`\.(dist|sample|example|default|env|lock)|(^|/)(\.env[^/]*|VERSION|LICEN[CS]E|COPYING|README))$`,
)

// others are folders of code that is not the app's own.
var others = lazily(`(?i)(^|/)(vendor|node_modules|bower_components|tests?|\.git|libs?/[^/]+/tests?)/`)

// Open lists an app's files.
func Open(ctx context.Context, files fs.FS) (*App, error) {
	a := &App{files: files, dirs: map[string]int{}, sizes: map[string]int64{}, texts: map[string]string{}}
	err := fs.WalkDir(files, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || ctx.Err() != nil {
			return cmpErr(err, ctx.Err())
		}
		if d.IsDir() {
			if name != "." {
				a.dirs[name] += 0
			}
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		a.names, a.sizes[name] = append(a.names, name), info.Size()
		for at := path.Dir(name); at != "."; at = path.Dir(at) {
			a.dirs[at]++
		}
		return nil
	})
	slices.Sort(a.names)
	return a, err
}

func cmpErr(all ...error) error {
	for _, err := range all {
		if err != nil {
			return err
		}
	}
	return nil
}

// text gives a file's text; empty for what is no text, or too large to be looked into.
func (a *App) text(name string) string {
	if text, known := a.texts[name]; known {
		return text
	}
	text := ""
	if a.sizes[name] <= largestText && (readable.MatchString(name) ||
		sampleName.MatchString(path.Base(name))) {
		if b, err := fs.ReadFile(a.files, name); err == nil {
			text = string(b)
		}
	}
	a.texts[name] = text
	return text
}

// own lists the app's own files that can be looked into, those near the top first.
func (a *App) own(fits *pattern) []string {
	var out []string
	for _, name := range a.names {
		if fits.MatchString(name) && !others.MatchString(name) {
			out = append(out, name)
		}
	}
	slices.SortStableFunc(out, func(x, y string) int { return strings.Count(x, "/") - strings.Count(y, "/") })
	return out
}

// has says whether a file is there.
func (a *App) has(name string) bool { _, there := a.sizes[name]; return there }

var php = lazily(`(?i)\.(php\d?|inc|phtml)$`)

// Bytes is how large the app is, unpacked.
func (a *App) Bytes() (sum int64) {
	for _, n := range a.sizes {
		sum += n
	}
	return sum
}
