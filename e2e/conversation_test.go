//go:build unix

package e2e

import (
	"context"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/database"
	"tivset/internal/hosting/database/mariadb"
	"tivset/internal/records/home"
	"tivset/internal/records/vault"
	"tivset/internal/secret"
	"tivset/internal/trial/servers"
)

// newcomer are the turns of somebody who answers what is asked.
func newcomer(app string, licence bool) []turn {
	turns := []turn{on("App:", app+"\r"), on("Address:", "2\r"),
		on("E-mail address of the admin:", "w@lockside.localhost\r"), on("Title of the site:", "Lockside\r")}
	if licence {
		turns = append(turns, on("yes, no, or show", "yes\r"))
	}
	return append(turns, on(toInstall, "y\r"))
}

// Every app is installed with at most four typed answers beside its name.
func TestNewcomerInstallsEachApp(t *testing.T) {
	servers.Slow(t)
	for app, licence := range map[string]bool{"inkreach": false, "willowbench": true, "pennywharf": true,
		"slateroom": false,
		"lampshelf": false, "towline": true} {
		t.Run(app, func(t *testing.T) {
			p := newProgram(t)
			turns := newcomer(app, licence)
			typed := 0
			for _, turn := range turns[1 : len(turns)-1] {
				if turn.keys != "\r" && turn.keys != "" {
					typed++
				}
			}
			assert.LessOrEqual(t, typed, 4)
			shown, code := onTerminal(t, p.as("tivset", nil, "install"), turns...)
			assert.Equal(t, 0, code, shown)
			assert.Contains(t, shown, "is installed and checked")
		})
	}
}

// Ctrl-C at any question leaves nothing behind.
func TestCtrlCAtAnyQuestion(t *testing.T) {
	p := newProgram(t)
	before := p.snapshot()
	turns := newcomer("willowbench", true)
	for n := range turns {
		some := append(append([]turn{}, turns[:n]...), on(turns[n].wait, "\x03"))
		shown, code := onTerminal(t, p.as("tivset-minding", nil, "install"), some...)
		assert.Equal(t, 3, code, shown)
		assert.Contains(t, shown, "Nothing was touched")
		assert.Equal(t, before, p.snapshot())
		require.NoError(t, home.At(p.demo.Folder).DropBegun())
	}
	var jobs []job
	p.json(&jobs, "jobs")
	assert.Empty(t, jobs)
}

// number finds the number of a line (RE2) in the review that was shown last.
func number(line string) func(shown string) string {
	return func(shown string) string {
		all := regexp.MustCompile(`(\d+[a-z]*)   `+line).FindAllStringSubmatch(shown, -1)
		if len(all) == 0 {
			return "no line " + line
		}
		return all[len(all)-1][1]
	}
}

// change chooses a line of the review by its number.
func change(line string) turn { return turn{wait: toInstall, line: number(line)} }

