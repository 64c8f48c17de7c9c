package check

import (
	"fmt"
	"net/url"
	"path"
	"regexp"
	"strings"

	"tivset/internal/site"
)

// Rules are what the host has to set for a site on a web server, so that strangers see nothing of what they must not.
type Rules struct {
	Server string `json:"server"`
	Where  string `json:"where"` // the rules go
	Text   string `json:"text"`
}

// RulesFor words them (nginx manual, location and autoindex; Apache manual, LocationMatch and Options; LiteSpeed's
// rewriting obeys Apache's mod_rewrite). The folders of a site keep their names: a rule says no more than its part.
func RulesFor(s *site.Site) ([]Rules, error) {
	at, err := url.Parse(s.Place.URL)
	if err != nil {
		return nil, err
	}
	var nginx, parts []string
	for _, part := range s.Kit.Place.Deny {
		part = path.Clean(part)
		full := path.Join("/", at.Path, part)
		nginx = append(nginx, fmt.Sprintf("location = %s { return 404; }\nlocation ^~ %s { return 404; }\n", quoted(full),
			quoted(full+"/")))
		parts = append(parts, regexp.QuoteMeta(part))
	}
	base := path.Join("/", at.Path)
	top := strings.TrimSuffix(base, "/") + "/"
	all := "(" + strings.Join(parts, "|") + ")(/|$)"
	denied := map[string]string{
		"apache": fmt.Sprintf("<LocationMatch \"^%s%s\">\n    Require all denied\n</LocationMatch>\n",
			regexp.QuoteMeta(top), all),
		"litespeed": fmt.Sprintf("RewriteEngine On\nRewriteRule ^/?%s%s - [F,L]\n", regexp.QuoteMeta(top[1:]), all),
	}
	if len(parts) == 0 {
		denied = map[string]string{}
	}
	return []Rules{
		{"nginx", "within the domain's server { … }", strings.Join(nginx, "") + "autoindex off;\n"},
		{"Apache", "within the domain's <VirtualHost>", denied["apache"] +
			fmt.Sprintf("<Location \"%s\">\n    Options -Indexes\n</Location>\n", base)},
		{"LiteSpeed", "among the domain's rewrite rules; its index lists are switched off under General, Auto Index",
			denied["litespeed"]},
	}, nil
}

// quoted is a path as nginx takes it whatever is in it.
func quoted(name string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(name) + `"`
}
