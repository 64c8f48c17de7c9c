// Package hostmail reads what a host writes to a new customer: a mail with servers, names and
// passwords in it, in whatever form and in one of eight languages. It takes what it
// understands, and never guesses a value that is not written there.
package hostmail

import (
	"encoding/json"
	"net"
	"strconv"
)

// Longest is up to how many bytes of a letter are read.
const Longest = 1 << 20

// Letter is what was understood. What is empty was not found.
type Letter struct {
	Servers   []Server // of files, in the order in which they are named
	User      string
	Password  string
	Folder    string // in which the files lie
	Domains   []Domain
	Databases []Data
	Mail      Mail
	Panel     string // where the control panel is, a link or a name
	Facts     []Fact // the same, as it was found
}

// Fact is one thing that was understood, and where.
type Fact struct {
	What  string // such as “user”
	Value string // “” for a secret
	Line  int    // from 1
	Text  string // the line, with its secrets taken out
}

// Said is a line of a letter, and what it says.
type Said struct {
	Line  int      // from 1
	Text  string   // with its secrets taken out
	Facts []string // such as “user quill”
}

// ByLine gives what was understood by the lines that say it.
func (l Letter) ByLine() (out []Said) {
	for _, f := range l.Facts {
		if n := len(out); n == 0 || out[n-1].Line != f.Line {
			out = append(out, Said{Line: f.Line, Text: f.Text})
		}
		last := &out[len(out)-1]
		value := f.Value
		if value == "" {
			value = "given"
		}
		last.Facts = append(last.Facts, f.What+" "+value)
	}
	return out
}

// Server is one that has the account's files.
type Server struct {
	Scheme string // sftp, ftps, ftp; "" where it is not said
	Host   string
	Port   string // "" for the usual one
}

// Domain is one that the account serves.
type Domain struct {
	Name   string
	Folder string // that it shows, as the mail names it
	URL    string // as the mail writes it

	Connect string // host:port until its name leads there: no mail says that, an owner may have
}

// Data is a database, or the server that may have some.
type Data struct {
	Engine   string // mariadb or postgresql; "" where it is not said
	Host     string
	Port     string
	Name     string
	User     string
	Password string
}

// Server is its host and port, as one.
func (d Data) Server() string { return joinedPort(d.Host, d.Port) }

// Mail is the server that takes mail.
type Mail struct {
	Host, Port     string
	User, Password string
}

// Server is its host and port, as one.
func (m Mail) Server() string { return joinedPort(m.Host, m.Port) }

func joinedPort(host, port string) string {
	if port == "" {
		return host
	}
	return net.JoinHostPort(host, port)
}

// Empty says whether nothing was understood that helps to reach an account.
func (l Letter) Empty() bool { return len(l.Servers) == 0 && l.User == "" && len(l.Databases) == 0 }

// Best is the server to try first: the way that reads nobody along, when several are named.
func (l Letter) Best() (best Server) {
	order := map[string]int{"sftp": 0, "": 1, "ftps": 2, "ftp": 3}
	for i, s := range l.Servers {
		if i == 0 || order[s.Scheme] < order[best.Scheme] {
			best = s
		}
	}
	return best
}

// MarshalJSON gives what was read without any secret: that there is a password, and not which.
func (l Letter) MarshalJSON() ([]byte, error) {
	type files struct {
		Protocol string `json:"protocol,omitempty"`
		Host     string `json:"host,omitempty"`
		Port     int    `json:"port,omitempty"`
		User     string `json:"user,omitempty"`
		Password bool   `json:"password,omitempty"`
		Folder   string `json:"folder,omitempty"`
	}
	type domain struct {
		Name   string `json:"name"`
		Folder string `json:"folder,omitempty"`
		URL    string `json:"url,omitempty"`
	}
	type data struct {
		Engine   string `json:"engine,omitempty"`
		Server   string `json:"server,omitempty"`
		Name     string `json:"name,omitempty"`
		User     string `json:"user,omitempty"`
		Password bool   `json:"password,omitempty"`
	}
	var out struct {
		Files     *files   `json:"files,omitempty"`
		Domains   []domain `json:"domains,omitempty"`
		Databases []data   `json:"databases,omitempty"`
		Mail      string   `json:"mail,omitempty"`
		Panel     string   `json:"panel,omitempty"`
	}
	best := l.Best()
	port, _ := strconv.Atoi(best.Port) // digits, by the form that it was read in
	if f := (files{best.Scheme, best.Host, port, l.User, l.Password != "", l.Folder}); f != (files{}) {
		out.Files = &f
	}
	for _, d := range l.Domains {
		out.Domains = append(out.Domains, domain{d.Name, d.Folder, d.URL})
	}
	for _, d := range l.Databases {
		out.Databases = append(out.Databases, data{d.Engine, d.Server(), d.Name, d.User, d.Password != ""})
	}
	out.Mail, out.Panel = l.Mail.Server(), l.Panel
	return json.Marshal(out)
}
