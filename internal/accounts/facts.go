package accounts

import (
	"context"
	"errors"
	"slices"
	"strings"

	"tivset/internal/hosting"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files"
)

// Facts are what owners look at before an install.
type Facts struct {
	Files     int             `json:"files"` // -1 where they cannot be seen from here
	Bytes     int64           `json:"bytes"` // of all files of the account; -1 likewise
	Free      int64           `json:"free"`  // bytes left; -1 where nobody tells
	Domains   []DomainFacts   `json:"domains"`
	Databases []DatabaseFacts `json:"databases"`
	Timers    []string        `json:"timers"`   // the lines of the crontab that run something
	Warnings  []string        `json:"warnings"` // what could not be looked at
}

// DomainFacts are the sites of a domain.
type DomainFacts struct {
	Name  string   `json:"name"`
	Sites []string `json:"sites"` // such as willowbench at lockside.localhost/forum
}

// DatabaseFacts is a database on one of the account's servers.
type DatabaseFacts struct {
	Server string `json:"server"`
	Name   string `json:"name"`
	Bytes  int64  `json:"bytes"` // -1 where nobody tells
	Site   string `json:"site"`  // the address of the site that keeps its data there, or ""
}

// Facts looks at an account. What cannot be looked at is a warning.
func (k *Keeper) Facts(ctx context.Context, a *account.Account) (Facts, error) {
	f := Facts{Files: -1, Bytes: -1, Free: -1,
		Domains: []DomainFacts{}, Databases: []DatabaseFacts{}, Timers: []string{}, Warnings: []string{}}
	sites, err := k.Book.Ledger.Sites(ctx)
	if err != nil {
		return f, err
	}
	uses := map[string]string{}
	for _, d := range a.Domains {
		facts := DomainFacts{Name: d.Name, Sites: []string{}}
		for _, x := range sites {
			if host, _, _ := strings.Cut(x.Address, "/"); x.Account == a.Name && (host == d.Name || strings.HasPrefix(host,
				d.Name+":")) {
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
	k.fileFacts(ctx, a, &f)
	for i := range a.Databases {
		k.databaseFacts(ctx, a, &a.Databases[i], uses, &f)
	}
	return f, ctx.Err()
}

func (k *Keeper) fileFacts(ctx context.Context, a *account.Account, f *Facts) {
	in, err := k.Hosting.Open(ctx, a)
	if err != nil {
		f.Warnings = append(f.Warnings, err.Error())
		return
	}
	defer in.Close()
	n, bytes, err := files.Count(ctx, in.Files, ".", nil)
	if err == nil || n > 0 {
		f.Files, f.Bytes = n, bytes
	}
	if err != nil {
		f.Warnings = append(f.Warnings, "not all files can be seen: "+err.Error())
	}
	if free, told := in.Free(ctx); told {
		f.Free = free
	}
	if _, ok := in.Programs(); ok && in.HasCrontab() {
		crontab, err := in.Crontab(ctx)
		if err != nil {
			f.Warnings = append(f.Warnings, err.Error())
		}
		f.Timers = append(f.Timers, hosting.TimersIn(crontab)...)
	}
}

func (k *Keeper) databaseFacts(ctx context.Context, a *account.Account, d *account.Database, uses map[string]string,
	f *Facts) {
	if d.Make == account.ByHand {
		return // nobody may list them
	}
	server, err := k.Hosting.Connect(ctx, a, d)
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
