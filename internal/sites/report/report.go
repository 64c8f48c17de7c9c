// Package report makes one page of all sites: how they are, what is due, backups, space,
// certificates, and what was done of late. It asks no server and no account.
package report

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"time"

	"tivset/internal/records/ledger"
	"tivset/internal/sites"
)

// weeks is how far back jobs are told of.
const weeks = 4

// From is what a report is made of.
type From struct {
	Sites    []ledger.Site
	Jobs     []ledger.Job
	Measures []ledger.Measure
	Rounds   []ledger.Round
	Of       string // whose sites they are: an account, a site; "" for all
	By       string // who made it
	Now      time.Time
	Idle     string                   // why nothing does what the care of sites says; "" where something does
	Spell    func(text string) string // writes calls as they are typed
}

// Report is the page as data. The drawings of the page are made of nothing else.
type Report struct {
	Of           string        `json:"of,omitempty"`
	By           string        `json:"by"`
	Idle         string        `json:"maintenance,omitempty"` // why nothing does what the care of sites says
	Made         time.Time     `json:"made_at"`
	Sites        []Site        `json:"sites"`
	Health       []Count       `json:"health"`
	Due          []Due         `json:"due"`
	Troubles     []Trouble     `json:"troubles"` // that maintenance met within a day
	Backups      []Count       `json:"backups"`
	Space        []Day         `json:"space"`
	Largest      []Space       `json:"largest"`
	Certificates []Certificate `json:"certificates"`
	Days         []Work        `json:"days"`
	Jobs         []Job         `json:"jobs"`
	Round        *Round        `json:"round,omitempty"` // the last one that did anything
	Rounds       []Round       `json:"rounds"`          // of the last weeks that did anything, the newest first
}

// Site is one site of a report.
type Site struct {
	Address     string `json:"address"`
	URL         string `json:"url"`
	Title       string `json:"title"`
	App         string `json:"app"`
	Release     string `json:"release"`
	Newer       string `json:"newer_release,omitempty"`
	Account     string `json:"account"`
	Health      string `json:"health"`
	Checked     string `json:"checked,omitempty"` // how long ago, in words
	BackupDays  int    `json:"backup_days"`       // -1 for none
	Bytes       int64  `json:"bytes"`
	Certificate *int   `json:"certificate_days,omitempty"`
	Wants       string `json:"next,omitempty"`
}

// Trouble is one that maintenance met at a site.
type Trouble struct {
	Address string    `json:"address"`
	At      time.Time `json:"at"`
	What    string    `json:"what"`
	Do      string    `json:"do"` // what to do about it
}

// Count is how many sites are so.
type Count struct {
	What string `json:"what"`
	N    int    `json:"sites"`
}

// Due is what a site wants of whoever looks after it.
type Due struct {
	Address string `json:"address"`
	What    string `json:"what"`
	Call    string `json:"call"`
	Urgent  bool   `json:"urgent"`
}

// Day is what all sites together took on a day.
type Day struct {
	Day   string `json:"day"`
	Bytes int64  `json:"bytes"`
}

// Space is what one site takes, and took a month before.
type Space struct {
	Address string `json:"address"`
	Bytes   int64  `json:"bytes"`
	Before  int64  `json:"bytes_a_month_before"` // 0 where it is not known
}

// Certificate is for how many days a domain's certificate is still good.
type Certificate struct {
	Domain string `json:"domain"`
	Days   int    `json:"days"`
}

// Work is what was done on a day.
type Work struct {
	Day    string `json:"day"`
	Done   int    `json:"done"`
	Undone int    `json:"undone"`
	Left   int    `json:"left"`
}

// Job is one job of the last weeks.
type Job struct {
	ID      string         `json:"job"`
	At      string         `json:"at"`
	What    string         `json:"what"`
	Address string         `json:"address"`
	Outcome ledger.Outcome `json:"outcome"`
	Seconds float64        `json:"seconds"` // 0 for one that has not ended
	Problem string         `json:"problem,omitempty"`
	Good    bool           `json:"good"`
}

// Round is the last round that did anything.
type Round struct {
	At      time.Time `json:"at"`
	Who     string    `json:"who"`
	Seconds float64   `json:"seconds"`
	Lines   int       `json:"lines"` // things that were done or met, trouble too
	Trouble int       `json:"trouble"`
}

