// Package account describes hosting accounts: how to reach the files, which
// domains and database servers there are. It reads the account file and says
// all that is wrong with one; it reaches nothing itself.
package account

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"path"
	"regexp"
	"strconv"
	"strings"
	"unicode"

	"go.yaml.in/yaml/v3"
	"golang.org/x/text/unicode/norm"

	"tivset/internal/fault"
	"tivset/internal/hosting/database"
	"tivset/internal/suggest"
)

// Account is a hosting account, as its file says.
type Account struct {
	Name      string     `yaml:"account" json:"account"`
	Reach     string     `yaml:"files" json:"files"`
	Login     *Access    `yaml:"login,omitempty" json:"login,omitempty"`
	Domains   []Domain   `yaml:"domains" json:"domains"`
	Databases []Database `yaml:"databases,omitempty" json:"databases"`
	Runtime   Runtime    `yaml:"runtime,omitempty" json:"runtime,omitzero"`
	Store     string     `yaml:"own-folder,omitempty" json:"own_folder"`
	Mail      *Mail      `yaml:"mail,omitempty" json:"mail,omitempty"`
}

// Domain is a domain or subdomain of the account.
type Domain struct {
	Name    string `yaml:"name" json:"name"`
	Folder  string `yaml:"folder" json:"folder"`                       // the document root, from the account's top
	URL     string `yaml:"url,omitempty" json:"url"`                   // without a final slash
	Connect string `yaml:"connect,omitempty" json:"connect,omitempty"` // host:port to use when the name does not resolve
	Primary bool   `yaml:"primary,omitempty" json:"primary"`
}

// Database is a database server that the account's sites can use.
type Database struct {
	Name   string `yaml:"name" json:"name"`
	Engine string `yaml:"engine" json:"engine"`
	// host:port or a socket's path, as seen from here
	Server   string   `yaml:"server" json:"server"`
	ForSites string   `yaml:"for-sites,omitempty" json:"for_sites"`       // host or host:port, as the sites see it
	Clients  []string `yaml:"clients,omitempty" json:"clients,omitempty"` // hosts that the server sees the sites come from
	Admin    *Login   `yaml:"admin,omitempty" json:"admin,omitempty"`     // who may create
	Make     string   `yaml:"make,omitempty" json:"make,omitempty"`       // by-hand or helper, when there is no admin
	// with make: helper, the program on this machine and its arguments
	Helper []string `yaml:"helper,omitempty" json:"helper,omitempty"`
	Prefix string   `yaml:"prefix,omitempty" json:"prefix"` // what names must begin with
	Given  []Given  `yaml:"given,omitempty" json:"given,omitempty"`
}

// Given is a database that the host made. The first site that can use it is offered it.
type Given struct {
	Name     string `yaml:"name" json:"name"`
	User     string `yaml:"user" json:"user"`
	Password string `yaml:"password,omitempty" json:"-"` // a reference, vault:NAME once the account is kept
}

// Login is a user of a database server. Password is a reference, vault:NAME
// once the account is kept; it never reaches JSON.
type Login struct {
	User     string `yaml:"user" json:"user"`
	Password string `yaml:"password,omitempty" json:"-"`
}

// Access is how to sign in to the account's files where they are elsewhere.
// Password and Passphrase are references, vault:NAME once the account is kept.
type Access struct {
	Password   string `yaml:"password,omitempty" json:"-"`
	Key        string `yaml:"key,omitempty" json:"key,omitempty"` // a private key's file on this machine
	Passphrase string `yaml:"passphrase,omitempty" json:"-"`
}

// Tunnel begins the address of a database server that is reached through the
// account's SSH connection; the rest is as the account's own machine sees it.
const Tunnel = "tunnel:"

// FromSites begins the address of a database server that only the sites can
// reach: installs work in it through PHP that they put there for a while.
const FromSites = "inside:"

