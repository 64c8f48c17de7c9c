package draft_test

import (
	"context"
	"maps"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/config"
	"tivset/internal/app/draft"
	"tivset/internal/app/fill"
	"tivset/internal/app/kit"
)

func app(t *testing.T, files map[string]string) *draft.App {
	t.Helper()
	all := fstest.MapFS{}
	for name, text := range files {
		all[name] = &fstest.MapFile{Data: []byte(text)}
	}
	a, err := draft.Open(context.Background(), all)
	require.NoError(t, err)
	return a
}

// tidewall is an app as many are written: a sample of its configuration, tables with an
// account of a known password, set-up pages, a form to sign in.
var tidewall = map[string]string{
	"config/settings.sample.php": `<?php
// Rename this file. A comment with db_password = 'x' stays as it is.
define('DB_HOST', 'localhost');
define('DB_NAME', 'tidewall');
define("DB_USER", "root");
define('DB_PASS', '');
$config['db']['port'] = 3306;
$table_prefix = 'tw_';
$smtp = ['host' => 'mail.localhost', 'password' => 'stays'];
$settings = array(
    'db_driver' => 'mysql',
    'site_url' => 'http://localhost/tidewall',
    'site_title' => "A wall",
    'secret_key' => 'change me',
    'lang' => 'en', 'braces' => '{title} and {{language}}',
);
`,
	"sql/mysql.sql": "CREATE TABLE `tw_users` (\n  `id` int(11) NOT NULL AUTO_INCREMENT,\n" +
		"  `login` varchar(40) NOT NULL,\n  `passwd` char(32) NOT NULL\n) ENGINE=InnoDB;\nCREATE TABLE tw_walls (id int);\n" +
		"INSERT INTO `tw_users` VALUES (1, 'admin', '21232f297a57a5a743894a0e4a801fc3');\n",
	"sql/pgsql.sql": "CREATE TABLE tw_users (id serial, login text, passwd text);\nCREATE TABLE tw_walls (id serial);\n" +
		"INSERT INTO tw_users (id, login, passwd) VALUES (1, 'admin', '21232f297a57a5a743894a0e4a801fc3');\n",
	"sql/upgrade-1.9.sql": "CREATE TABLE tw_a (id int);CREATE TABLE tw_b (id int);CREATE TABLE tw_c (id int);",
	"install/index.php":   "<form method=post><input name=\"db_name\"><input name='user_login'></form>",
	"lib/version.php":     "<?php\nconst TIDEWALL_VERSION = '2.0.3';\n$min_php_version = '7.2';",
	"lib/db.php": "<?php new PDO('mysql:host=x'); new PDO('pgsql:host=x'); mb_strlen('x'); imagecreatetruecolor(1, 1);\n" +
		"if (version_compare(PHP_VERSION, '8.0', '<')) die();",
	"vendor/other/lib/version.php": "<?php const VERSION = '9.9.9'; curl_init();",
	"signin.php": "<?php if ($x) { ?><form action=\"signin.php\" method=post><input type=hidden name=token>" +
		"<input name=\"member\"><input type=\"password\" name=\"word\"></form><a href=\"?do=logout\"><?php } ?>",
	"cache/.htaccess":    "Deny from all",
	"uploads/index.html": "",
	"src/Cache/Pool.php": "<?php",
	"cron.php":           "<?php",
	"LICENSE":            "MIT License\n\nPermission is hereby granted, free of charge, to any person",
	"style.css":          "body {}",
	".htaccess":          "RewriteEngine on\nRewriteRule ^ index.php",
}

