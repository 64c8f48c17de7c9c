package draft

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"
)

// Needs is what an app seems to need.
type Needs struct {
	PHP        string   // the least version, or empty
	Extensions []string // sorted
	Engines    []string // database engines that it knows, sorted
}

// uses tells an extension by what of it is called. (PHP manual, “Function Reference”.)
var uses = map[string]*pattern{
	"curl":     lazily(`\bcurl_init\(`),
	"dom":      lazily(`\bnew \\?DOMDocument\b`),
	"exif":     lazily(`\bexif_read_data\(`),
	"fileinfo": lazily(`\b(finfo_open\(|new \\?finfo\b|mime_content_type\()`),
	"gd":       lazily(`\bimagecreate(truecolor|from\w+)\(`),
	"iconv":    lazily(`\biconv\(`),
	"intl": lazily(
		`\b(new \\?(NumberFormatter|IntlDateFormatter|Collator)\b|Locale::|Normalizer::|idn_to_ascii\()`,
	),
	"ldap":      lazily(`\bldap_connect\(`),
	"mbstring":  lazily(`\bmb_(strlen|substr|strtolower|convert_encoding|internal_encoding)\(`),
	"mysqli":    lazily(`\b(mysqli_connect\(|new \\?mysqli\b)`),
	"openssl":   lazily(`\bopenssl_\w+\(`),
	"simplexml": lazily(`\b(simplexml_load_\w+\(|new \\?SimpleXMLElement\b)`),
	"sodium":    lazily(`\bsodium_\w+\(`),
	"xml":       lazily(`\bxml_parser_create\(`),
	"zip":       lazily(`\bnew \\?ZipArchive\b`),
	"zlib":      lazily(`\bgz(open|inflate|uncompress|encode|decode|compress)\(`),
}

// asks tells what the app itself asks for.
var (
	asksPHP    = lazily(`version_compare\(\s*(?:PHP_VERSION|phpversion\(\))\s*,\s*['"]([0-9.]+)['"]`)
	asksID     = lazily(`PHP_VERSION_ID\s*<\s*([0-9]{5})`)
	asksLoaded = lazily(`extension_loaded\(\s*['"](\w+)['"]`)
	inRange    = lazily(`[0-9]+(\.[0-9]+)*`)
)

// engines tells a database engine by how it is connected to.
var engines = map[string]*pattern{
	"mariadb":    lazily(`(?i)(['"]mysql:|\bmysqli_connect\(|new \\?mysqli\b|pdo_mysql|['"]mysqli?['"])`),
	"postgresql": lazily(`(?i)(['"]pgsql:|\bpg_connect\(|pdo_pgsql|['"](pgsql|postgres(ql)?)['"])`),
	"sqlite":     lazily(`(?i)(['"]sqlite:|new \\?SQLite3\b|pdo_sqlite|['"]sqlite3?['"])`),
}

// Needs finds what the app needs: what its Composer file asks for, what its code asks for
// itself, and what it calls.
func (a *App) Needs() Needs {
	n := Needs{}
	extensions := map[string]bool{}
	composed := a.composer(&n, extensions)
	for _, name := range a.own(php) {
		text := a.text(name)
		if m := asksPHP.FindStringSubmatch(text); m != nil && !composed && n.PHP == "" {
			n.PHP = m[1]
		}
		if m := asksID.FindStringSubmatch(text); m != nil && n.PHP == "" {
			n.PHP = ofID(m[1])
		}
		for name, calls := range uses {
			if !extensions[name] && calls.MatchString(text) {
				extensions[name] = true
			}
		}
		for _, m := range asksLoaded.FindAllStringSubmatch(text, -1) {
			if _, known := uses[m[1]]; known {
				extensions[m[1]] = true
			}
		}
		for engine, connects := range engines {
			if !slices.Contains(n.Engines, engine) && connects.MatchString(text) {
				n.Engines = append(n.Engines, engine)
			}
		}
	}
	delete(extensions, "mysqli")
	n.Extensions = slices.Sorted(maps.Keys(extensions))
	slices.Sort(n.Engines)
	return n
}

// ofID is the version of a PHP_VERSION_ID: 80100 is 8.1.
func ofID(id string) string {
	major, minor := id[:len(id)-4], strings.TrimPrefix(id[len(id)-4:len(id)-2], "0")
	return major + "." + minor
}

// composer reads what a Composer file requires. (getcomposer.org, “The composer.json
// schema”.)
func (a *App) composer(n *Needs, extensions map[string]bool) bool {
	var file struct {
		Require map[string]string `json:"require"`
	}
	if json.Unmarshal([]byte(a.text("composer.json")), &file) != nil {
		return false
	}
	for name, version := range file.Require {
		if name == "php" {
			n.PHP = inRange.FindString(version)
		}
		if ext, is := strings.CutPrefix(name, "ext-"); is && ext != "pdo" && !strings.HasPrefix(ext, "pdo_") {
			extensions[ext] = true
		}
	}
	return n.PHP != ""
}
