package site

import (
	"cmp"
	"net"
	"path"
	"path/filepath"
	"strings"
	"time"

	"tivset/internal/answer"
	"tivset/internal/app/fill"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/database"
)

// values gives everything that the kit's texts and templates can name.
func (p *Plan) values(now time.Time) (fill.Values, error) {
	v := fill.Values{
		"title": p.Site.Title, "tagline": p.Site.Tagline, "language": p.Site.Language,
		"release": p.Release, "app": p.App, "now": now.UTC().Format("2006-01-02 15:04:05"),
		"url": p.place.URL(), "domain": p.place.Domain.Name, "path": p.place.Path(),
		"admin.name": p.Admin.Name, "admin.email": p.Admin.Email, "admin.password": p.password.Reveal(),
		"admin.first-name": p.Admin.First, "admin.last-name": p.Admin.Last, "support.email": cmp.Or(p.Admin.Support, p.Admin.Email),
		"admin.folder": p.Place.AdminFolder, "data.folder": p.serverPath(p.Place.DataFolder),
		"data.engine": "", "data.server": "", "data.host": "", "data.port": "", "data.name": "", "data.user": "", "data.password": "", "data.file": "", "tables": "",
	}
	for _, a := range p.kit.Asks {
		v["ask."+a.ID] = plain(a.Kind, p.answers[a.ID])
	}
	for _, e := range p.kit.Extras {
		v[e.Answer()] = plain(e.Kind, p.answers[e.Answer()])
	}
	for name, secret := range p.secrets {
		v[name] = secret.Reveal()
	}
	if d := p.Data; d != nil {
		host, port := hostAndPort(p.server.ForSites, d.Engine)
		v["data.engine"], v["data.name"], v["data.user"], v["tables"] = d.Engine, d.Name, d.User, d.Tables
		v["data.server"], v["data.host"], v["data.port"] = p.server.ForSites, host, port
		if d.Engine == account.SQLite {
			v["data.file"] = p.serverPath(database.File(p.server.Server, d.Name))
		}
	}
	for name, text := range p.kit.Values {
		filled, err := fill.Text(text.For(v["data.engine"]), v)
		if err != nil {
			return nil, err
		}
		v["value."+name] = filled
	}
	return v, nil
}

// plain is an answer as an app reads it: nothing chosen of several is empty.
func plain(kind, given string) string {
	if kind == "several-of" {
		return strings.Join(answer.Chosen(given), ", ")
	}
	return given
}

// serverPath is a folder of the account as the app sees it.
func (p *Plan) serverPath(folder string) string {
	top := p.account.ServerTop()
	if folder == "" || top == "" {
		return ""
	}
	return path.Join(filepath.ToSlash(top), folder)
}

// hostAndPort takes a server's address apart; without a port it is the
// engine's usual one.
func hostAndPort(server, engine string) (host, port string) {
	if strings.HasPrefix(server, "/") {
		return server, ""
	}
	host, port, err := net.SplitHostPort(server)
	if err != nil {
		return server, account.Engines[engine]
	}
	return host, port
}

// hidden lists every secret, for messages to leave out.
func (p *Plan) hidden() []string {
	var out []string
	for _, s := range p.secrets {
		out = append(out, s.Reveal())
	}
	return out
}
