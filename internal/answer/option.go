package answer

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"strings"

	"tivset/internal/fault"
)

// Source opens a file for id=@FILE; the name "-" is standard input.
type Source func(name string) (io.ReadCloser, error)

// longestFile is how many bytes of a file an answer may come from.
const longestFile = 1 << 20

// Options reads answers given as id=value. A value of @FILE is the content of
// that file, @- of standard input, each without the line break that ends it; a
// value that begins with @@ begins with one @.
func Options(options []string, open Source) (Given, error) {
	out := Given{}
	var problems []fault.Problem
	for _, o := range options {
		id, value, found := strings.Cut(o, "=")
		if !found || id == "" {
			problems = append(problems, fault.Problem{ID: "-a", What: "an answer is written id=value",
				Remedy: "Such as -a title=\"Lockside Talk\"."})
			continue
		}
		if _, ok := out[id]; ok {
			problems = append(problems, fault.Problem{ID: id, What: "it is given twice", Remedy: "Give it once."})
		}
		if name, ok := strings.CutPrefix(value, "@"); ok && !strings.HasPrefix(name, "@") {
			text, err := read(name, open)
			if err != nil {
				problems = append(problems, fault.Problem{ID: id, What: unread(err),
					Remedy: "What stands after @ is the name of a file; write @@ for a value that begins with @."})
			}
			value = text
		} else if ok {
			value = name
		}
		out[id] = value
	}
	return out, fault.Join("some answers cannot be read", "Correct them and try again.", problems)
}

// unread says why a file cannot be read, without its name: it may be a password
// that begins with @.
func unread(err error) string {
	why := "it cannot be opened"
	for is, text := range map[error]string{fs.ErrNotExist: "no such file is here",
		fs.ErrPermission: "it may not be read"} {
		if errors.Is(err, is) {
			why = text
		}
	}
	return "the file that it names cannot be read: " + why
}

func read(name string, open Source) (string, error) {
	file, err := open(name)
	if err != nil {
		return "", err
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, longestFile))
	if err != nil {
		return "", err
	}
	text = bytes.TrimSuffix(bytes.TrimSuffix(text, []byte("\n")), []byte("\r"))
	return string(text), nil
}
