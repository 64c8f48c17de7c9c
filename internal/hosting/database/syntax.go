package database

// Syntax is how an engine's scripts are cut into statements.
type Syntax struct {
	Backslash   bool // a backslash in a string escapes
	Escapes     bool // … only in strings that begin with E
	DoubleNames bool // double quotes are around names; else around strings
	Backquotes  bool // backquotes are around names
	Brackets    bool // so are square brackets
	Hash        bool // # begins a comment
	DashSpace   bool // -- begins a comment only before white space
	Obeyed      bool // comments that begin with ! are obeyed, and so kept
	Nested      bool // comments hold comments
	Parens      bool // a semicolon between parentheses ends nothing: rules hold statements so
	Dollars     bool // strings may stand between dollars
	Copy        bool // rows may follow COPY … FROM stdin
	Meta        bool // lines may begin with a backslash, for the command-line client
	Delimiters  bool // DELIMITER lines of the command-line client
	Triggers    bool // CREATE TRIGGER holds statements without a delimiter of their own
}
