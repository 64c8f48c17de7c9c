package database

// Form is how an engine's dump writes rows; package rewrite reads each.
type Form int

// The forms of dumps.
const (
	Inserts  Form = iota // INSERT statements of many rows, texts with backslashes (MySQL manual, "String Literals")
	Copied               // COPY … FROM stdin, columns between tabs (PostgreSQL manual, "COPY", Text Format)
	Literals             // one INSERT a row, texts with doubled quotes, line breaks and all (SQLite, "Literal Values")
)

// Engine is all that is to be known of a database engine without reaching a
// server of it: what account files, kits, reviews and dumps need.
type Engine struct {
	Name    string // in account files, kits and records
	Title   string // for people
	Port    string // the usual one; "" where there is none
	InFiles bool   // each database is a file of the account: nobody signs in to it
	Dump    Form
	Syntax
}

// The engines. Another one is a value here, a folder beside this file, and a
// line in package reach.
//
// Their syntaxes (MariaDB manual, "Comment Syntax", "Delimiters";
// PostgreSQL manual, "Lexical Structure"; SQLite, "SQL As Understood By
// SQLite").
var (
	MariaDB = Engine{Name: "mariadb", Title: "MariaDB", Port: "3306", Dump: Inserts, // stands for MySQL too
		Syntax: Syntax{Backslash: true, Backquotes: true, Hash: true, DashSpace: true, Obeyed: true, Delimiters: true}}
	PostgreSQL = Engine{Name: "postgresql", Title: "PostgreSQL", Port: "5432", Dump: Copied,
		Syntax: Syntax{Escapes: true, DoubleNames: true, Nested: true, Parens: true, Dollars: true, Copy: true, Meta: true}}
	SQLite = Engine{Name: "sqlite", Title: "SQLite", InFiles: true, Dump: Literals,
		Syntax: Syntax{DoubleNames: true, Backquotes: true, Brackets: true, Triggers: true}}
)

// Engines lists the engines, in the order in which they are offered.
func Engines() []Engine { return []Engine{MariaDB, PostgreSQL, SQLite} }

// EngineNames lists the engines' names.
func EngineNames() []string {
	var out []string
	for _, e := range Engines() {
		out = append(out, e.Name)
	}
	return out
}

// EngineOf gives the engine of a name, and whether it is known. What is not
// known has its name for a title.
func EngineOf(name string) (Engine, bool) {
	for _, e := range Engines() {
		if e.Name == name {
			return e, true
		}
	}
	return Engine{Name: name, Title: name}, false
}
