package database

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strings"
)

// longestStatement bounds the memory that one statement takes.
const longestStatement = 64 << 20

// Statements cuts an SQL script into statements as it is read and hands each
// to run, with the line on which it begins. It knows the MariaDB family's
// syntax: strings in three kinds of quotes, backslash escapes, comments of
// three kinds (/*! … */ is kept, for the server obeys it) and DELIMITER lines
// of the command-line client (MariaDB manual, "Comment Syntax", "Delimiters").
//
// Names that begin with options.From, outside strings and comments, begin with
// options.To in what is handed on.
func Statements(script io.Reader, options ScriptOptions, run func(statement string, line int) error) error {
	s := &splitter{in: bufio.NewReaderSize(script, 1<<16), delimiter: ";", options: options, line: 1, start: 1}
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
			return fmt.Errorf("line %d: a statement of more than %d MB", s.start, longestStatement>>20)
		}
	}
}

type splitter struct {
	in        *bufio.Reader
	out       strings.Builder
	delimiter string
	options   ScriptOptions
	last      byte // the last byte of code, to know where names begin
	line      int
	start     int // the line on which the statement begins
	complete  bool
}

func (s *splitter) emit(run func(string, int) error) error {
	statement := strings.TrimSpace(s.out.String())
	s.out.Reset()
	s.complete, s.last = false, 0
	if statement == "" {
		return nil
	}
	return run(statement, s.start)
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
	if s.out.Len() == 0 && s.aheadFold("delimiter ") {
		return s.setDelimiter()
	}
	if s.ahead(s.delimiter) {
		_, _ = s.in.Discard(len(s.delimiter))
		s.complete = true
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
	case b == '\'' || b == '"':
		return s.quoted(b, true)
	case b == '`':
		return s.identifier()
	case b == '#', b == '-' && s.dashComment():
		return s.skipLine()
	case b == '/' && s.ahead("*"):
		return s.comment()
	}
	s.put(b)
	s.last = b
	return nil
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

// dashComment: two dashes begin a comment only before white space or the end.
func (s *splitter) dashComment() bool {
	got, _ := s.in.Peek(2)
	return len(got) > 0 && got[0] == '-' && (len(got) == 1 || strings.IndexByte(" \t\r\n", got[1]) >= 0)
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
			return fmt.Errorf("line %d: a statement of more than %d MB", s.start, longestStatement>>20)
		}
	}
}

func (s *splitter) identifier() error {
	s.put('`')
	s.last = 0
	if s.nameBegins() {
		s.rename()
	}
	s.last = '`'
	for {
		b, err := s.next()
		if err != nil {
			return s.unfinished(err, "a name in backquotes")
		}
		s.out.WriteByte(b)
		if b == '`' {
			return nil
		}
	}
}

func (s *splitter) comment() error {
	keep := s.ahead("*!") || s.ahead("*M!")
	if keep {
		s.put('/')
	}
	var last byte
	for {
		b, err := s.next()
		if err != nil {
			return s.unfinished(err, "a comment")
		}
		if keep {
			s.out.WriteByte(b)
		}
		if last == '*' && b == '/' {
			s.put(' ')
			s.last = ' '
			return nil
		}
		last = b
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
	return b == '_' || b == '$' || b == '@' || b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b > 127
}