// An expert unfolds and answers everything, wrongly first.
func TestExpertDecidesEverything(t *testing.T) {
	servers.Slow(t)
	p := newProgram(t)
	file := filepath.Join(t.TempDir(), "shop.yaml")
	shown, code := onTerminal(
		t,
		p.as("tivset", nil, "install", "pennywharf", "--at", "chandlery.localhost/shop"),
		see("→ http://chandlery.localhost:"),
		on("E-mail address of the admin:", "clerk@chandlery.localhost\r"),
		on("Title of the site:", "\"'\\$ <script> 🙂 \u202e\r"),
		see("invisible characters"),
		on("Title of the site:", "Rope & Paint 🙂\r"),
		on("yes, no, or show", "show\r"),
		see("There is no warranty of any kind"),
		on("yes, no, or show", "\r"),
		see("only be installed when its licence"),
		on("yes, no, or show", "y\r"),
		on(toInstall, "more\r"),
		change("who sells"),
		on("Who sells (person, company) [person]:", "company\r"),
		on("Name of the company:", "\r"),
		see("needs an answer"),
		on("Name of the company:", "Rope \"&\" Paint\r"),
		change("tax number"),
		on("Tax number", "12\r"),
		see("two capital letters and 8 to 12 digits"),
		on("Tax number", "QM12345678\r"),
		change("currency"),
		on("Currency (EUR, GBP, SEK, USD) [EUR]:", "GPB\r"),
		see("Did you mean GBP?"),
		on("Currency", "GBP\r"),
		change("prices include"),
		on("Prices include the tax? yes or no [yes]:", "N\r"),
		change("ways to pay"),
		see("There are invoice, transfer, on-collection; commas between them."),
		on("Ways to pay [transfer, on-collection]:", "invoice, cash\r"),
		see("\"cash\" cannot be chosen"),
		on("Ways to pay", "invoice\r"),
		change("e-mail address for orders"),
		on("E-mail address for orders", "orders\r"),
		see("has an @"),
		on("E-mail address for orders", "\r"),
		change("address of the terms"),
		on("Address of the terms of sale", "terms\r"),
		see("is not a web address"),
		on("Address of the terms of sale", "https://chandlery.localhost/terms\r"),
		change("subtitle"),
		on("Subtitle", "All a boat wants\r"),
		change("language"),
		see("Swedish, svenska (sv)"),
		on("Language [English]:", "svenska\r"),
		change("sample content"),
		on("Sample content? yes or no [no]:", "<\r"),
		change("sample content"),
		on("Sample content? yes or no [no]:", "y\r"),
		change("theme"),
		on("Theme (paper, slate) [paper]:", "slate\r"),
		change("search engines"),
		on("Search engines welcome? yes or no [yes]:", "?\r"),
		see("asked to leave the site out"),
		on("Search engines welcome", "\r"),
		change("release"),
		see("older, gets fixes until"),
		on("Release [3.2.0]:", "2\r"),
		change("name: [^q]"),
		on("Sign-in name of the admin [", "chandlery\r"),
		see("can be read off the site"),
		on("Sign-in name of the admin [", "splicer\r"),
		change("password:"),
		on("Password of the admin [made for you]:", "Kranich\r"),
		see("passwords are typed unseen"),
		on("Password of the admin [made for you]:", "own\r"),
		on("Your password:", "boat\r"),
		see("must hold for a century"),
		on("Your password:", "\"Kranich-Teekanne-74-Ufer\"\r"),
		see("quotation marks around it"),
		on("Your password:", "Kranich-Teekanne-74-Ufer\r"),
		see("a guesser needs"),
		on("The same once more:", "Kranich-Teekanne-74-Ufern\r"),
		see("not the same"),
		on("Your password:", "Kranich-Teekanne-74-Ufer\r"),
		on("The same once more:", "Kranich-Teekanne-74-Ufer\r"),
		change("admin folder"),
		on("Folder of the admin area [office-", "Admin\r"),
		see("not a name for a folder"),
		on("Folder of the admin area", "counter-7\r"),
		change("database:"),
		on("The database (new, existing, by-hand) [new]:", "\r"),
		change("server:"),
		on("Database server [main]:", "\r"),
		change("name: quill_"),
		on("Name of the database [quill_penn", "shop\r"),
		see("begin with quill_"),
		on("Name of the database", "quill_shop\r"),
		change("tables begin with"),
		on("Names of tables begin with [", "shop_\r"),
		change("installs by itself"),
		on("Releases that are installed by themselves", "breaking\r"),
		change("after"),
		on("How long a release must have been out [3d]:", "soon\r"),
		see("such as 3d"),
		on("How long", "7d\r"),
		change("between the hours"),
		on("Between which hours [02-05]:", "2-5\r"),
		see("such as 02-05"),
		on("Between which hours", "22-04\r"),
		change("notify"),
		on("Whom to notify, and of what [trouble]:", "the clerk\r"),
		see("or nobody"),
		on("Whom to notify", "clerk@chandlery.localhost, changes\r"),
		change("handed over to"),
		on("Hand the site over to", "clerk@chandlery.localhost\r"),
		on(toInstall, "99\r"),
		see("There is no line 99"),
		on(toInstall, "?1\r"),
		see("Where visitors will find the site"),
		change("who sells"),
		on("Who sells (person, company) [company]:", "person\r"),
		on(toInstall, "save\r"),
		on("Save to the file [pennywharf.yaml]:", file+"\r"),
		see("saved; to install from it"),
		on(toInstall, "y\r"),
		see("as you gave it"),
	)
	assert.Equal(t, 0, code, shown)
	assert.NotContains(t, shown, "Kranich-Teekanne", "a password that is typed is never shown")
	assert.NotContains(t, shown[strings.LastIndex(shown, "Pennywharf 3.1.4  →"):], "name of the company",
		"an answer that was ruled out is dropped")
	var found struct {
		Release   string
		AdminURL  string `json:"admin_url"`
		Language  string
		Database  struct{ Name, Tables string }
		Care      map[string]string
		Admin     struct{ Name string }
		SetAside  []string `json:"set_aside"`
		Installed string   `json:"installed_at"`
	}
	p.json(&found, "show", "shop")
	assert.Equal(t, "3.1.4 sv quill_shop shop_ breaking splicer",
		strings.Join([]string{found.Release, found.Language, found.Database.Name, found.Database.Tables,
			found.Care["accepts"], found.Admin.Name}, " "))
	assert.Contains(t, found.AdminURL, "/shop/counter-7/")

	// The saved answers ask nothing more, and install the same elsewhere.
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.NotContains(t, string(text), "Kranich")
	shown, code = onTerminal(t, p.as("tivset", nil, "install", "--answers", file, "--at", "lockside.localhost/shop", "-a",
		"data.name=quill_second", "-a", "data.user=quill_second"), on(toInstall, "y\r"))
	assert.Equal(t, 0, code, shown)
	assert.NotContains(t, shown, "Title of the site:")
}