// Of makes a report.
func Of(f From) *Report {
	r := &Report{Of: f.Of, By: f.By, Idle: f.Idle, Made: f.Now.UTC(), Sites: []Site{}, Due: []Due{}, Largest: []Space{},
		Certificates: []Certificate{}, Jobs: []Job{}}
	for _, x := range f.Sites {
		r.Sites = append(r.Sites, siteOf(x, f.Now))
		if want := sites.WantOf(x); want.What != "" {
			r.Due = append(r.Due,
				Due{x.Address, want.What, f.Spell(want.Call), x.Urgent || x.Health == "bad" || x.Gone != ""})
		}
	}
	slices.SortStableFunc(r.Due, func(a, b Due) int { return cmp.Compare(rank(a.Urgent), rank(b.Urgent)) })
	r.Health, r.Backups = healths(r.Sites), backups(r.Sites)
	r.certificates(f)
	r.space(f)
	r.work(f)
	r.rounds(f)
	return r
}

// rounds tells of the rounds that did anything at the sites of the report.
func (r *Report) rounds(f From) {
	r.Rounds, r.Troubles = []Round{}, []Trouble{}
	of := map[string]bool{}
	for _, x := range f.Sites {
		of[x.Address] = true
	}
	for _, one := range f.Rounds {
		if f.Now.Sub(one.At) > weeks*7*24*time.Hour {
			continue
		}
		round := Round{At: one.At, Who: one.Who, Seconds: one.Seconds}
		for _, line := range one.Lines {
			if f.Of != "" && !of[line.Address] || line.What == "waits" { // which the next one does
				continue
			}
			round.Lines++
			if line.What == "trouble" {
				round.Trouble++
				r.trouble(f, one.At, line)
			}
		}
		if round.Lines > 0 {
			r.Rounds = append(r.Rounds, round)
		}
	}
	if len(r.Rounds) > 0 {
		r.Round = &r.Rounds[0]
	}
}

// trouble takes one in that was met within a day, of a site that is still on record; the same one once.
func (r *Report) trouble(f From, at time.Time, line ledger.RoundLine) {
	if f.Now.Sub(at) > 24*time.Hour || !of(f.Sites, line.Address) {
		return
	}
	if slices.ContainsFunc(r.Troubles, func(t Trouble) bool {
		return t.Address == line.Address &&
			t.What == f.Spell(line.Detail)
	}) {
		return
	}
	r.Troubles = append(r.Troubles, Trouble{line.Address, at, f.Spell(line.Detail), f.Spell(line.Remedy)})
}

// of says whether a site is among some.
func of(all []ledger.Site, address string) bool {
	return slices.ContainsFunc(all, func(x ledger.Site) bool { return x.Address == address })
}

func rank(urgent bool) int { return map[bool]int{true: 0, false: 1}[urgent] }

func siteOf(x ledger.Site, now time.Time) Site {
	s := Site{Address: x.Address, URL: x.URL, Title: x.Title, App: x.App, Release: x.Release, Newer: x.Newer,
		Account: x.Account, Health: cmp.Or(x.Health, "unknown"), BackupDays: -1, Bytes: x.Bytes + x.DatabaseBytes,
		Wants: sites.WantOf(x).What}
	if x.LastBackupAt != nil {
		s.BackupDays = days(now.Sub(*x.LastBackupAt))
	}
	if x.CheckedAt != nil {
		s.Checked = ago(now.Sub(*x.CheckedAt))
	}
	if x.CertificateUntil != nil {
		left := days(x.CertificateUntil.Sub(now))
		s.Certificate = &left
	}
	return s
}

func days(d time.Duration) int { return int(d.Hours()) / 24 }

