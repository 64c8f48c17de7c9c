package config

import (
	"fmt"
	"regexp"
	"strings"
)

var constantDefined = regexp.MustCompile(
	`(?i)^(define\s*\(\s*(?:'([A-Za-z_\x80-\xff][A-Za-z0-9_\x80-\xff]*)'|"([A-Za-z_\x80-\xff][A-Za-z0-9_\x80-\xff]*)")\s*,\s*|const\s+([A-Za-z_\x80-\xff][A-Za-z0-9_\x80-\xff]*)\s*=\s*)`,
)

// SetConstant gives one constant of a PHP file another value: the one that
// define('NAME', …) or const NAME = … gives it (PHP manual, "Constants").
// Everything else stays as it was. A file that sets it not once, or more than
// once, is an error.
func SetConstant(text, name, value string) (string, error) {
	literal, err := php{}.Quote(value)
	if err != nil {
		return "", err
	}
	from, to, err := constantIn(text, name)
	if err != nil {
		return "", err
	}
	return text[:from] + literal + text[to:], nil
}

// constantIn finds the expression that sets a constant in a PHP file.
func constantIn(text, name string) (from, to int, err error) {
	scan := phpScan{text: text}
	var found int
	for scan.at < len(text) {
		at := scan.at
		if scan.in == "code" && (at == 0 || !wordByte(text[at-1])) {
			if m := constantDefined.FindStringSubmatch(text[at:]); m != nil && m[2]+m[3]+m[4] == name {
				found++
				from = at + len(m[0])
				to = endOfValue(text, from)
			}
		}
		scan.step(text[at:])
	}
	if found != 1 {
		return 0, 0, fmt.Errorf("the constant %s is set %d times in the file, not once", name, found)
	}
	return from, to, nil
}

func wordByte(b byte) bool {
	return b == '_' || b == '$' || b == '\\' || b > 127 || b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' &&
		b <= 'Z'
}

// endOfValue finds where an expression ends: at the comma, the bracket or the
// semicolon that belongs to what is around it.
func endOfValue(text string, from int) int {
	scan := phpScan{text: text, at: from, in: "code"}
	depth := 0
	for scan.at < len(text) {
		at := scan.at
		if scan.in == "code" {
			switch text[at] {
			case '(', '[', '{':
				depth++
			case ')', ']', '}':
				if depth == 0 {
					return at
				}
				depth--
			case ',', ';':
				if depth == 0 {
					return len(strings.TrimRight(text[:at], " \t\r\n"))
				}
			}
		}
		scan.step(text[at:])
	}
	return len(text)
}

// Constant reads the value of one constant of a PHP file. One that is not set
// once, as a plain string or number, is an error.
func Constant(text, name string) (string, error) {
	from, to, err := constantIn(text, name)
	if err != nil {
		return "", err
	}
	expression := strings.TrimSpace(text[from:to])
	value, _, ok := literal("php", expression)
	if !ok || expression != "" && strings.ContainsAny(expression[:1], `'"`) && !quotedWhole(expression) {
		return "", fmt.Errorf("the constant %s is put together, not a plain value", name)
	}
	return value, nil
}

// quotedWhole says whether an expression is one string in quotes and nothing else.
func quotedWhole(expression string) bool {
	end := 1
	for end < len(expression) && expression[end] != expression[0] {
		if expression[end] == '\\' {
			end++
		}
		end++
	}
	return end == len(expression)-1
}
