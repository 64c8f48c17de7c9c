package site

import (
	"cmp"
	"path"
	"path/filepath"
	"strings"
	"time"

	"tivset/internal/answer"
	"tivset/internal/app/fill"
	"tivset/internal/hosting/database"
)

// Values gives everything that the kit's texts and templates can name.
func (s *Site) Values(now time.Time) (fill.Values, error) {
	v := fill.Values{
		"title": s.Face.Title, answer.Subtitle: s.Face.Subtitle, "language": s.Face.Language,
		"release": s.Of.Upstream(), "app": s.App, "now": now.UTC().Format("2006-01-02 15:04:05"),
		"url": s.At.URL(), "domain": s.At.Domain.Name, "path": s.At.Path(),
		answer.AdminName: s.Admin.Name, answer.AdminEmail: s.Admin.Email, answer.AdminPassword: s.Password().Reveal(),
		answer.AdminFirstName: s.Admin.First, answer.AdminLastName: s.Admin.Last,
		"support.email":    cmp.Or(s.Admin.Support, s.Admin.Email),
		answer.AdminFolder: s.Place.AdminFolder, "data.folder": s.serverPath(s.Place.DataFolder),
		"site.folder": s.serverPath(s.Place.Folder),
	}
	for _, a := range s.Kit.Questions {
		v["answer."+a.ID] = plain(a.Kind, s.Answers[a.ID])
	}
	for _, e := range s.Kit.Extras {
		v[e.Answer()] = plain(e.Kind, s.Answers[e.Answer()])
	}
	for name, secret := range s.Secrets {
		v[name] = secret.Reveal()
	}
	s.dataValues(v)
	for name, text := range s.Kit.Values {
		filled, err := fill.Text(text.For(v["data.engine"]), v)
		if err != nil {
			return nil, err
		}
		v["value."+name] = filled
	}
	return v, nil
}

// dataValues adds those of the database; empty ones for a site without.
func (s *Site) dataValues(v fill.Values) {
	for _, name := range []string{"engine", "server", "host", "port", "name", "user", "file"} {
		v["data."+name] = ""
	}
	v["tables"] = ""
	if _, known := v[DataPassword]; !known {
		v[DataPassword] = ""
	}
	d := s.Data
	if d == nil {
		return
	}
	host, port := s.Server.HostAndPort()
	v["data.engine"], v[answer.DataName], v[answer.DataUser], v["tables"] = d.Engine, d.Name, d.User, d.Tables
	v[answer.DataServer], v["data.host"], v["data.port"] = s.Server.ForSites, host, port
	if s.Server.InFiles() {
		v["data.file"] = s.serverPath(database.File(s.Server.Server, d.Name))
	}
}

// plain is an answer as an app reads it: nothing chosen of several is empty.
func plain(kind, given string) string {
	if kind == "several-of" {
		return strings.Join(answer.Chosen(given), ", ")
	}
	return given
}

// serverPath is a folder of the account as the app sees it.
func (s *Site) serverPath(folder string) string {
	top := s.In.ServerTop()
	if folder == "" || top == "" {
		return ""
	}
	return path.Join(filepath.ToSlash(top), folder)
}