func ago(d time.Duration) string {
	switch {
	case d < time.Hour:
		return "just now"
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return fmt.Sprintf("%d days ago", days(d))
}

// healths counts sites by health, in an order.
func healths(all []Site) []Count {
	out := []Count{{What: "good"}, {What: "bad"}, {What: "gone"}, {What: "unknown"}}
	for _, s := range all {
		for i := range out {
			if out[i].What == s.Health {
				out[i].N++
			}
		}
	}
	return out
}

// ages are how old backups are told to be, by days up to which.
var ages = []struct {
	upTo int
	what string
}{{1, "today or yesterday"}, {7, "up to a week"}, {31, "up to a month"}, {1 << 30, "older"}}

// backups counts sites by the age of their last backup.
func backups(all []Site) []Count {
	out := make([]Count, len(ages)+1)
	for i, age := range ages {
		out[i].What = age.what
	}
	out[len(ages)].What = "none"
	for _, s := range all {
		n := len(ages)
		if s.BackupDays >= 0 {
			for n = 0; s.BackupDays > ages[n].upTo; n++ {
			}
		}
		out[n].N++
	}
	return out
}

// certificates are those of the sites' domains, those that end first.
func (r *Report) certificates(f From) {
	by := map[string]int{}
	for _, x := range f.Sites {
		if x.CertificateUntil == nil {
			continue
		}
		left := days(x.CertificateUntil.Sub(f.Now))
		if was, is := by[host(x.URL)]; !is || left < was {
			by[host(x.URL)] = left
		}
	}
	for _, name := range slices.Sorted(maps.Keys(by)) {
		r.Certificates = append(r.Certificates, Certificate{name, by[name]})
	}
	slices.SortStableFunc(r.Certificates, func(a, b Certificate) int { return cmp.Compare(a.Days, b.Days) })
}

// mostLargest is how many of the largest sites are told of.
const mostLargest = 10

// space sums up what the sites took, day by day: of a day on which a site was not looked at
// what it took before counts.
func (r *Report) space(f From) {
	of := map[string]bool{}
	for _, x := range f.Sites {
		of[x.Address] = true
	}
	byDay, last := map[string][]ledger.Measure{}, map[string]int64{}
	before := map[string]int64{}
	month := f.Now.UTC().AddDate(0, -1, 0).Format(time.DateOnly)
	for _, m := range f.Measures {
		if of[m.Address] {
			byDay[m.Day] = append(byDay[m.Day], m)
			if m.Day <= month {
				before[m.Address] = m.Bytes
			}
		}
	}
	total := int64(0)
	for _, day := range slices.Sorted(maps.Keys(byDay)) {
		for _, m := range byDay[day] {
			total += m.Bytes - last[m.Address]
			last[m.Address] = m.Bytes
		}
		r.Space = append(r.Space, Day{day, total})
	}
	for _, s := range r.Sites {
		if s.Bytes > 0 {
			r.Largest = append(r.Largest, Space{s.Address, s.Bytes, before[s.Address]})
		}
	}
	slices.SortStableFunc(r.Largest, func(a, b Space) int { return cmp.Compare(b.Bytes, a.Bytes) })
	r.Largest = r.Largest[:min(len(r.Largest), mostLargest)]
	r.Space = append([]Day{}, r.Space...)
}

// JobsSince is since when a report that is made now tells of jobs.
func JobsSince(now time.Time) time.Time {
	return now.UTC().AddDate(0, 0, 1-7*weeks).Truncate(24 * time.Hour)
}

// work tells of the jobs of the last weeks, by day and one by one.
func (r *Report) work(f From) {
	of := map[string]bool{}
	for _, x := range f.Sites {
		of[x.Address] = true
	}
	first := JobsSince(f.Now)
	r.Days = make([]Work, 7*weeks)
	for i := range r.Days {
		r.Days[i].Day = first.AddDate(0, 0, i).Format(time.DateOnly)
	}
	for _, j := range f.Jobs {
		n := days(j.Started.UTC().Sub(first))
		if j.Started.Before(first) || n >= len(r.Days) || f.Of != "" && !of[j.Address] {
			continue
		}
		job := Job{ID: j.ID, At: j.Started.UTC().Format("2006-01-02 15:04"), What: j.What, Address: j.Address,
			Outcome: j.Outcome, Problem: j.Problem, Good: j.Outcome == ledger.Done}
		if j.Ended != nil {
			job.Seconds = j.Ended.Sub(j.Started).Seconds()
		}
		switch {
		case job.Good:
			r.Days[n].Done++
		case j.Outcome == ledger.Undone:
			r.Days[n].Undone++
		default:
			r.Days[n].Left++
		}
		r.Jobs = append(r.Jobs, job)
	}
}
