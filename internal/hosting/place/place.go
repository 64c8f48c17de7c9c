// Package place resolves addresses: which domain and which folder of an
// account an address means, and what may be installed where.
package place

import (
	"fmt"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/suggest"
)

// Place is a domain and a directory: an address on the web and a folder in the
// account.
type Place struct {
	Domain account.Domain
	Dir    string // "" for the domain's root; names with slashes between them for one that lies deeper
}

// URL is the address with scheme and final slash.
func (p Place) URL() string { return p.Domain.URL + p.Path() }

// Path is the part of the address after the host, with both slashes.
func (p Place) Path() string {
	if p.Dir == "" {
		return "/"
	}
	return "/" + p.Dir + "/"
}

// Address is what a site is called by: no scheme, no final slash.
func (p Place) Address() string {
	_, rest, _ := strings.Cut(p.URL(), "://")
	return strings.TrimSuffix(rest, "/")
}

// Folder is the place's folder from the account's top.
func (p Place) Folder() string { return path.Join(p.Domain.Folder, p.Dir) }

var (
	directory  = regexp.MustCompile(`^[a-z0-9][a-z0-9_-]{0,62}$`)
	likeDomain = regexp.MustCompile(`^[a-z0-9-]+(\.[a-z0-9-]+)+$`)
)

// Resolve finds the place that an address means among the account's domains.
// The scheme and the port may be left out. What is wrong with an address is a
// usage fault that says what to write instead.
func Resolve(address string, domains []account.Domain) (Place, error) {
	bad := func(what, remedy string) (Place, error) {
		return Place{}, fault.New(fault.Usage, what, address, remedy)
	}
	scheme, rest, found := strings.Cut(address, "://")
	if !found {
		scheme, rest = "", address
	}
	host, dir, _ := strings.Cut(rest, "/")
	if strings.ContainsAny(rest, "?#@") {
		return bad("an address to install at has only a domain and a directory", "Leave out what begins with ?, # or @.")
	}
	if host == "" && scheme == "" && dir != "" { // /forum: on the main domain, or the only one
		host = mainDomain(domains)
	}
	if host == "" {
		return bad("the address names no domain", "Write it as "+example(domains)+".")
	}
	domain, err := find(host, domains)
	if err != nil {
		return Place{}, err
	}
	if scheme != "" && !strings.HasPrefix(domain.URL, scheme+"://") {
		return bad("the account has this domain at "+domain.URL, "Write "+domain.URL+", or change the account's url of it.")
	}
	dir = strings.TrimSuffix(dir, "/")
	if what, remedy := wrongDirectory(dir); what != "" {
		return bad(what, remedy)
	}
	return Place{domain, dir}, nil
}

func find(host string, domains []account.Domain) (account.Domain, error) {
	var names []string
	for _, d := range domains {
		u, err := url.Parse(d.URL)
		if err == nil && (strings.EqualFold(host, d.Name) || strings.EqualFold(host, u.Host)) {
			return d, nil
		}
		names = append(names, d.Name)
	}
	bare, _, _ := strings.Cut(host, ":")
	if i := slices.Index(names, strings.ToLower(bare)); i >= 0 {
		return account.Domain{}, fault.New(fault.Usage, names[i]+" has another port", host, "Write "+domains[i].URL+".")
	}
	remedy := strings.TrimSpace(suggest.Hint(bare, names) + " The account has " + strings.Join(names, ", ") + ".")
	return account.Domain{}, fault.New(fault.Usage, "the account has no such domain", host, remedy)
}

// deepest is how many directories an address may have below its domain.
const deepest = 4

// wrongDirectory says what is wrong with a directory, of one name or of several with
// slashes between them, and what to write.
func wrongDirectory(dir string) (what, remedy string) {
	if dir == "" {
		return "", ""
	}
	names := strings.Split(dir, "/")
	if len(names) > deepest {
		return fmt.Sprintf("an address has at most %d directories below its domain", deepest), "Write a shorter one."
	}
	for _, name := range names {
		if what, remedy := wrongName(name); what != "" {
			return what, remedy
		}
	}
	return "", ""
}

