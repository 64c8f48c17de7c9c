package site

import (
	"context"
	"errors"
	"slices"
	"strings"

	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files"
)

// Facts are what owners look at before an install.
type Facts struct {
	Files     int             `json:"files"`
	Bytes     int64           `json:"bytes"` // of all files of the account
	Free      int64           `json:"free"`  // bytes left; -1 where nobody tells
	Domains   []DomainFacts   `json:"domains"`
	Databases []DatabaseFacts `json:"databases"`
	Timers    []string        `json:"timers"`   // the lines of the crontab that run something
	Warnings  []string        `json:"warnings"` // what could not be looked at
}

// DomainFacts are the sites of a domain.
type DomainFacts struct {
	Name  string   `json:"name"`
	Sites []string `json:"sites"` // such as moorings at lockside.localhost/forum
}

// DatabaseFacts is a database on one of the account's servers.
type DatabaseFacts struct {
	Server string `json:"server"`
	Name   string `json:"name"`
	Bytes  int64  `json:"bytes"` // -1 where nobody tells
	Site   string `json:"site"`  // the address of the site that keeps its data there, or ""
}

// AccountFacts looks at an account. What cannot be looked at is a warning.
func (s *Service) AccountFacts(ctx context.Context, a *account.Account) (Facts, error) {
	f := Facts{Free: -1, Domains: []DomainFacts{}, Databases: []DatabaseFacts{}, Timers: []string{}, Warnings: []string{}}
	sites, err := s.Ledger.Sites(ctx)
	if err != nil {
		return f, err
	}
	uses := map[string]string{}
	for _, d := range a.Domains {
		facts := DomainFacts{Name: d.Name, Sites: []string{}}
		for _, x := range sites {
			if host, _, _ := strings.Cut(x.Address, "/"); x.Account == a.Name && (host == d.Name || strings.HasPrefix(host, d.Name+":")) {
				facts.Sites = append(facts.Sites, x.App+" at "+x.Address)
			}
		}
		f.Domains = append(f.Domains, facts)
	}
	for _, x := range sites {
		if x.Account == a.Name && x.Database != nil {
			uses[x.Database.Server+"\n"+x.Database.Name] = x.Address
		}
	}
	s.fileFacts(ctx, a, &f)
	for i := range a.Databases {
		s.databaseFacts(ctx, a, &a.Databases[i], uses, &f)
	}
	return f, ctx.Err()
}

func (s *Service) fileFacts(ctx context.Context, a *account.Account, f *Facts) {
	fsys, err := s.OpenFiles(ctx, a)
	if err != nil {
		f.Warnings = append(f.Warnings, unreachable(a, err).Error())
		return
	}
	defer fsys.Close()
	if f.Files, f.Bytes, err = files.Count(ctx, fsys, ".", nil); err != nil {
		f.Warnings = append(f.Warnings, "not all files can be seen: "+err.Error())
	}
	if teller, ok := fsys.(files.SpaceTeller); ok {
		if free, err := teller.Free(ctx); err == nil {
			f.Free = free
		}
	}
	if commander, ok := fsys.(files.Commander); ok && a.Runtime.Crontab != "" {
		crontab, err := readCrontab(ctx, commander, a.Runtime.Crontab)
		if err != nil {
			f.Warnings = append(f.Warnings, err.Error())
		}
		f.Timers = append(f.Timers, timersIn(crontab)...)
	}
}

// timersIn lists the lines of a crontab that run something (crontab(5)).
func timersIn(crontab string) (out []string) {
	for line := range strings.Lines(crontab) {
		line = strings.TrimSpace(line)
		name, _, assigns := strings.Cut(line, "=")
		if line == "" || line[0] == '#' || assigns && !strings.ContainsAny(strings.TrimSpace(name), " \t*") {
			continue
		}
		out = append(out, line)
	}
	return out
}

func (s *Service) databaseFacts(ctx context.Context, a *account.Account, d *account.Database, uses map[string]string, f *Facts) {
	if d.Make == account.ByHand {
		return // nobody may list them
	}
	server, err := s.connect(ctx, a, d)
	if err != nil {
		f.Warnings = append(f.Warnings, err.Error())
		return
	}
	defer server.Close()
	names, err := server.Databases(ctx)
	sizes, sizesErr := server.Sizes(ctx)
	if err = errors.Join(err, sizesErr); err != nil {
		f.Warnings = append(f.Warnings, err.Error())
	}
	for _, name := range names {
		if slices.Contains(own, name) {
			continue
		}
		bytes, told := sizes[name]
		if !told {
			bytes = -1
		}
		f.Databases = append(f.Databases, DatabaseFacts{d.Name, name, bytes, uses[d.Name+"\n"+name]})
	}
}

// own are the databases that servers keep for themselves.
var own = []string{"information_schema", "performance_schema", "mysql", "sys", "postgres", "template0", "template1"}