// Runtime is where the account's programs are, and what they see.
type Runtime struct {
	PHP string `yaml:"php,omitempty" json:"php,omitempty"`
	// the program crontab; without it timers are not set up, but described
	Crontab string `yaml:"crontab,omitempty" json:"crontab,omitempty"`
	// the account's folder as its own programs see it, where the reach cannot tell
	Folder string `yaml:"folder,omitempty" json:"folder,omitempty"`
}

// Mail is how the account's mail is sent.
type Mail struct {
	Server   string `yaml:"server" json:"server"` // host:port, or sendmail for this machine's own
	From     string `yaml:"from" json:"from"`
	User     string `yaml:"user,omitempty" json:"user,omitempty"` // who signs in there, if somebody has to
	Password string `yaml:"password,omitempty" json:"-"`          // a reference, vault:NAME once the account is kept
}

// OwnMail stands for the machine's own sendmail, in place of a mail server.
const OwnMail = "sendmail"

// DefaultStore is the account's store when the file names none.
const DefaultStore = ".tivset"

var (
	accountName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,40}$`)
	domainName  = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]*[a-z0-9])?(\.[a-z0-9]([a-z0-9-]*[a-z0-9])?)*$`)
	prefixName  = regexp.MustCompile(`^[a-z0-9_]{0,16}$`)
	unknownKey  = regexp.MustCompile(`line (\d+): field (\S+) not found in type account\.(\w+)`)
)

// ChangedPassword is what to do when a password was refused that once was right.
func ChangedPassword(name string) string {
	return "If it was changed at the host, give the new one: " + fault.Call("account", "password", name)
}

// NameOf makes a name that an account can have of what somebody calls it: “Boat Club” is boat-club.
// It is empty where nothing is left.
func NameOf(text string) string {
	var out strings.Builder
	for _, r := range norm.NFD.String(strings.ToLower(text)) {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			out.WriteRune(r)
		case unicode.Is(unicode.Mn, r): // an accent: “é” is “e”
		default:
			out.WriteByte('-')
		}
	}
	name := strings.Trim(regexp.MustCompile(`-{2,}`).ReplaceAllString(out.String(), "-"), "-")
	name = strings.TrimLeft(name, "-0123456789")
	return strings.Trim(name[:min(len(name), 41)], "-")
}

// Parse reads an account file, strictly, and fills in what may be left out.
func Parse(text []byte) (*Account, error) {
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	decoder.KnownFields(true)
	a := &Account{}
	if err := decoder.Decode(a); err != nil {
		return nil, parseFault(err)
	}
	if err := decoder.Decode(&Account{}); !errors.Is(err, io.EOF) {
		return nil, fault.New(fault.Usage, "the account file has more than one document", "", "Keep one account a file.")
	}
	a.complete()
	return a, fault.Join("the account file has mistakes", "Correct them and add the account again.", a.problems())
}

func parseFault(err error) error {
	if errors.Is(err, io.EOF) {
		return fault.New(fault.Usage, "the account file is empty", "", "See “Accounts” in the README for an example.")
	}
	var problems []fault.Problem
	keys := []string{"account", "files", "login", "key", "passphrase", "domains", "databases", "runtime", "own-folder",
		"mail",
		"name", "folder", "url", "connect", "primary", "engine", "server", "for-sites", "clients", "admin", "make", "helper",
		"folder", "crontab", "prefix", "user", "password", "php", "from", "given"}
	for _, m := range unknownKey.FindAllStringSubmatch(err.Error(), -1) {
		problems = append(problems, fault.Problem{ID: "line " + m[1], What: "the key " + m[2] + " is not known here",
			Remedy: hint(m[2], keys)})
	}
	if len(problems) > 0 {
		return fault.Join("the account file has mistakes", "Correct them and add the account again.", problems)
	}
	return fault.New(fault.Usage, "the account file cannot be read", "",
		"See “Accounts” in the README for an example.").Wrap(err)
}

// hint is the key that was meant; of one that has another name now, that name.
func hint(key string, keys []string) string {
	if now := map[string]string{"reach": "files", "store": "own-folder"}[key]; now != "" {
		return "It is called " + now + " now."
	}
	return suggest.Hint(key, keys)
}