// A draft is a kit: it can be read, and holds what can be told from the files.
func TestDraft(t *testing.T) {
	d := app(t, tidewall).Draft(draft.Source{App: "tidewall", Release: "2.0.3", Date: "2026-11-26",
		Archive: "{name: tidewall-2.0.3.zip, fetch: get it, sha256: " + strings.Repeat("0", 64) + "}"})
	files := fstest.MapFS{}
	for name, text := range d.Files {
		files[name] = &fstest.MapFile{Data: []byte(text)}
	}
	k, err := kit.Read(files, "tidewall")
	require.NoError(t, err, "%s", d.Files["kit.yaml"])
	assert.Equal(t, "Tidewall", k.Title)
	assert.Equal(t, "MIT", k.Licence.Name)
	needs := k.Newest().Needs
	assert.Equal(t, ">=8.0", needs.PHP.Version)
	assert.Equal(t, []string{"gd", "mbstring"}, needs.PHP.Extensions)
	assert.Len(t, needs.Database, 2)
	assert.Equal(t, []string{"cache", "uploads"}, k.Place.Written)
	assert.True(t, k.Place.Rewriting)
	assert.Contains(t, k.Place.Deny, "sql")
	require.Len(t, k.Setup, 3)
	assert.Equal(t, "tw_", k.Setup[0].SQL.Tables)
	assert.Equal(t, "sql/pgsql.sql", k.Values["schema"].For("postgresql"))
	assert.Equal(t, "UPDATE {tables}users SET login = :name, passwd = :hash WHERE id = 1", k.Setup[1].RunSQL)
	assert.Equal(t, "{admin.password | md5}", k.Setup[1].With["hash"])
	assert.Equal(t, []string{"install"}, k.Setup[2].Remove)
	assert.Equal(t, "lib/version.php", k.Known.File)
	assert.Equal(t, map[string]string{"member": "{admin.name}", "word": "{admin.password}"}, k.Check.SignIn.Fields)
	assert.Equal(t, "logout", k.Check.SignIn.Then.Expect.Text)
	assert.NotEmpty(t, d.Questions)
	for _, q := range d.Questions {
		assert.Contains(t, d.Files["kit.yaml"], "# ? "+q)
	}
	assert.NotContains(t, d.Files["kit.yaml"], "upgrade")
	assert.Contains(t, strings.Join(d.Questions, "\n"), "cron.php")
}

// The template of a sample gives it back, with the values in the places; what is a
// comment, a mail's or a brace of the app's own stays as it is.
func TestTemplateOfASample(t *testing.T) {
	a := app(t, tidewall)
	all := a.Configs(a.Needs())
	require.Len(t, all, 1)
	c := all[0]
	assert.Equal(t, "config/settings.php", c.Path)
	values := fill.Values{
		"data.host":         "db.localhost",
		"data.name":         "n",
		"data.user":         "u",
		"data.password":     "it's",
		"data.port":         "3307",
		"tables":            "q_",
		"value.engine":      "pgsql",
		"url":               "https://wall.localhost/",
		"title":             "Our \"wall\"",
		"secret.secret-key": "s3cret",
		"language":          "nl",
	}
	require.Empty(t, config.Check(mustFormat(t, "php"), c.Template, mapKeys(values)))
	text, err := config.Render(mustFormat(t, "php"), c.Template, values)
	require.NoError(t, err)
	for _, line := range []string{"define('DB_HOST', 'db.localhost');", `define("DB_USER", 'u');`,
		`define('DB_PASS', 'it\'s');`,
		"$config['db']['port'] = 3307;", "$table_prefix = 'q_';", "'db_driver' => 'pgsql',",
		"'site_url' => 'https://wall.localhost',", "'secret_key' => 's3cret',", "db_password = 'x' stays",
		"'host' => 'mail.localhost', 'password' => 'stays'", "'lang' => 'nl', 'braces' => '{title} and {{language}}',"} {
		assert.Contains(t, string(text), line)
	}
}

func mustFormat(t *testing.T, name string) config.Format {
	t.Helper()
	f, err := config.For(name)
	require.NoError(t, err)
	return f
}

func mapKeys(values fill.Values) (out []string) {
	for name := range maps.Keys(values) {
		out = append(out, name)
	}
	return out
}

// Samples of every format are known, and where they belong.
func TestSamplesOfEveryFormat(t *testing.T) {
	for name, x := range map[string]struct{ path, format, text, has string }{
		".env.example": {".env", "dotenv", "DB_NAME=x\nDB_USER=y\nAPP_KEY=\n", "DB_USER={data.user}"},
		"config.ini.dist": {"config.ini", "ini", "[database]\nname = x\nuser = y\n[mail]\nuser = z\n",
			"user = {data.user}\n[mail]\nuser = z"},
		"config.sample.json": {"config.json", "json", `{"database": {"name": "x", "user": "y"}}`, `"name": {data.name}`},
		"conf/app-sample.yml": {"conf/app.yml", "yaml", "database:\n  name: x\n  user: y\n  port: 3306\n",
			"  user: {data.user}"},
		"settings.toml.in":   {"settings.toml", "toml", "[database]\nname = \"x\"\nuser = \"y\"\n", "name = {data.name}"},
		"default.config.php": {"config.php", "php", "<?php\n$dbname='x';\n$dbuser='y';\n", "$dbname={data.name};"},
	} {
		a := app(t, map[string]string{name: x.text, "index.php": "<?php new PDO('mysql:x');"})
		all := a.Configs(a.Needs())
		if assert.Len(t, all, 1, name) {
			assert.Equal(t, x.path, all[0].Path)
			assert.Equal(t, x.format, all[0].Format)
			assert.Contains(t, all[0].Template, x.has)
		}
	}
}

