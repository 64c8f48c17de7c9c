package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"tivset/internal/hosting/account"
	"tivset/internal/hosting/web"
)

// tour runs the real program against the demo and shows what it prints.
type tour struct {
	*Demo
	ctx     context.Context
	program string
	out     io.Writer
	ran     int
}

// outage is for how long the database server stays away in the tour.
const outage = 3 * time.Second

// Tour runs a full example, prints each command and its real output, and
// returns nil only when every one ended as it should.
func Tour(ctx context.Context, d *Demo, program string, out io.Writer) error {
	t := &tour{Demo: d, ctx: ctx, program: program, out: out}
	parts := []func() error{t.choose, t.install, t.visit, t.decide, t.refused, t.setAside, t.undone, t.lookAfter,
		t.putBack, t.tryOut, t.nested, t.course, t.elsewhere, t.end}
	for _, part := range parts {
		if err := part(); err != nil {
			return fmt.Errorf("the tour stopped: %w", err)
		}
	}
	fmt.Fprintf(out, "\nThe tour is over: %d commands, each ended as it should.\n", t.ran)
	return nil
}

func (t *tour) say(text string) { fmt.Fprintf(t.out, "\n# %s\n", text) }

// run runs one command, shows it, and compares its exit code.
func (t *tour) run(code int, args ...string) (string, error) {
	shown := make([]string, len(args))
	for i, a := range args {
		shown[i] = a
		if strings.ContainsAny(a, " “”") {
			name, value, found := strings.Cut(a, "=")
			if !found {
				name, value = "", a
			} else {
				name += "="
			}
			shown[i] = name + "\"" + value + "\""
		}
	}
	fmt.Fprintf(t.out, "\n$ tivset %s\n", strings.Join(shown, " "))
	var both bytes.Buffer
	c := exec.CommandContext(t.ctx, t.program, args...)
	c.Env = append(os.Environ(), "TIVSET_HOME="+t.Folder)
	together := io.MultiWriter(t.out, &both) // one pipe, so that the order is kept
	c.Stdout, c.Stderr = together, together
	err := c.Run()
	t.ran++
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		return "", err
	}
	if got := c.ProcessState.ExitCode(); got != code {
		return "", fmt.Errorf("tivset %s ended with exit code %d instead of %d", args[0], got, code)
	}
	if code != 0 {
		fmt.Fprintf(t.out, "[exit code %d]\n", code)
	}
	return both.String(), nil
}

func (t *tour) choose() error {
	t.say("What can be installed, and what one of the apps is.")
	if _, err := t.run(0, "browse"); err != nil {
		return err
	}
	_, err := t.run(0, "about", "willowbench")
	return err
}

func forum(more ...string) []string {
	return append([]string{"install", "willowbench", "--at", "lockside.localhost/forum", "-a", "title=Lockside Talk", "-a",
		"subtitle=For those who keep the locks",
		"-a", "admin.name=wharfinger", "-a", "admin.email=wharfinger@lockside.localhost", "--accept-licence"}, more...)
}

func (t *tour) install() error {
	t.say("The review of an install: everything that it would do, and nothing done.")
	if _, err := t.run(0, forum("--dry-run")...); err != nil {
		return err
	}
	t.say("The install itself. It ends only when the site was checked.")
	if _, err := t.run(0, forum("--yes")...); err != nil {
		return err
	}
	t.say("A second app, on another domain.")
	_, err := t.run(0, "install", "inkreach", "--at", "quillmere.localhost/journal", "-a", "title=The Quillmere Journal",
		"-a", "subtitle=News from the cut", "-a", "admin.email=editor@quillmere.localhost", "--yes")
	if err != nil {
		return err
	}
	t.say("What is installed.")
	if _, err := t.run(0, "sites"); err != nil {
		return err
	}
	_, err = t.run(0, "show", "forum")
	return err
}

