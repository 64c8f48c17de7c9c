package database

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
)

// longestStatement bounds the memory that one statement takes.
const longestStatement = 64 << 20

// Statement is one of a script's.
type Statement struct {
	Text string
	Line int       // on which it begins
	Data io.Reader // what follows COPY … FROM stdin; nil elsewhere. It need not be read to its end.
}

// Statements cuts an SQL script into statements as it is read and hands each
// to run. Names that begin with options.From, outside strings and comments,
// begin with options.To in what is handed on.
func Statements(script io.Reader, syntax Syntax, options ScriptOptions, run func(Statement) error) error {
	s := &splitter{Syntax: syntax, in: bufio.NewReaderSize(script, 1<<16), delimiter: ";", options: options, line: 1,
		start: 1}
	for {
		err := s.step()
		if errors.Is(err, io.EOF) {
			return s.emit(run)
		}
		if err != nil {
			return err
		}
		if s.complete {
			if err := s.emit(run); err != nil {
				return err
			}
		}
		if s.out.Len() > longestStatement {
			return s.tooLong()
		}
	}
}

type splitter struct {
	Syntax
	in        *bufio.Reader
	out       strings.Builder
	delimiter string
	options   ScriptOptions
	last      byte // the last byte of code, to know where names begin
	line      int
	start     int // the line on which the statement begins
	open      int // parentheses
	complete  bool
}

var (
	copies = regexp.MustCompile(`(?is)^COPY\s.*\sFROM\s+STDIN\b`)
	// A trigger's body holds statements of its own, up to its END.
	triggers = regexp.MustCompile(`(?is)^CREATE\s+(TEMP\s+|TEMPORARY\s+)?TRIGGER\s`)
	ends     = regexp.MustCompile(`(?is)\bEND\s*$`)
)

func (s *splitter) emit(run func(Statement) error) error {
	text := strings.TrimSpace(s.out.String())
	s.out.Reset()
	s.complete, s.last, s.open = false, 0, 0
	if text == "" {
		return nil
	}
	statement := Statement{Text: text, Line: s.start}
	if !s.Copy || !copies.MatchString(text) {
		return run(statement)
	}
	if err := s.skipLine(); err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	s.out.Reset()
	rows := &copied{s: s}
	statement.Data = rows
	if err := run(statement); err != nil {
		return err
	}
	_, err := io.Copy(io.Discard, rows)
	return err
}

// copied reads the rows of COPY up to the line \. (PostgreSQL manual, COPY,
// "Text Format").
type copied struct {
	s    *splitter
	rest []byte
	over bool
}

func (c *copied) Read(p []byte) (int, error) {
	for len(c.rest) == 0 {
		if c.over {
			return 0, io.EOF
		}
		row, err := c.s.in.ReadSlice('\n')
		whole := err == nil
		if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
			c.over = true
			if errors.Is(err, io.EOF) {
				return 0, fmt.Errorf("line %d: the rows of COPY have no end", c.s.start)
			}
			return 0, err
		}
		if whole {
			c.s.line++
		}
		if line := strings.TrimRight(string(row[:min(len(row), 4)]), "\r\n"); line == `\.` {
			c.over = true
			return 0, io.EOF
		}
		c.rest = row
	}
	n := copy(p, c.rest)
	c.rest = c.rest[n:]
	return n, nil
}

func (s *splitter) next() (byte, error) {
	b, err := s.in.ReadByte()
	if b == '\n' {
		s.line++
	}
	return b, err
}

func (s *splitter) put(b byte) {
	if s.out.Len() == 0 {
		if b == ' ' || b == '\n' || b == '\t' || b == '\r' {
			return
		}
		s.start = s.line
	}
	s.out.WriteByte(b)
}

func (s *splitter) ahead(text string) bool {
	got, _ := s.in.Peek(len(text))
	return string(got) == text
}