// complete fills in what may be left out.
func (a *Account) complete() {
	if a.Store == "" {
		a.Store = DefaultStore
	}
	for i := range a.Domains {
		d := &a.Domains[i]
		if d.URL == "" {
			d.URL = "http://" + d.Name
		}
		d.URL = strings.TrimSuffix(d.URL, "/")
		d.Folder = strings.TrimSuffix(d.Folder, "/")
	}
	for i := range a.Databases {
		d := &a.Databases[i]
		if d.InFiles() {
			d.Server = strings.TrimSuffix(d.Server, "/")
			continue
		}
		if d.ForSites == "" {
			d.ForSites = strings.TrimPrefix(strings.TrimPrefix(d.Server, Tunnel), FromSites)
		}
		if len(d.Clients) == 0 {
			d.Clients = clients(d.ForSites)
		}
	}
}

// clients says from where sites come in the eyes of a server: from the same
// machine when we reach it there ourselves, else from anywhere.
func clients(server string) []string {
	host, _, err := net.SplitHostPort(server)
	if err != nil {
		host = server
	}
	if ip := net.ParseIP(host); strings.HasPrefix(server, "/") || host == "localhost" || ip != nil && ip.IsLoopback() {
		return []string{"localhost", "127.0.0.1"}
	}
	return []string{"%"}
}

// InFiles says whether the databases are files of the account.
func (d *Database) InFiles() bool { return d.engine().InFiles }

func (d *Database) engine() database.Engine {
	e, _ := database.EngineOf(d.Engine)
	return e
}

// FromInside says whether only the sites can reach the server.
func (d *Database) FromInside() bool { return strings.HasPrefix(d.Server, FromSites) }

// HostAndPort takes the server's address apart, as the sites see it; without a
// port it is the engine's usual one, and a socket's path has none.
func (d *Database) HostAndPort() (host, port string) {
	if strings.HasPrefix(d.ForSites, "/") {
		return d.ForSites, ""
	}
	host, port, err := net.SplitHostPort(d.ForSites)
	if err != nil {
		return d.ForSites, d.engine().Port
	}
	return host, port
}

// How databases are made where nobody may create them.
const (
	ByHand = "by-hand" // the owner makes them in the host's control panel
	Helper = "helper"  // a program of the host's makes them
)

// Elsewhere is a server that is no part of the account: only a database that
// is there already can be used on it.
func Elsewhere(engine, server string) *Database {
	return &Database{Name: server, Engine: engine, Server: server, ForSites: server, Clients: clients(server),
		Make: ByHand}
}

// WrongServer says what is wrong with a database server's address.
func WrongServer(server string) (what, remedy string) {
	server = strings.TrimPrefix(strings.TrimPrefix(server, Tunnel), FromSites)
	if strings.HasPrefix(server, "/") || hostPort(server) {
		return "", ""
	}
	return fmt.Sprintf("%q is neither host:port nor the path of a socket", server), "Write it as 127.0.0.1:3306."
}

// Inside says whether a path stays below the account's top.
func Inside(p string) bool {
	return p != "" && p != "." && fs.ValidPath(path.Clean(p)) && !strings.Contains(p, `\`)
}

func hostPort(s string) bool {
	host, port, err := net.SplitHostPort(s)
	n, errPort := strconv.Atoi(port)
	return err == nil && errPort == nil && host != "" && n > 0 && n < 65536
}

// Database returns the server of a name, or nil. A name that is an address is
// a server elsewhere.
func (a *Account) Database(name, engine string) *Database {
	for i := range a.Databases {
		if a.Databases[i].Name == name {
			return &a.Databases[i]
		}
	}
	if what, _ := WrongServer(name); what == "" {
		return Elsewhere(engine, name)
	}
	return nil
}

// Format writes the account as its file.
func (a *Account) Format() ([]byte, error) { return yaml.Marshal(a) }
