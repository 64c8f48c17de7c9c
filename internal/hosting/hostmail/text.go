package hostmail

import (
	"bytes"
	"encoding/base64"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net/mail"
	"regexp"
	"strings"

	"golang.org/x/net/html"
	"golang.org/x/text/encoding/htmlindex"
)

// plainText gives the text of a letter: of a mail as it is saved, its text or, where it has
// none, what its page says.
func plainText(text []byte) string {
	if m, err := mail.ReadMessage(bytes.NewReader(text)); err == nil && m.Header.Get("From") != "" {
		if body := part(m.Header.Get("Content-Type"), m.Header.Get("Content-Transfer-Encoding"), m.Body, 0); body != "" {
			return body
		}
	}
	s := string(text)
	if len(markup.FindAllStringIndex(s, 2)) > 1 {
		s = ofPage(s)
	}
	return strings.ReplaceAll(s, "\r", "")
}

// markup is what only a page has.
var markup = regexp.MustCompile(`(?i)</(html|body|p|div|table|tr|td|li|b|strong|code|span|a|h[1-6])\s*>|<br\s*/?>`)

// deepest is how deep parts may lie in parts.
const deepest = 5

// part gives the text of a part of a mail (RFC 2045).
func part(kind, encoding string, body io.Reader, deep int) string {
	media, params, err := mime.ParseMediaType(kind)
	if err != nil {
		media = "text/plain"
	}
	if strings.HasPrefix(media, "multipart/") && deep < deepest {
		var page string
		parts := multipart.NewReader(body, params["boundary"])
		for {
			p, err := parts.NextRawPart()
			if err != nil {
				return page
			}
			text := part(p.Header.Get("Content-Type"), p.Header.Get("Content-Transfer-Encoding"), p, deep+1)
			if is, _, _ := mime.ParseMediaType(p.Header.Get("Content-Type")); is != "text/html" && text != "" {
				return text
			}
			page = text
		}
	}
	if !strings.HasPrefix(media, "text/") {
		return ""
	}
	switch strings.ToLower(encoding) {
	case "quoted-printable":
		body = quotedprintable.NewReader(body)
	case "base64":
		body = base64.NewDecoder(base64.StdEncoding, body)
	}
	if enc, err := htmlindex.Get(params["charset"]); err == nil {
		body = enc.NewDecoder().Reader(body)
	}
	text, err := io.ReadAll(io.LimitReader(body, Longest))
	if err != nil && len(text) == 0 {
		return ""
	}
	if media == "text/html" {
		return ofPage(string(text))
	}
	return strings.ReplaceAll(string(text), "\r", "")
}

// ofPage gives what a page says, a line for each row, item or paragraph; cells of a row are
// a label and its value.
func ofPage(page string) string {
	var out strings.Builder
	z := html.NewTokenizer(strings.NewReader(page))
	hidden := 0
	for {
		switch z.Next() {
		case html.ErrorToken:
			return out.String()
		case html.TextToken:
			if text := strings.Join(strings.Fields(string(z.Text())), " "); text != "" && hidden == 0 {
				out.WriteString(text + " ")
			}
		case html.StartTagToken, html.EndTagToken, html.SelfClosingTagToken:
			token := z.Token()
			switch token.Data {
			case "style", "script":
				hidden = max(0, hidden+map[bool]int{true: 1, false: -1}[token.Type == html.StartTagToken])
			case "td", "th":
				if token.Type == html.EndTagToken {
					out.WriteString("\t")
				}
			case "br", "p", "div", "tr", "li", "h1", "h2", "h3", "h4", "table":
				out.WriteString("\n")
			}
		}
	}
}