// step takes one character, string, comment or name.
func (s *splitter) step() error {
	if s.out.Len() == 0 {
		if s.Delimiters && s.aheadFold("delimiter ") {
			return s.setDelimiter()
		}
		if s.Meta && s.ahead(`\`) {
			return s.meta()
		}
	}
	if s.ahead(s.delimiter) {
		_, _ = s.in.Discard(len(s.delimiter))
		s.end()
		return nil
	}
	if s.nameBegins() {
		s.rename()
	}
	b, err := s.next()
	if err != nil {
		return err
	}
	switch {
	case b == '\'':
		return s.quoted(b, s.Backslash || s.Escapes && (s.last == 'E' || s.last == 'e'))
	case b == '"' && s.DoubleNames, b == '`' && s.Backquotes:
		return s.identifier(b, b)
	case b == '[' && s.Brackets:
		return s.identifier(b, ']')
	case b == '"':
		return s.quoted(b, s.Backslash)
	case b == '#' && s.Hash, b == '-' && s.dashComment():
		return s.skipLine()
	case b == '/' && s.ahead("*"):
		return s.comment()
	case b == '$' && s.Dollars && !wordByte(s.last):
		return s.dollars()
	}
	switch b {
	case '(':
		s.open++
	case ')':
		s.open--
	}
	s.put(b)
	s.last = b
	return nil
}

// end notes that a statement is whole, unless it is an inner one of a trigger or of a
// rule (PostgreSQL manual, psql: a semicolon between parentheses ends nothing).
func (s *splitter) end() {
	inTrigger := s.Triggers && triggers.MatchString(s.out.String()[:min(s.out.Len(), 40)]) &&
		!ends.MatchString(s.out.String())
	if inTrigger || s.Parens && s.open > 0 {
		s.put(';')
		s.last = ';'
		return
	}
	s.complete = true
}

func (s *splitter) aheadFold(text string) bool {
	got, _ := s.in.Peek(len(text))
	return strings.EqualFold(string(got), text)
}

func (s *splitter) setDelimiter() error {
	text, err := s.in.ReadString('\n')
	s.line++
	if d := strings.TrimSpace(text[len("delimiter "):]); d != "" {
		s.delimiter = d
	}
	return err
}

// meta passes over the lines that dumps write for their own client; any other
// command of that client is not SQL and cannot be carried out.
func (s *splitter) meta() error {
	text, err := s.in.ReadString('\n')
	word, _, _ := strings.Cut(strings.TrimSpace(text), " ")
	if word != `\restrict` && word != `\unrestrict` && word != `\.` {
		return fmt.Errorf("line %d: %s is a command of a client, not SQL", s.line, word)
	}
	s.line++
	return err
}

// dashComment: two dashes begin a comment; for MariaDB only before white space
// or the end.
func (s *splitter) dashComment() bool {
	got, _ := s.in.Peek(2)
	if len(got) == 0 || got[0] != '-' {
		return false
	}
	return !s.DashSpace || len(got) == 1 || strings.IndexByte(" \t\r\n", got[1]) >= 0
}

func (s *splitter) skipLine() error {
	for {
		b, err := s.next()
		if err != nil {
			return err
		}
		if b == '\n' {
			s.put('\n')
			s.last = b
			return nil
		}
	}
}

// quoted copies a string to its closing quote.
func (s *splitter) quoted(quote byte, escapes bool) error {
	s.put(quote)
	s.last = quote
	for {
		b, err := s.next()
		if err != nil {
			return s.unfinished(err, "a string")
		}
		s.out.WriteByte(b)
		if b == '\\' && escapes {
			if b, err = s.next(); err != nil {
				return s.unfinished(err, "a string")
			}
			s.out.WriteByte(b)
		} else if b == quote {
			return nil // a doubled quote begins the next string at once
		}
		if s.out.Len() > longestStatement {
			return s.tooLong()
		}
	}
}

func (s *splitter) tooLong() error {
	return fmt.Errorf("line %d: a statement of more than %d MB", s.start, longestStatement>>20)
}

// dollars copies a string between dollars, $$ … $$ or $tag$ … $tag$
// (PostgreSQL manual, "Dollar-Quoted String Constants").
func (s *splitter) dollars() error {
	s.put('$')
	s.last = '$'
	got, _ := s.in.Peek(64)
	tag := dollarTag.Find(got)
	if tag == nil {
		return nil // a parameter such as $1
	}
	end := "$" + string(tag)
	for range tag {
		b, err := s.next()
		if err != nil {
			return s.unfinished(err, "a string")
		}
		s.out.WriteByte(b)
	}
	for !s.ahead(end) {
		b, err := s.next()
		if err != nil {
			return s.unfinished(err, "a string between dollars")
		}
		s.out.WriteByte(b)
		if s.out.Len() > longestStatement {
			return s.tooLong()
		}
	}
	s.out.WriteString(end)
	_, err := s.in.Discard(len(end))
	return err
}

var dollarTag = regexp.MustCompile(`^([A-Za-z_\x80-\xff][A-Za-z0-9_\x80-\xff]*)?\$`)

func (s *splitter) identifier(open, end byte) error {
	s.put(open)
	s.last = 0
	if s.nameBegins() {
		s.rename()
	}
	s.last = '`'
	for {
		b, err := s.next()
		if err != nil {
			return s.unfinished(err, "a name in quotes")
		}
		s.out.WriteByte(b)
		if b == end {
			return nil
		}
	}
}

func (s *splitter) comment() error {
	keep := s.Obeyed && (s.ahead("*!") || s.ahead("*M!"))
	if keep {
		s.put('/')
	}
	depth := 1
	var last byte
	for first := true; ; first = false {
		b, err := s.next()
		if err != nil {
			return s.unfinished(err, "a comment")
		}
		if keep {
			s.out.WriteByte(b)
		}
		switch {
		case s.Nested && last == '/' && b == '*' && !first:
			depth, b = depth+1, 0
		case last == '*' && b == '/':
			depth, b = depth-1, 0
		}
		if depth == 0 {
			s.put(' ')
			s.last = ' '
			return nil
		}
		if last = b; first {
			last = 0 // the star of /* is no end of it
		}
	}
}

func (s *splitter) unfinished(err error, what string) error {
	if errors.Is(err, io.EOF) {
		return fmt.Errorf("line %d: %s without an end", s.start, what)
	}
	return err
}

// nameBegins says whether a name with the old prefix stands here.
func (s *splitter) nameBegins() bool {
	return s.options.From != "" && s.options.From != s.options.To && !wordByte(s.last) && s.ahead(s.options.From)
}

func (s *splitter) rename() {
	_, _ = s.in.Discard(len(s.options.From))
	for i := range len(s.options.To) {
		s.put(s.options.To[i])
	}
	s.last = '_'
}

func wordByte(b byte) bool {
	return b == '_' || b == '$' || b == '@' || b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' ||
		b > 127
}