// visit looks at the sites as a visitor and as the admin.
func (t *tour) visit() error {
	t.say("The pages, fetched as a visitor does.")
	for _, page := range []struct{ address, text string }{
		{t.Domains[0].URL + "/journal/", "The Quillmere Journal"},
		{t.Domains[1].URL + "/forum/", "Lockside Talk"},
	} {
		if err := t.fetch(web.NewVisitor(t.connections()), page.address, page.text); err != nil {
			return err
		}
	}
	t.say("Signing in with the name and password that Tivset keeps.")
	return t.signIn()
}

func (t *tour) connections() web.Connections {
	c := web.Connections{}
	for _, d := range t.Domains {
		c[strings.TrimPrefix(d.URL, "http://")] = t.Standin.Web.Address()
	}
	return c
}

func (t *tour) fetch(v *web.Visitor, address, text string) error {
	page, err := v.Get(t.ctx, address)
	if err != nil {
		return err
	}
	if page.Status != 200 || !page.Shows(text) {
		return fmt.Errorf("%s answered %d and does not show “%s”", address, page.Status, text)
	}
	fmt.Fprintf(t.out, "GET %s\n  %d, %d bytes, shows “%s”\n", address, page.Status, len(page.Body), text)
	return nil
}

func (t *tour) signIn() error {
	text, err := t.reveal("forum")
	if err != nil {
		return err
	}
	v := web.NewVisitor(t.connections())
	page, err := v.Get(t.ctx, t.Domains[1].URL+"/forum/sign-in.page")
	if err != nil {
		return err
	}
	form, err := page.Form([]string{"member", "secret"})
	if err != nil {
		return err
	}
	fields := url.Values{"member": {text.Admin.Name}, "secret": {text.Admin.Password}}
	for name, value := range fields {
		form.Values[name] = value
	}
	if _, err := v.Post(t.ctx, form.Action, form.Values); err != nil {
		return err
	}
	return t.fetch(v, text.AdminURL, "Signed in as "+text.Admin.Name)
}

type revealed struct {
	AdminURL string `json:"admin_url"`
	Admin    struct{ Name, Password string }
}

// reveal asks for the credentials without showing them in the tour.
func (t *tour) reveal(words ...string) (revealed, error) {
	var r revealed
	c := exec.CommandContext(t.ctx, t.program, append(append([]string{"reveal"}, words...), "--json")...)
	c.Env = append(os.Environ(), "TIVSET_HOME="+t.Folder)
	text, err := c.Output()
	if err != nil {
		return r, err
	}
	fmt.Fprintf(t.out, "\n$ tivset reveal %s --json   (not shown here)\n", strings.Join(words, " "))
	t.ran++
	return r, json.Unmarshal(text, &r)
}

// decide shows what owners can decide, and that all mistakes come at once.
func (t *tour) decide() error {
	t.say("A shop, sold by a company; its answers are saved.")
	file := filepath.Join(t.Folder, "shop.yaml")
	_, err := t.run(0, "install", "pennywharf", "--at", "chandlery.localhost", "-a", "title=Rope & Paint", "-a",
		"subtitle=All that a boat wants", "-a", "sells-as=company",
		"-a", "company=Chandlery & Daughters", "-a", "currency=GBP", "-a", "extra.sample=yes", "-a",
		"admin.email=clerk@chandlery.localhost", "--accept-licence", "--yes", "--save-answers", file)
	if err != nil {
		return err
	}
	if err := t.fetch(web.NewVisitor(t.connections()), t.Domains[2].URL+"/", "Windlass"); err != nil {
		return err
	}
	t.say("The same again, elsewhere, from the saved answers: a look at it.")
	if _, err := t.run(0, "install", "--answers", file, "--at", "lockside.localhost/shop", "--dry-run"); err != nil {
		return err
	}
	t.say("A school, with a folder for papers outside of the web, a timer, and an address for questions.")
	_, err = t.run(
		0,
		"install",
		"slateroom",
		"--at",
		"slate-school.localhost",
		"-a",
		"title=Slate School",
		"-a",
		"admin.first-name=Ada",
		"-a",
		"admin.email=head@slate-school.localhost",
		"-a",
		"support.email=desk@slate-school.localhost",
		"-a",
		"extra.languages=de, nl",
		"-a",
		"care.accepts=breaking",
		"--yes",
	)
	if err != nil {
		return err
	}
	t.say("Answers that will not do: all of them are named at once.")
	_, err = t.run(2, "install", "towline", "--at", "lockside.localhost/help me", "-a", "edition=pro", "-a",
		"website=example", "-a", "admin.name=admin", "-a", "admin.password=password1", "-a", "titel=Help", "--yes")
	return err
}