// The release is found where an app says it, and not where it speaks of others.
func TestMarks(t *testing.T) {
	for file, x := range map[string]struct{ text, wanted, release string }{
		"VERSION":       {"v3.1.4\n", "", "3.1.4"},
		"version.txt":   {"1.2.51+ds-2", "1.2.51", "1.2.51"},
		"inc/const.php": {"<?php define('APP_VERSION', '0.9.1-rc2');", "", "0.9.1-rc2"},
		"app.php":       {"<?php $app_version = \"4.0\"; $php_version = '8.1';", "", "4.0"},
		"composer.json": {`{"version": "7.5.0"}`, "", "7.5.0"},
	} {
		all := map[string]string{file: x.text, "lib/jquery.php": "<?php $jquery_version = '3.6.0';"}
		found := app(t, all).Marks(x.wanted)
		if assert.NotEmpty(t, found, file) {
			assert.Equal(t, x.release, found[0].Release, file)
		}
	}
	assert.Empty(t, app(t, map[string]string{"a.php": "<?php $min_php_version = '7.4';"}).Marks(""))
	for name, release := range map[string]string{"tidewall-2.0.3.tar.gz": "2.0.3", "/x/tidewall_v1.10.zip": "1.10",
		"tidewall.zip": "", "tidewall-2.0.3": "2.0.3"} {
		assert.Equal(t, release, draft.ReleaseOf(name), name)
	}
}

// An app of which nothing is known is all questions, and a kit all the same; so is one
// whose files are hostile.
func TestDraftOfNothing(t *testing.T) {
	hostile := map[string]string{
		"config.sample.php": "<?php $dbname = '" + strings.Repeat(
			`\`,
			1001,
		) + "';\n$db_user = '\x00\x1b[2J';\n# {data.nothing}",
		"LICENSE":       "\x1b]0;title\x07 Permission is hereby granted, free of charge",
		"composer.json": `{"description": "a: \"b\"\n# {url} \u001b[2J", "require": {"php": "^8", "ext-*": "*", "ext-a b": "*"}}`,
		"schema.sql":    "CREATE TABLE `'; DROP` (\"id\" int);INSERT INTO users VALUES ('\\'',",
		"index.html":    "<form><input type=password name='{url}'><input name='\"'></form>",
	}
	for _, files := range []map[string]string{{}, hostile} {
		d := app(t, files).Draft(draft.Source{App: "x-1", Date: "2026-11-26",
			Archive: "{name: a, fetch: b, sha256: " + strings.Repeat("0", 64) + "}"})
		kitFiles := fstest.MapFS{}
		for name, text := range d.Files {
			kitFiles[name] = &fstest.MapFile{Data: []byte(text)}
		}
		_, err := kit.Read(kitFiles, "x-1")
		require.NoError(t, err, "%s", d.Files["kit.yaml"])
	}
}

// The same files make the same draft, each time: also where a name speaks of two engines.
func TestTheSameDraft(t *testing.T) {
	files := maps.Clone(tidewall)
	table := "CREATE TABLE tw_users (id int);"
	files["sql/mysql/from-pgsql.sql"], files["sql/pgsql/from-mysql.sql"] = table, table
	files["sql/sqlite-or-mysql.sql"] = table
	var first draft.Draft
	for n := range 40 {
		d := app(t, files).Draft(draft.Source{App: "tidewall", Release: "2.0.3", Date: "2026-11-26",
			Archive: "{name: tidewall-2.0.3.zip, fetch: get it, sha256: " + strings.Repeat("0", 64) + "}"})
		if n == 0 {
			first = *d
		}
		require.Equal(t, first, *d)
	}
}
