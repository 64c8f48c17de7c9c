package web

import (
	"bytes"
	"errors"
	"fmt"
	"html"
	"net/url"
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"
)

// Form is a form of a page, with the values that the page gives it.
type Form struct {
	Action string // the address to send it to
	Method string // GET or POST
	Values url.Values
}

// Form finds the first form of the page that has all the fields named, and
// reads its defaults (HTML standard, "Constructing the entry list"): hidden
// fields, checked boxes, selected options, the text of text areas; of the
// buttons none.
func (p *Page) Form(fields []string) (*Form, error) {
	doc, err := goquery.NewDocumentFromReader(bytes.NewReader(p.Body))
	if err != nil {
		return nil, fmt.Errorf("read the page: %w", err)
	}
	var found *Form
	var offered []string
	doc.Find("form").EachWithBreak(func(_ int, s *goquery.Selection) bool {
		names := fieldNames(s)
		for _, f := range fields {
			if !slices.Contains(names, f) {
				offered = append(offered, "("+strings.Join(names, ", ")+")")
				return true
			}
		}
		found = p.read(s)
		return false
	})
	if found == nil && len(offered) == 0 {
		return nil, fmt.Errorf("the page has no form")
	}
	if found == nil {
		return nil, fmt.Errorf("no form of the page has the fields %s; there are %s", strings.Join(fields, ", "),
			strings.Join(offered, " and "))
	}
	return found, nil
}

// MaySend says why what is filled into a form of the page may not be sent to an address, if it may not.
func (p *Page) MaySend(address string) error {
	to, err := url.Parse(address)
	switch {
	case err != nil || to.Host != p.URL.Host:
		return errors.New("the form goes to another host")
	case inClear(p.URL, to):
		return errors.New("the form goes to an address that is not encrypted, as its page is")
	}
	return nil
}

func fieldNames(form *goquery.Selection) []string {
	var names []string
	form.Find("input[name], select[name], textarea[name]").Each(func(_ int, s *goquery.Selection) {
		names = append(names, s.AttrOr("name", ""))
	})
	return names
}

func (p *Page) read(form *goquery.Selection) *Form {
	f := &Form{Action: p.URL.String(), Method: strings.ToUpper(form.AttrOr("method", "GET")), Values: url.Values{}}
	if action, err := p.URL.Parse(form.AttrOr("action", "")); err == nil && form.AttrOr("action", "") != "" {
		f.Action = action.String()
	}
	form.Find("input[name], select[name], textarea[name]").Each(func(_ int, s *goquery.Selection) {
		if _, disabled := s.Attr("disabled"); disabled {
			return
		}
		name := s.AttrOr("name", "")
		switch goquery.NodeName(s) {
		case "textarea":
			f.Values.Add(name, s.Text())
		case "select":
			option := s.Find("option[selected]").First()
			if option.Length() == 0 {
				option = s.Find("option").First()
			}
			f.Values.Add(name, option.AttrOr("value", option.Text()))
		default:
			f.input(name, s)
		}
	})
	return f
}

func (f *Form) input(name string, s *goquery.Selection) {
	switch strings.ToLower(s.AttrOr("type", "text")) {
	case "submit", "button", "reset", "image", "file":
	case "checkbox", "radio":
		if _, on := s.Attr("checked"); on {
			f.Values.Add(name, s.AttrOr("value", "on"))
		}
	default:
		f.Values.Add(name, s.AttrOr("value", ""))
	}
}

// Shows says whether a reader of the page can find the text in it: in the
// page as it was sent, or in its text with references resolved and white
// space folded.
func (p *Page) Shows(text string) bool {
	if bytes.Contains(p.Body, []byte(text)) {
		return true
	}
	want := fold(text)
	if strings.Contains(fold(html.UnescapeString(string(p.Body))), want) {
		return true
	}
	doc, err := goquery.NewDocumentFromReader(bytes.NewReader(p.Body))
	return err == nil && strings.Contains(fold(doc.Text()), want)
}

func fold(s string) string { return strings.Join(strings.Fields(s), " ") }
