package author

import (
	"archive/tar"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"tivset/internal/app/archive"
	"tivset/internal/app/debian"
	"tivset/internal/app/draft"
	"tivset/internal/app/version"
	"tivset/internal/fault"
)

// libraries are packages that an app's folder has links into.
var libraries = regexp.MustCompile(`^(php|libjs|fonts|node|libphp)-[a-z0-9.+-]+$`)

// notLibraries are parts of PHP itself: a server has them, or not.
var notLibraries = regexp.MustCompile(
	`^php-(common|cli|fpm|cgi|mysql|pgsql|sqlite3?|curl|gd|intl|json|mbstring|xml|zip|ldap|imap|bcmath|imagick|apcu|redis|` +
		`memcached?|gmp|soap|bz2|tidy|readline|snmp|xmlrpc|gettext|db|pear|mail-mime|net-[a-z]+|all-dev|pspell|enchant)$`,
)

// fromPackage makes an archive of a Debian package, by a recipe that is guessed.
func (a *Author) fromPackage(ctx context.Context, unpacked, name string) (*begun, error) {
	in := a.Archives.Debian
	name, only, of := strings.Cut(name, "/")
	looked := a.suites()
	if of {
		looked = strings.Split(only, ",")
	}
	found := map[string]debian.Package{}
	var suites []string
	var wrong error
	for _, suite := range looked {
		there, err := in.Find(ctx, suite, name)
		if err != nil && !errors.Is(err, debian.ErrNone) {
			wrong = err
		}
		if p, is := there[name]; is {
			suites, found[suite] = append(suites, suite), p
		}
	}
	if len(suites) == 0 {
		return nil, fault.New(fault.Usage, "no suite that was looked at has a package "+name, strings.Join(looked, ", "),
			"Suites and archives come from apt's configuration, or from "+a.Archives.Sources+"; name others as debian:"+name+
				"/SUITE.").Wrap(wrong)
	}
	slices.SortFunc(suites, func(x, y string) int { return version.Compare(found[x].Version, found[y].Version) })
	newest := suites[len(suites)-1]
	g := &guess{ctx: ctx, in: in, suite: newest, name: name}
	if err := g.fill(found[newest]); err != nil {
		return nil, fault.New(fault.Failed, "the package "+name+" cannot be looked at", newest,
			"Check the connection; where it is no web application, begin from its archive.").Wrap(err)
	}
	file, err := os.CreateTemp(unpacked, "")
	if err != nil {
		return nil, err
	}
	defer file.Close()
	defer os.Remove(file.Name())
	if err := debian.Make(g.recipe, g.debs, file); err != nil {
		return nil, err
	}
	app := filepath.Join(unpacked, "app")
	if err := os.Mkdir(app, 0o700); err != nil {
		return nil, err
	}
	if err := archive.Extract(ctx, file, "", archive.DefaultLimits, app); err != nil {
		return nil, err
	}
	return &begun{files: os.DirFS(app), from: draft.Source{Origin: g.yaml(suites), Summary: g.says.Summary,
		Home: g.says.Home, Licence: g.says.Licence,
		Release: version.Upstream(version.OfPackage(found[newest].Version))}}, nil
}

// guess is a recipe that is being found.
type guess struct {
	ctx    context.Context
	in     *debian.Archive
	suite  string
	name   string
	recipe debian.Recipe
	also   []string
	debs   []string
	says   *debian.Contents
}

func (g *guess) fill(p debian.Package) error {
	if err := g.get(p); err != nil {
		return err
	}
	c, err := debian.Look(debian.Recipe{}, g.debs)
	if err != nil {
		return err
	}
	g.says = c
	g.take(c.Folders)
	if len(g.recipe.Take) == 0 {
		return fmt.Errorf("it has no usr/share/%s", g.name)
	}
	for _, other := range c.Depends {
		if !libraries.MatchString(other) || notLibraries.MatchString(other) || slices.Contains(g.also, other) {
			continue
		}
		there, err := g.in.Find(g.ctx, g.suite, other)
		if err != nil && !errors.Is(err, debian.ErrNone) {
			return err
		}
		if p, is := there[other]; is {
			if err := g.get(p); err != nil {
				return err
			}
			g.also = append(g.also, other)
		}
	}
	if c, err = debian.Look(g.recipe, g.debs); err != nil {
		return err
	}
	// What leads nowhere is left to the author: without it the archive can be made.
	g.recipe.Without = slices.Sorted(maps.Keys(c.Dangling))
	return nil
}

func (g *guess) get(p debian.Package) error {
	file, err := g.in.Get(g.ctx, p)
	if err == nil {
		g.debs = append(g.debs, file)
	}
	return err
}

// take guesses what of the package is the app.
func (g *guess) take(folders []string) {
	g.recipe.Take = map[string]string{}
	share := "usr/share/" + g.name
	for _, top := range []string{share + "/www", share + "/htdocs", share + "/public_html", share + "/site", share} {
		if slices.Contains(folders, top) {
			g.recipe.Take[top] = "."
			break
		}
	}
	for _, f := range folders {
		for _, root := range []string{"var/lib/", "var/cache/"} {
			if rest, below := strings.CutPrefix(f, root+g.name+"/"); below && !strings.Contains(rest, "/") {
				g.recipe.Take[f] = rest
			}
		}
	}
	if slices.Contains(folders, "usr/share/dbconfig-common/data/"+g.name) {
		g.recipe.Take["usr/share/dbconfig-common/data/"+g.name] = "sql"
	}
}

// yaml is what a kit says of the recipe, below archive:.
func (g *guess) yaml(suites []string) string {
	var out strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&out, format+"\n", args...) }
	line("  debian:\n    package: %s\n    suites: [%s]", g.name, strings.Join(suites, ", "))
	if len(g.also) > 0 {
		line("    also: [%s]", strings.Join(g.also, ", "))
	}
	line("    take:")
	for _, from := range slices.Sorted(maps.Keys(g.recipe.Take)) {
		line("      %s: %s", from, draft.YAML(g.recipe.Take[from]))
	}
	if len(g.recipe.Without) > 0 {
		line("    # ? These lead into packages that are not taken: does the app need them? Name the packages under also.")
		line("    without:")
		for _, w := range g.recipe.Without {
			line("      - %s", draft.YAML(w))
		}
	}
	line("    # ? Which places did the package fix? Look for /usr/share, /etc and /var in the app's files:")
	out.WriteString("    # change:\n    #   - {file: \"*.php\", from: \"/etc/" + g.name + "/\", to: \"config/\"}")
	return out.String()
}

// pack writes a folder as a tar archive packed with gzip: the same bytes on every machine.
func pack(name, folder, top string) error {
	file, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	packed := gzip.NewWriter(file)
	w := tar.NewWriter(packed)
	files := os.DirFS(folder)
	err = fs.WalkDir(files, ".", func(at string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && strings.HasPrefix(d.Name(), ".git") {
			return fs.SkipDir
		}
		if !d.Type().IsRegular() {
			if d.Type()&fs.ModeSymlink != 0 {
				return fmt.Errorf("%s is a link: an app's archive has none", at)
			}
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: path.Join(top, at), Size: info.Size(),
			Mode: 0o644 | int64(info.Mode().Perm()&0o111), ModTime: time.Unix(0, 0).UTC()}); err != nil {
			return err
		}
		in, err := files.Open(at)
		if err != nil {
			return err
		}
		_, err = io.Copy(w, in)
		return errors.Join(err, in.Close())
	})
	return errors.Join(err, w.Close(), packed.Close(), file.Close())
}
