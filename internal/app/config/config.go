// Package config writes values into an app's configuration file so that the
// app reads back exactly those values.
//
// A template says where a value goes, never how it is quoted: quoting belongs
// to the format. A place inside quotes of the template's own is therefore an
// error, which Check finds before anything is installed.
package config

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"tivset/internal/app/fill"
)

// Format is a syntax for configuration files.
type Format interface {
	// Quote writes a value as a literal of the format, quotes included. It
	// errs for a value that the format cannot hold.
	Quote(value string) (string, error)
	// Bare writes a number or a truth value, which go without quotes. The
	// value is already known to be one.
	Bare(value string) string
	// Open reports why a value cannot stand at these offsets of the template,
	// or nothing for those where it can.
	Open(template string, places []Span) map[int]string
}

// Span is the extent of a place in a template, in bytes.
type Span struct{ From, To int }

var formats = map[string]Format{
	"dotenv": dotenv{}, "ini": ini{}, "json": jsonFormat{}, "php": php{}, "text": text{}, "toml": toml{},
	"xml": xmlFormat{}, "yaml": yaml{},
}

// Formats lists the names of all formats, sorted.
func Formats() []string { return slices.Sorted(maps.Keys(formats)) }

// For returns the format of a name.
func For(name string) (Format, error) {
	if f, ok := formats[name]; ok {
		return f, nil
	}
	return nil, fmt.Errorf("no configuration format is called %q; there are %s", name, strings.Join(Formats(), ", "))
}

// Render fills a template, each value written as the format wants it.
func Render(f Format, template string, values fill.Values) ([]byte, error) {
	var out strings.Builder
	for _, p := range fill.Parse(template) {
		if p.Name == "" {
			out.WriteString(p.Text)
			continue
		}
		v, err := p.Value(values)
		if err != nil {
			return nil, err
		}
		if bare(p) {
			out.WriteString(f.Bare(v))
			continue
		}
		quoted, err := f.Quote(v)
		if err != nil {
			return nil, fmt.Errorf("{%s}: %w", p.Name, err)
		}
		out.WriteString(quoted)
	}
	return []byte(out.String()), nil
}

// bare says whether the place's last filter makes a number or a truth value.
func bare(p fill.Part) bool {
	return len(p.Filters) > 0 && slices.Contains([]string{"number", "flag"}, p.Filters[len(p.Filters)-1])
}

// Complaint is something wrong with a template.
type Complaint struct {
	Line int // from 1
	What string
}

// Check reports what is wrong with a template: places that name no known
// value, and places where the format cannot take one.
func Check(f Format, template string, known []string) []Complaint {
	var out []Complaint
	var spans []Span
	parts := fill.Parse(template)
	for i, p := range parts {
		if p.Name == "" {
			continue
		}
		end := len(template)
		if i+1 < len(parts) {
			end = parts[i+1].Offset
		}
		spans = append(spans, Span{p.Offset, end})
		if err := fill.Check(template[p.Offset:end], known); err != nil {
			out = append(out, Complaint{line(template, p.Offset), err.Error()})
		}
	}
	for at, why := range f.Open(template, spans) {
		out = append(out, Complaint{line(template, at), why})
	}
	slices.SortFunc(out, func(a, b Complaint) int { return a.Line - b.Line })
	return out
}

func line(text string, at int) int { return 1 + strings.Count(text[:at], "\n") }
