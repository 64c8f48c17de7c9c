package account

import (
	"fmt"
	"net/url"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/hosting/database"
)

// problems collects all that is wrong with an account file, so that it is said
// at once; the ID is the place in the file.
type problems []fault.Problem

// unless notes what is wrong, unless it is in order.
func (p *problems) unless(inOrder bool, id, what, remedy string) {
	if !inOrder {
		*p = append(*p, fault.Problem{ID: id, What: what, Remedy: remedy})
	}
}

func (a *Account) problems() []fault.Problem {
	var p problems
	// the vault keeps the sites' secrets under the name "sites"
	p.unless(accountName.MatchString(a.Name) && a.Name != "sites", "account",
		fmt.Sprintf("%q is not a name for an account", a.Name), "Use lower case letters, digits and -.")
	a.reachProblems(&p)
	p.unless(Inside(a.Store), "own-folder", fmt.Sprintf("%q is not a folder inside the account", a.Store),
		"Write it from the account's top, such as .tivset.")
	p.unless(len(a.Domains) > 0, "domains", "there are none", "Add at least one, with name and folder.")
	for i, d := range a.Domains {
		id := fmt.Sprintf("domains[%d]", i)
		d.problems(&p, id)
		p.unless(!within(a.Store, d.Folder), "own-folder", "Tivset's own folder lies in the document root of "+d.Name,
			"Choose a folder that no domain serves.")
		first := slices.IndexFunc(a.Domains, func(o Domain) bool { return o.Name == d.Name })
		p.unless(first == i, id+".name", d.Name+" stands twice", "Keep one.")
	}
	for i, d := range a.Databases {
		id := fmt.Sprintf("databases[%d]", i)
		d.problems(&p, id)
		for _, domain := range a.Domains {
			served := d.InFiles() && (within(d.Server, domain.Folder) || d.Server == a.Store)
			p.unless(!served, id+".server", "the web serves "+domain.Folder+", and the store is "+a.Store,
				"Choose a folder of its own for database files, such as data.")
		}
	}
	if a.Mail != nil {
		p.unless(a.Mail.Server == OwnMail || hostPort(a.Mail.Server), "mail.server",
			fmt.Sprintf("%q is not host:port", a.Mail.Server), "Write it as 127.0.0.1:25, or as "+OwnMail+".")
		p.unless(a.Mail.User == "" || a.Mail.Server != OwnMail, "mail.user", "nobody signs in to this machine's own "+OwnMail,
			"Take user and password out.")
	}
	return p
}

// within says whether a folder is another or lies below it.
func within(folder, other string) bool {
	return folder == other || strings.HasPrefix(folder, other+"/")
}

// reachProblems looks at how the files are reached.
func (a *Account) reachProblems(p *problems) {
	if _, err := a.Top(); err != nil {
		p.unless(false, "files", err.Error(),
			"Write local:/srv/quillmere, or sftp://quill@host:22/home/quill (ftps://, ftp://) with login: {password: …}; "+
				"over SFTP also {key: FILE}.")
	}
	signsIn := a.Remote() == nil || a.Line().Keys || a.Login != nil && a.Login.Password != ""
	p.unless(signsIn, "login", "FTP needs a password", "Write login: {password: …}.")
	f := a.Runtime.Folder
	p.unless(f == "" || path.IsAbs(f) && path.Clean(f) == f, "runtime.folder",
		fmt.Sprintf("%q is not a folder from the root", f),
		"Write the account's folder as its programs see it, such as /home/quill.")
}

func (d Domain) problems(p *problems, id string) {
	p.unless(domainName.MatchString(d.Name) && len(d.Name) <= 253, id+".name", fmt.Sprintf("%q is not a domain", d.Name),
		"Write the name in lower case, without http:// and without a path.")
	p.unless(Inside(d.Folder), id+".folder", fmt.Sprintf("%q is not a folder inside the account", d.Folder),
		"Write the document root from the account's top, such as web/lockside.")
	p.unless(d.leads(), id+".url", fmt.Sprintf("%q does not lead to %s", d.URL, d.Name),
		"Write http:// or https://, the domain, and the port where it is unusual.")
	p.unless(d.Connect == "" || hostPort(d.Connect), id+".connect", fmt.Sprintf("%q is not host:port", d.Connect),
		"Write it as 127.0.0.1:8780.")
}

// leads says whether the domain's address is one of this domain's, and no path.
func (d Domain) leads() bool {
	u, err := url.Parse(d.URL)
	return err == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Hostname() == d.Name && u.Path == ""
}

func (d *Database) problems(p *problems, id string) {
	// the vault keeps those of SSH under these names
	named := accountName.MatchString(d.Name) && d.Name != "login" && d.Name != "passphrase"
	p.unless(named, id+".name", fmt.Sprintf("%q is not a name", d.Name),
		"Use lower case letters, digits and -, such as main.")
	_, known := database.EngineOf(d.Engine)
	p.unless(known, id+".engine", fmt.Sprintf("%q cannot be used", d.Engine),
		"Write mariadb (for MySQL too), postgresql or sqlite.")
	if d.InFiles() {
		d.fileProblems(p, id)
		return
	}
	what, remedy := WrongServer(d.Server)
	p.unless(what == "", id+".server", what, remedy)
	d.makeProblems(p, id)
	p.unless(prefixName.MatchString(d.Prefix), id+".prefix", fmt.Sprintf("%q cannot begin a name", d.Prefix),
		"Use at most 16 lower case letters, digits and _.")
}

// makeProblems looks at how databases are made on a server.
func (d *Database) makeProblems(p *problems, id string) {
	helped := d.Make != Helper || len(d.Helper) > 0 && filepath.IsAbs(d.Helper[0])
	p.unless(helped, id+".helper", "the helper's program is missing, or does not begin at the root",
		"Write helper: [/usr/local/bin/make-database].")
	p.unless(d.Make == "" || d.Make == ByHand || d.Make == Helper, id+".make",
		fmt.Sprintf("%q is not a way to make databases", d.Make), "Write by-hand or helper, or give admin.")
	p.unless((d.Admin == nil) != (d.Make == ""), id+".admin", "it must say either admin or make",
		"admin: {user, password} of a user who may create databases.")
	if d.Admin == nil {
		return
	}
	p.unless(d.Admin.User != "", id+".admin.user", "it is empty", "Name the user who may create databases.")
	p.unless(!d.FromInside(), id+".admin", "databases that only the sites can reach are made by hand, or by a helper",
		"Write make: by-hand instead of admin.")
}

// fileProblems: databases that are files need a folder, and nobody who may
// create.
func (d *Database) fileProblems(p *problems, id string) {
	p.unless(Inside(d.Server), id+".server", fmt.Sprintf("%q is not a folder inside the account", d.Server),
		"Write the folder for database files from the account's top, outside of every document root, such as data.")
	p.unless(d.Admin == nil && d.Make == "", id+".admin", "databases of SQLite are files: nobody signs in",
		"Leave admin and make out.")
}