// setAside puts an app where a page is, and takes all of it back.
func (t *tour) setAside() error {
	t.say("The page is set aside for a gallery.")
	return t.unchanged(func() error {
		_, err := t.run(
			0,
			"install",
			"lampshelf",
			"--at",
			"quillmere.localhost",
			"-a",
			"title=Quillmere in Pictures",
			"-a",
			"admin.email=editor@quillmere.localhost",
			"-a",
			"occupied=set-aside",
			"--yes",
		)
		if err != nil {
			return err
		}
		if err := t.fetch(web.NewVisitor(t.connections()), t.Domains[0].URL+"/", "Top gate, evening"); err != nil {
			return err
		}
		job, err := t.lastJob()
		if err != nil {
			return err
		}
		t.say("Taking the install back puts the page back.")
		_, err = t.run(0, "undo", job, "--yes")
		return err
	})
}

// lastJob asks for the job that ran last.
func (t *tour) lastJob() (string, error) {
	c := exec.CommandContext(t.ctx, t.program, "jobs", "--json")
	c.Env = append(os.Environ(), "TIVSET_HOME="+t.Folder)
	text, err := c.Output()
	if err != nil {
		return "", err
	}
	var jobs []struct{ Job string }
	if err := json.Unmarshal(text, &jobs); err != nil || len(jobs) == 0 {
		return "", errors.Join(err, errors.New("no job ran"))
	}
	return jobs[0].Job, nil
}

func (t *tour) refused() error {
	t.say("A page is in the way: the install is refused, and nothing is touched.")
	return t.unchanged(func() error {
		_, err := t.run(3, "install", "inkreach", "--at", "quillmere.localhost", "-a", "title=Front page", "-a",
			"admin.email=editor@quillmere.localhost", "--yes")
		return err
	})
}

func (t *tour) undone() error {
	t.say(fmt.Sprintf("The database server goes away half way, for %s: what was begun is undone.", outage))
	var once sync.Once
	t.Standin.Database.OnStatement(func(statement string) {
		if strings.HasPrefix(statement, "INSERT INTO") {
			once.Do(func() { t.Standin.Database.Outage(outage) })
		}
	})
	defer t.Standin.Database.OnStatement(nil)
	return t.unchanged(func() error {
		_, err := t.run(1, "install", "inkreach", "--at", "chandlery.localhost/news", "-a", "title=Rope and Paint", "-a",
			"admin.email=clerk@chandlery.localhost", "--yes")
		return err
	})
}

// unchanged compares the account before and after: files with their content
// and modes, databases and users; without the backups, for one that was made
// before stays.
func (t *tour) unchanged(do func() error) error {
	before, err := Snapshot(t.Demo)
	if err != nil {
		return err
	}
	if err := do(); err != nil {
		return err
	}
	after, err := Snapshot(t.Demo)
	if err != nil {
		return err
	}
	before, after = ButBackups(before), ButBackups(after)
	if before != after {
		return errors.New("the account is not as it was")
	}
	lines := strings.Count(before, "\n")
	fmt.Fprintf(t.out, "Compared before and after: %d files, folders, databases and users are the same.\n", lines)
	return nil
}

