package recovery

import (
	"bytes"
	_ "embed"
	"html/template"
)

//go:embed page.html
var pageText string

var page = template.Must(template.New("page").Parse(pageText))

// Page is a page to print: what a file is, and how it is opened. The passphrase is written on it by hand.
func Page(m Manifest, file string) string {
	var out bytes.Buffer
	_ = page.Execute(&out, struct { // into memory
		Manifest
		File string
	}{m, file})
	return out.String()
}
