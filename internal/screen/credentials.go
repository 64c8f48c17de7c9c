package screen

import (
	"encoding/csv"
	"fmt"

	"github.com/aymanbagabas/go-osc52/v2"

	"tivset/internal/site"
)

// Credentials prints a site's credentials.
func (s *Streams) Credentials(c site.Credentials) {
	all := []Pair{{"Site", c.Site.URL}, {"Admin area", c.Site.AdminURL}, {"Name", c.Site.Admin.Name},
		{"Password", c.Password.Reveal()}}
	if d := c.Site.Database; d != nil {
		all = append(all, Pair{"Database", d.Name + " on " + d.Server})
		if d.User != "" {
			all = append(all, Pair{"User", d.User}, Pair{"Password", c.Data.Reveal()})
		}
	}
	for _, o := range c.Others {
		all = append(all, Pair{o.Name, o.Value.Reveal()})
	}
	s.Pairs(all)
}

// CredentialsCSV prints the admins' credentials as CSV (RFC 4180) with the
// headings that password managers know. What a spreadsheet would take for a
// formula is written as text; but a password stays as it is.
func (s *Streams) CredentialsCSV(all []site.Credentials) error {
	w := csv.NewWriter(s.Out)
	w.UseCRLF = true
	if err := w.Write([]string{"name", "url", "username", "password"}); err != nil {
		return err
	}
	for _, c := range all {
		if err := w.Write([]string{cell(c.Site.Title), cell(c.Site.AdminURL), cell(c.Site.Admin.Name),
			c.Password.Reveal()}); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

// Copy asks the terminal to put the password on the clipboard (OSC 52), which
// works through SSH too.
func (s *Streams) Copy(c site.Credentials) error {
	if _, err := osc52.New(c.Password.Reveal()).WriteTo(s.Err); err != nil {
		return err
	}
	s.Print("%s", fmt.Sprintf("The password of %s is on the clipboard, if the terminal allows it.", c.Site.Admin.Name))
	return nil
}