// What is in the way of the main site is set aside after asking twice, and
// comes back when the install is undone.
func TestMainSiteSetAsideAndPutBack(t *testing.T) {
	p := newProgram(t)
	before := p.snapshot()
	shown, code := onTerminal(t, p.as("tivset", nil, "install", "inkreach", "-a", "title=Journal", "-a",
		"admin.email=w@quillmere.localhost"),
		see("main site; above it: a single page, index.html"), on("Address:", "1/\r"),
		see("is the account's main site"), on("Set it aside? yes or no [no]:", "yes\r"),
		on("type the name quillmere.localhost:", "yes\r"), see("choose another place"),
		on("Address [", "1/\r"), on("Set it aside? yes or no [no]:", "y\r"),
		on("type the name quillmere.localhost:", "quillmere.localhost\r"),
		see("set aside: web/quillmere/index.html"), on(toInstall, "y\r"))
	require.Equal(t, 0, code, shown)
	var jobs []job
	p.json(&jobs, "jobs")
	require.Len(t, jobs, 1)
	out, err := p.as("tivset", nil, "undo", jobs[0].Job).CombinedOutput()
	require.Error(t, err, "without a terminal it wants --yes")
	assert.Contains(t, string(out), "add --yes")
	shown, code = onTerminal(t, p.as("tivset", nil, "undo", jobs[0].Job), see("This takes “Journal”"),
		on("Take it away? [y/N]", "\r"))
	assert.Equal(t, 3, code, shown)
	shown, code = onTerminal(t, p.as("tivset", nil, "undo", jobs[0].Job), on("Take it away? [y/N]", "y\r"))
	assert.Equal(t, 0, code, shown)
	assert.Equal(t, before, p.snapshot())
}

// What was to be set aside at one place is not set aside at another that is
// chosen at the review.
func TestAnotherPlaceIsLookedAtAnew(t *testing.T) {
	p := newProgram(t)
	require.NoError(t, os.MkdirAll(filepath.Join(p.demo.Standin.Root, "web/lockside/precious"), 0o755))
	before := p.snapshot()
	shown, code := onTerminal(t, p.as("tivset-minding", nil, "install", "inkreach", "-a", "title=Journal", "-a",
		"admin.email=w@quillmere.localhost"),
		on("Address:", "1/\r"), on("Set it aside? yes or no [no]:", "yes\r"),
		on("type the name", "quillmere.localhost\r"),
		on(toInstall, "1\r"), on("Address [", "<\r"),
		see("set aside: web/quillmere/index.html"), on(toInstall, "1\r"), on("Address [", "2/\r"), see("precious/"),
		on("Set it aside? yes or no [no]:", "no\r"), on("Address [", "2/blog\r"),
		see("/blog/"), on(toInstall, "n\r"))
	assert.Equal(t, 3, code, shown)
	assert.NotContains(t, shown[strings.LastIndex(shown, "/blog/\r\n\r\n"):], "set aside:")
	assert.Equal(t, before, p.snapshot())
}

