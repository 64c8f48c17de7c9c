package question

import (
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/database"
	"tivset/internal/suggest"
)

// How a site comes to its database: the answers to data.from.
const (
	DataNew      = "new"
	DataExisting = "existing"
	DataByHand   = "by-hand"
)

// aboutData asks where the site keeps its data.
func (a *Asking) aboutData() []answer.Question {
	var out []answer.Question
	if a.Release.NeedsDatabase() {
		out = a.aboutDatabase()
	}
	if a.Kit.Place.DataFolder {
		out = append(out, answer.Question{ID: "data.folder", Text: "Folder for the site's files", Short: "folder for files",
			Group: "Data", Kind: "text", Default: a.proposedDataFolder(), Rare: true, Check: a.dataFolder,
			Help: "What visitors must not fetch by its address: uploads, papers. From the account's top, outside of every " +
				"document root."})
	}
	return out
}

func (a *Asking) aboutDatabase() []answer.Question {
	server := a.Server()
	if server != nil && server.InFiles() {
		return a.aboutDatabaseFile(server)
	}
	from := a.from(server)
	all := answer.Question{ID: answer.DataFrom, Text: "The database", Short: "database", Group: "Data", Kind: "one-of",
		Options: []string{DataNew, DataExisting, DataByHand}, Default: from, Rare: from != DataByHand,
		Help: "new: made for you. existing: one that is there, several sites can share it. by-hand: you make it in the " +
			"host's control panel, and Tivset says what and tries it."}
	given := a.Given[answer.DataFrom]
	if given == "" {
		given = from
	}
	made := given == DataNew
	ready := a.ready(server)
	own := func(id, short, ask, help string, longest int, proposed string) answer.Question {
		q := answer.Question{ID: id, Text: ask, Short: short, Group: "Data", Kind: "text", Needed: !made, Help: help,
			Rare: made || ready != nil && given == DataExisting}
		switch {
		case given != DataExisting:
			q.Default = proposed
		case ready != nil:
			q.Default = map[string]string{answer.DataName: ready.Name, answer.DataUser: ready.User}[id]
		}
		if given == DataNew {
			q.Pattern, q.Form = fmt.Sprintf(`[A-Za-z0-9_]{1,%d}`, longest), fmt.Sprintf("at most %d letters, digits and _",
				longest)
			q.Check = func(value string) (string, string) { return a.prefixed(server, value) }
		}
		return q
	}
	name := a.proposedName(server)
	out := []answer.Question{all, a.aboutServer(server),
		own(answer.DataName, "name", "Name of the database", "", 64, name),
		own(answer.DataUser, "user", "User of the database",
			"The site signs in to the database under this name; nobody else has to.", 32, name),
		{ID: answer.DataPassword, Text: "Password of that user", Short: "password", Group: "Data", Kind: "text", Secret: true,
			Needed: given == DataExisting && a.GivenData() == nil, Rare: given == DataByHand || a.GivenData() != nil,
			Help: "Left out for a database that the account names: its password is in the vault.",
			When: when("data.from != new")}}
	return append(out, a.aboutTables()...)
}

// aboutDatabaseFile asks about a database that is a file: nobody signs in to it.
func (a *Asking) aboutDatabaseFile(server *account.Database) []answer.Question {
	out := []answer.Question{
		{ID: answer.DataFrom, Text: "The database", Short: "database", Group: "Data", Kind: "one-of",
			Options: []string{DataNew},
			Default: DataNew, Quiet: true, Help: "A new file is made for the site."},
		a.aboutServer(server),
		{ID: answer.DataName, Text: "Name of the database", Short: "name", Group: "Data", Kind: "text", Rare: true,
			Default: a.proposedName(server), Pattern: `[A-Za-z0-9_]{1,64}`, Form: "at most 64 letters, digits and _",
			Check: func(value string) (string, string) {
				return a.prefixed(server, value)
			}, Help: "The database is a file of this name in a folder of its own."}}
	return append(out, a.aboutTables()...)
}

func (a *Asking) aboutServer(server *account.Database) answer.Question {
	q := answer.Question{ID: answer.DataServer, Text: "Database server", Short: "server", Group: "Data", Kind: "text",
		Rare: len(a.fitting()) < 2, Check: a.dataServer,
		Help: "One of the account's: " + strings.Join(a.serverNames(), ", ") +
			". For a database that is there, host:port will do as well."}
	if server != nil {
		q.Default = server.Name
	}
	return q
}

func (a *Asking) aboutTables() (out []answer.Question) {
	if a.Kit.UsesTables() {
		out = append(out, answer.Question{ID: answer.DataTables, Text: "Names of tables begin with",
			Short: "tables begin with",
			Group: "Data", Kind: "text", Default: a.Proposed.Tables, Pattern: `[A-Za-z][A-Za-z0-9_]{0,19}`, Rare: true,
			Form: "at most 20 letters, digits and _, beginning with a letter",
			Help: "Keeps several sites in one database apart; a random one is harder to guess."})
	}
	return out
}

// fitting lists the account's servers that the release can use.
func (a *Asking) fitting() []*account.Database {
	var out []*account.Database
	for i := range a.Account.Databases {
		if _, ok := a.Release.Needs.Database[a.Account.Databases[i].Engine]; ok {
			out = append(out, &a.Account.Databases[i])
		}
	}
	return out
}