// lookAfter shows what owners do once a site is there.
func (t *tour) lookAfter() error {
	t.say("A gallery of an earlier release, to be looked after.")
	if _, err := t.run(0, "install", "lampshelf", "--release", "1.7.0", "--at", "lockside.localhost/gallery", "-a",
		"title=The Flight of Seven", "-a", "admin.email=w@lockside.localhost", "--yes", "--quiet"); err != nil {
		return err
	}
	for _, command := range [][]string{{"sites", "--newer"}, {"update", "gallery", "--yes"}, {"backup", "forum"},
		{"check", "gallery", "forum"}} {
		if _, err := t.run(0, command...); err != nil {
			return err
		}
	}
	t.say("A new password, set in the app and signed in with.")
	_, err := t.reveal("gallery", "--renew")
	return err
}

// putBack updates to a release whose migration fails.
func (t *tour) putBack() error {
	t.say("A helpdesk whose next release is broken: the update fails, and everything is as it was.")
	_, err := t.run(0, "install", "towline", "--release", "2.0.1", "--at", "lockside.localhost/help", "-a",
		"title=Help Afloat", "-a", "admin.email=w@lockside.localhost", "--accept-licence", "--yes", "--quiet")
	if err != nil {
		return err
	}
	err = t.unchanged(func() error {
		_, err := t.run(1, "update", "help", "--yes")
		return err
	})
	if err != nil {
		return err
	}
	_, err = t.run(0, "check", "help")
	return err
}

// tryOut makes a copy to try things on, and takes it out again.
func (t *tour) tryOut() error {
	t.say("A copy of the journal to try things on; then it goes, and only it.")
	return t.unchanged(func() error {
		if _, err := t.run(0, "copy", "journal", "--at", "chandlery.localhost/try", "--yes"); err != nil {
			return err
		}
		if err := t.fetch(web.NewVisitor(t.connections()), t.Domains[2].URL+"/try/", "The Quillmere Journal"); err != nil {
			return err
		}
		_, err := t.run(0, "remove", "try", "--no-backup", "--yes")
		return err
	})
}

// nested takes the outer of two sites out.
func (t *tour) nested() error {
	t.say("A site inside a site. The outer one is removed; the inner one stays.")
	inside := []string{"install", "lampshelf", "--at", "chandlery.localhost/pictures", "-a", "title=Ropes in Pictures",
		"-a", "admin.email=clerk@chandlery.localhost", "--yes", "--quiet"}
	if _, err := t.run(0, inside...); err != nil {
		return err
	}
	shop := strings.TrimPrefix(t.Domains[2].URL, "http://")
	if _, err := t.run(0, "remove", shop, "--yes"); err != nil {
		return err
	}
	if err := t.fetch(web.NewVisitor(t.connections()), t.Domains[2].URL+"/pictures/", "Ropes in Pictures"); err != nil {
		return err
	}
	_, err := t.run(0, "sites")
	return err
}