// A database that is made by hand while the conversation waits.
func TestDatabaseMadeByHand(t *testing.T) {
	p := newProgram(t)
	h := home.At(p.demo.Folder)
	root, err := vault.At(h.Vault(), h.VaultKey()).Get("quillmere/main")
	require.NoError(t, err)
	address := p.demo.Standin.Database.Address()
	task := regexp.MustCompile(`a database +(\S+) .*\n.*with a password (\S+)`)
	make := func(shown string) {
		m := task.FindStringSubmatch(strings.ReplaceAll(shown, "\r", ""))
		require.NotNil(t, m, shown)
		s, err := mariadb.Connect(context.Background(), database.Login{Server: address, User: "root", Password: root})
		require.NoError(t, err)
		defer s.Close()
		require.NoError(t, s.CreateDatabase(context.Background(), m[1]))
		require.NoError(t, s.CreateUser(context.Background(), database.User{Name: m[1], Clients: []string{"127.0.0.1"},
			Password: secret.Of(m[2]), Database: m[1]}))
	}
	shown, code := onTerminal(t, p.as("tivset", nil, "install", "willowbench", "--at", "lockside.localhost/forum",
		"--accept-licence", "-a", "title=Talk"),
		on("E-mail", "w@lockside.localhost\r"),
		on(toInstall, "2\r"), change("database:"), on("The database", "existing\r"),
		on("Name of the database:", "quill_none\r"), on("User of the database:", "quill_none\r"),
		on("Password of that user:", "nothing-of-the-kind\r"),
		see("refused the user or password"),
		on("The database", "by-hand\r"),
		on("Database server", "\r"), on("Name of the database [quill_will", "\r"), on("User of the database [", "\r"),
		on("Password of that user", "\r"),
		see("Make in the host's control panel"), on("Press Enter when that is done:", "\r"),
		see("refused the user or password"),
		turn{wait: "Press Enter when that is done:", keys: "\r", do: make}, see("answers: version"),
		see("database: by-hand"), on(toInstall, "y\r"))
	assert.Equal(t, 0, code, shown)
	assert.Contains(t, shown, "is installed and checked")
}

// A dumb terminal gets plain text: no colour, nothing that moves the cursor.
func TestConversationOnADumbTerminal(t *testing.T) {
	p := newProgram(t)
	shown, code := onTerminalOf(t, 80, p.as("tivset", []string{"TERM=dumb"}, "install"), newcomer("willowbench", true)...)
	assert.Equal(t, 0, code, shown)
	assert.NotContains(t, shown, "\x1b")
	for line := range strings.Lines(shown) {
		if !strings.Contains(line, "http") {
			assert.LessOrEqual(t, utf8.RuneCountInString(strings.TrimRight(line, "\r\n")), 80, line)
		}
	}
}

// All that is wrong is said at once, each with the id of the answer.
func TestAllProblemsAtOnce(t *testing.T) {
	p := newProgram(t)
	before := p.snapshot()
	file := filepath.Join(t.TempDir(), "answers.yaml")
	require.NoError(t, os.WriteFile(file,
		[]byte("install: towline\nat: lockside.localhost/help\nanswers:\n  title: \"a\\tb\"\n  edition: pro\n  mail-in: "+
			"true\n  board: General\n  rows: [1, 2]\n  admin: {name: lockside, email: w@lockside.localhost}\n"), 0o600))
	c := p.as(
		"tivset",
		nil,
		"install",
		"--answers",
		file,
		"--yes",
		"-a",
		"admin.password=@"+file,
		"-a",
		"website=example",
		"-a",
		"extra.extensions=calender",
		"-a",
		"care.accepts=on",
	)
	out, err := c.CombinedOutput()
	require.Error(t, err)
	assert.Equal(t, 2, c.ProcessState.ExitCode())
	for _, words := range []string{"title: it has control characters", "key: needed, and not given",
		"mail-in: \"true\" is neither yes nor no", "board: there is no such answer", "rows: there is no such answer",
		"admin.name: “lockside” can be read off the site", "admin.password: it has a line end in it",
		"website: \"example\" is not a web address", "Did you mean calendar?", "care.accepts: \"on\" cannot be chosen",
		"Nothing was touched"} {
		assert.Contains(t, string(out), words)
	}
	assert.Equal(t, before, p.snapshot())

	require.NoError(t, os.WriteFile(file,
		[]byte("install: willowbench\nat: lockside.localhost/help\nanswers: {title: a, title: b, keys: {}}\n"), 0o600))
	out, err = p.as("tivset", nil, "install", "--answers", file, "--yes").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "stands twice")

	// Another app's answers, and those of an older kit.
	require.NoError(t, os.WriteFile(file,
		[]byte("install: willowbench\nat: lockside.localhost/help\nrelease: \"1.0.0\"\nanswers: {title: a, licence: accept, "+
			"flag: blue, admin: {email: w@lockside.localhost}}\n"), 0o600))
	out, err = p.as("tivset", nil, "install", "towline", "--answers", file, "--yes").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "the answers are for willowbench, not for towline")
	out, err = p.as("tivset", nil, "install", "--answers", file, "--yes").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "release: Willowbench has no release 1.0.0")
	assert.Contains(t, string(out), "flag: there is no such answer")
	assert.Equal(t, before, p.snapshot())
}