func (a *Asking) serverNames() []string {
	var out []string
	for _, d := range a.fitting() {
		out = append(out, d.Name)
	}
	return out
}

// Server is the server to use: the one named, else the first that fits. A
// server that the account does not have can be named by its address.
func (a *Asking) Server() *account.Database {
	wanted := a.Given[answer.DataServer]
	for _, d := range a.fitting() {
		if wanted == "" || d.Name == wanted {
			return d
		}
	}
	if byAddress(wanted) {
		for _, engine := range slices.Sorted(maps.Keys(a.Release.Needs.Database)) {
			if e, _ := database.EngineOf(engine); !e.InFiles {
				return account.Elsewhere(engine, wanted)
			}
		}
	}
	return nil
}

func byAddress(server string) bool { return strings.ContainsAny(server, ":/") }

func (a *Asking) dataServer(value string) (what, remedy string) {
	names := a.serverNames()
	from := a.Given[answer.DataFrom]
	switch {
	case slices.Contains(names, value):
		return "", ""
	case byAddress(value) && (from == DataExisting || from == DataByHand):
		return account.WrongServer(value)
	case byAddress(value):
		return "new databases are made on the account's own servers only", "Choose one of: " + strings.Join(names, ", ") +
			"; or say data.from=existing."
	case len(names) == 0:
		return "the account has no database server that " + a.Kit.Title + " can use", "Add one to the account with engine " +
			strings.Join(slices.Sorted(maps.Keys(a.Release.Needs.Database)), " or ") + "."
	}
	return fmt.Sprintf("%q cannot be chosen", value), strings.TrimSpace(suggest.Hint(value, names) + " Choose one of: " +
		strings.Join(names, ", ") + ".")
}

// from is how a database is come by when nobody says: made for you, unless the
// account says that it is made by hand.
func (a *Asking) from(server *account.Database) string {
	switch {
	case server == nil || server.Make != account.ByHand:
		return DataNew
	case a.ready(server) != nil:
		return DataExisting
	}
	return DataByHand
}

// ready is a database that the host made and no site uses; nil for none.
func (a *Asking) ready(server *account.Database) *account.Given {
	if server == nil {
		return nil
	}
	for i, g := range server.Given {
		if !slices.Contains(a.Proposed.Taken, a.Account.Name+"/"+server.Name+"/"+g.Name) {
			return &server.Given[i]
		}
	}
	return nil
}

// GivenData is the database of the account that the answers mean, if it is one that the host made and its
// password is kept; else nil.
func (a *Asking) GivenData() *account.Given {
	server := a.Server()
	if server == nil || a.Given[answer.DataPassword] != "" {
		return nil
	}
	from := a.Given[answer.DataFrom]
	if from == "" {
		from = a.from(server)
	}
	name, user := a.Given[answer.DataName], a.Given[answer.DataUser]
	if g := a.ready(server); g != nil && name == "" {
		name = g.Name
	}
	for i, g := range server.Given {
		if from == DataExisting && g.Name == name && (user == "" || user == g.User) && g.Password != "" {
			return &server.Given[i]
		}
	}
	return nil
}

// prefixed checks that a new name begins as the account's names must.
func (a *Asking) prefixed(server *account.Database, value string) (what, remedy string) {
	if server != nil && !strings.HasPrefix(value, server.Prefix) {
		return "names on this server begin with " + server.Prefix, "Write it as " + server.Prefix +
			strings.TrimLeft(value, "_") + "."
	}
	return "", ""
}

// proposedName is the account's prefix, the app, and something random.
func (a *Asking) proposedName(server *account.Database) string {
	if server == nil {
		return ""
	}
	return server.Prefix + ShortName(a.Kit.App) + a.Proposed.Token
}

// ShortName is an app's name as names of databases begin, behind the prefix.
func ShortName(app string) string {
	short := strings.ReplaceAll(app, "-", "")
	return short[:min(4, len(short))]
}

var apart = regexp.MustCompile(`[^a-z0-9]+`)

func (a *Asking) proposedDataFolder() string {
	words := []string{a.Kit.App, strings.Split(a.Domain, ".")[0]}
	if a.Dir != "" {
		words = append(words, a.Dir)
	}
	return "data/" + apart.ReplaceAllString(strings.Join(words, "-"), "-") + "-" + a.Proposed.Token
}

// overlap says whether one of two folders is the other or lies in it.
func overlap(a, b string) bool {
	return strings.HasPrefix(a+"/", b+"/") || strings.HasPrefix(b+"/", a+"/")
}

// dataFolder keeps the site's files out of what the web serves.
func (a *Asking) dataFolder(value string) (what, remedy string) {
	if !account.Inside(value) || path.Clean(value) != value {
		return fmt.Sprintf("%q is not a folder inside the account", value), "Write it from the account's top, such as " +
			a.proposedDataFolder() + "."
	}
	for _, d := range a.Account.Domains {
		if overlap(value, d.Folder) {
			return "the web serves " + d.Folder + " as " + d.Name, "Choose a folder outside of every document root, such as " +
				a.proposedDataFolder() + "."
		}
	}
	if overlap(value, a.Account.Store) {
		return "that is Tivset's own folder", "Choose a folder of its own, such as " + a.proposedDataFolder() + "."
	}
	return "", ""
}
