package draft

import (
	"regexp"
	"sync"
)

// pattern is a regular expression (RE2) that is made when it is first used: there are many,
// and a program that drafts nothing is not to wait for them.
type pattern struct {
	text string
	once sync.Once
	made *regexp.Regexp
}

func lazily(text string) *pattern { return &pattern{text: text} }

func (p *pattern) re() *regexp.Regexp {
	p.once.Do(func() { p.made = regexp.MustCompile(p.text) })
	return p.made
}

// The methods are those of the same names of regexp.Regexp.
func (p *pattern) MatchString(s string) bool              { return p.re().MatchString(s) }
func (p *pattern) FindString(s string) string             { return p.re().FindString(s) }
func (p *pattern) FindStringIndex(s string) []int         { return p.re().FindStringIndex(s) }
func (p *pattern) FindStringSubmatch(s string) []string   { return p.re().FindStringSubmatch(s) }
func (p *pattern) ReplaceAllString(s, with string) string { return p.re().ReplaceAllString(s, with) }

func (p *pattern) FindAllStringSubmatch(s string, n int) [][]string {
	return p.re().FindAllStringSubmatch(s, n)
}

func (p *pattern) FindStringSubmatchIndex(s string) []int { return p.re().FindStringSubmatchIndex(s) }

func (p *pattern) FindAllStringSubmatchIndex(s string, n int) [][]int {
	return p.re().FindAllStringSubmatchIndex(s, n)
}

func (p *pattern) Split(s string, n int) []string { return p.re().Split(s, n) }