// course installs six sites from a table. The fourth has more seats than the app bears, which
// shows only when it is there.
func (t *tour) course() error {
	t.say("A course of six from a table, side by side. One of them does not work: it is undone, and the others stay.")
	table := filepath.Join(t.Folder, "demo", "course.csv")
	rows := "number;at;seats\n"
	for n := 1; n <= 6; n++ {
		seats := 12 + n
		if n == 4 {
			seats = 4000
		}
		rows += fmt.Sprintf("%d;slate-school.localhost/class-{number};%d\n", n, seats)
	}
	if err := os.WriteFile(table, []byte(rows), 0o600); err != nil {
		return err
	}
	fmt.Fprintf(t.out, "\n$ cat course.csv\n%s", rows)
	course := []string{"install", "slateroom", "--table", table, "-a", "title=Class {number}", "-a",
		"admin.email=head@slate-school.localhost", "--yes"}
	if _, err := t.run(1, course...); err != nil {
		return err
	}
	t.say("Mended and run again, it does what is missing.")
	if err := os.WriteFile(table, []byte(strings.Replace(rows, "4000", "16", 1)), 0o600); err != nil {
		return err
	}
	if _, err := t.run(0, course...); err != nil {
		return err
	}
	t.say("Which apps lie in the account, and all sites on one page.")
	if _, err := t.run(0, "find", AccountName); err != nil {
		return err
	}
	page := filepath.Join(t.Folder, "demo", "sites.html")
	if _, err := t.run(0, "report", "--into", page); err != nil {
		return err
	}
	for n := 1; n <= 6; n++ {
		if _, err := os.Stat(filepath.Join(t.Standin.Root, fmt.Sprintf("web/slate-school/class-%d", n))); err != nil {
			return err
		}
	}
	_, err := t.run(0, "remove", "class-1", "class-2", "class-3", "class-4", "class-5", "class-6", "--no-backup", "--yes",
		"--quiet")
	return err
}

// elsewhere has the same account reached as from a laptop: files over SFTP, and
// the database through that connection.
func (t *tour) elsewhere() error {
	t.say("The same account as from a laptop: its files over SFTP, its database through that connection.")
	a, err := t.Home.Account(AccountName)
	if err != nil {
		return err
	}
	database := a.Databases[0].Server
	a.Reach = "sftp://quill@" + t.Standin.SSH.Address() + filepath.ToSlash(t.Standin.Root)
	a.Login = &account.Access{Password: "plain:" + t.Password}
	a.Databases[0].Server, a.Databases[0].Admin.Password = account.Tunnel+database, "plain:"+t.Password
	if err := t.replace(a); err != nil {
		return err
	}
	install := []string{"install", "lampshelf", "--at", "lockside.localhost/pictures", "-a", "title=Locks at Dawn", "-a",
		"extra.theme=dawn", "-a", "admin.email=w@lockside.localhost", "--yes"}
	t.say("A server whose key nobody has seen yet is not signed in to.")
	if _, err := t.run(3, install...); err != nil {
		return err
	}
	if _, err := t.run(0, "account", "trust", AccountName, t.Standin.SSH.Fingerprint()); err != nil {
		return err
	}
	if _, err := t.run(0, install...); err != nil {
		return err
	}
	return t.byFTP(a, database)
}

// byFTP reaches the same account over FTP with TLS.
func (t *tour) byFTP(a *account.Account, database string) error {
	t.say("The same once more over FTP with TLS, whose certificate is accepted once.")
	a.Reach, a.Databases[0].Server = "ftps://quill@"+t.Standin.FTP.Address()+"/", database
	a.Runtime.Folder = filepath.ToSlash(t.Standin.Root) // FTP does not tell it
	if err := t.replace(a); err != nil {
		return err
	}
	if _, err := t.run(0, "account", "trust", AccountName, t.Standin.FTP.Fingerprint()); err != nil {
		return err
	}
	_, err := t.run(0, "install", "lampshelf", "--at", "slate-school.localhost/pictures", "-a", "title=Slate at Noon",
		"-a", "admin.email=head@slate-school.localhost", "--yes")
	if err != nil {
		return err
	}
	if _, err := t.run(0, "account", "test", AccountName); err != nil {
		return err
	}
	_, err = t.run(0, "account", "show", AccountName)
	return err
}

// replace takes the account's new description.
func (t *tour) replace(a *account.Account) error {
	text, err := a.Format()
	if err != nil {
		return err
	}
	file := filepath.Join(t.Folder, "laptop.yaml")
	if err := os.WriteFile(file, text, 0o600); err != nil {
		return err
	}
	_, err = t.run(0, "account", "add", AccountName, "--from", file, "--replace")
	return err
}

func (t *tour) end() error {
	t.say("What ran, and how it ended.")
	_, err := t.run(0, "jobs")
	return err
}