func wrongName(dir string) (what, remedy string) {
	if plain, err := url.PathUnescape(dir); err == nil {
		dir = plain
	}
	simple := strings.Trim(regexp.MustCompile(`[^a-z0-9_-]+`).ReplaceAllString(withoutAccents(dir), "-"), "-")
	instead := "Use lower case letters, digits, - and _"
	if simple != "" && directory.MatchString(simple) {
		instead += ", such as " + simple
	}
	instead += "."
	switch {
	case directory.MatchString(dir) && dir != "cgi-bin":
		return "", ""
	case dir == "":
		return "a directory has a name", "Write one slash between two names."
	case strings.Contains(dir, ".."):
		return "a directory cannot lead upwards", "Write names below the domain."
	case strings.ContainsAny(dir, " \t"):
		return "a directory cannot have spaces", instead
	case strings.ToLower(dir) != dir && directory.MatchString(strings.ToLower(dir)):
		return "a directory is written in lower case, as many servers tell the cases apart", "Write " + strings.ToLower(dir) +
			"."
	case likeDomain.MatchString(dir):
		return "the directory looks like a domain", "Name the domain first: DOMAIN/DIRECTORY; or use a name without dots."
	case dir == "cgi-bin" || strings.HasPrefix(dir, "."):
		return "servers keep this directory for themselves", "Choose another name."
	}
	return "a directory has plain characters only: others come out as % and digits in the address", instead
}

// withoutAccents is a name in small plain letters, as people write it where there are no others.
func withoutAccents(name string) string {
	var out strings.Builder
	for _, r := range norm.NFD.String(strings.NewReplacer("ß", "ss", "ø", "o", "æ", "ae", "ł", "l", "đ", "d").Replace(
		strings.ToLower(name))) {
		if !unicode.Is(unicode.Mn, r) {
			out.WriteRune(r)
		}
	}
	return out.String()
}

// mainDomain is the account's main domain, or its only one; "" where it has several and no main one.
func mainDomain(domains []account.Domain) string {
	for _, d := range domains {
		if d.Primary || len(domains) == 1 {
			return d.Name
		}
	}
	return ""
}

func example(domains []account.Domain) string {
	if len(domains) == 0 {
		return "DOMAIN/DIRECTORY"
	}
	return domains[0].Name + "/blog"
}

// Match finds the one address that a word means: the whole of it, or an
// unambiguous beginning or ending, with or without scheme, port and final slash.
func Match(word string, addresses []string) (string, error) {
	switch fits := Fits(word, addresses); len(fits) {
	case 1:
		return fits[0], nil
	case 0:
		remedy := strings.TrimSpace(suggest.Hint(bareWord(word), addresses) + " See the sites with: " + fault.Call("sites"))
		return "", fault.NewAs(fault.NoSuchSite, fault.Usage, "no site has this address", word, remedy)
	default:
		return "", &fault.Error{Kind: fault.Usage, Code: fault.Ambiguous, What: "several sites could be meant", Where: word,
			Details: fits,
			Remedy:  "Write more of the address."}
	}
}

// Fits lists the addresses that a word can mean: the one that it is, with or
// without scheme, port and final slash, else those that it begins or ends.
func Fits(word string, addresses []string) []string {
	word = bareWord(word)
	if slices.Contains(addresses, word) {
		return []string{word}
	}
	var fits []string
	for _, a := range addresses {
		if withoutPort(a) == word {
			fits = append(fits, a)
		}
	}
	if len(fits) == 1 {
		return fits
	}
	fits = nil
	for _, a := range addresses {
		if word != "" && (strings.HasPrefix(a, word) || strings.HasSuffix(a, word)) {
			fits = append(fits, a)
		}
	}
	return fits
}

// bareWord is a word as addresses are written.
func bareWord(word string) string {
	if _, rest, ok := strings.Cut(word, "://"); ok {
		word = rest
	}
	return strings.ToLower(strings.TrimSuffix(word, "/"))
}

func withoutPort(address string) string {
	domain, directory, inside := strings.Cut(address, "/")
	domain, _, _ = strings.Cut(domain, ":")
	if inside {
		domain += "/" + directory
	}
	return domain
}
