// Package ledger is the record of sites and jobs, in SQLite.
//
// Nothing above this package may assume that one machine alone writes it. No
// secret is ever in it: it names entries of the vault.
package ledger

import (
	"context"
	"time"
	"tivset/internal/answer/care"
)

// Ledger keeps the record.
type Ledger interface {
	// Sites lists every site, sorted by address.
	Sites(ctx context.Context) ([]Site, error)

	// Addresses lists the addresses of every site, sorted.
	Addresses(ctx context.Context) ([]string, error)

	// Site returns the site of an address; fs.ErrNotExist when there is none.
	Site(ctx context.Context, address string) (Site, error)

	// PutSite keeps a site, replacing one of the same address.
	PutSite(ctx context.Context, s Site) error

	// KeepSite does the same after something was done with a site: its care and its labels stay what they
	// are on record, whatever was decided meanwhile.
	KeepSite(ctx context.Context, s Site) error

	// Entrust changes the care of sites, by their addresses, and nothing else of them: of all
	// or, when one is not there (fs.ErrNotExist) or anything fails, of none.
	Entrust(ctx context.Context, decided map[string]care.Care) error

	// Label changes labels of sites, by their addresses, and nothing else of them; one that is "" is taken away. Of all or
	// none, as Entrust.
	Label(ctx context.Context, labels map[string]map[string]string) error

	// DropSite forgets a site; none there is fine.
	DropSite(ctx context.Context, address string) error

	// Measures lists what sites took, by address and day, of the last 400 days.
	Measures(ctx context.Context) ([]Measure, error)

	// PutMeasure keeps a measure, replacing one of the same address and day.
	PutMeasure(ctx context.Context, m Measure) error

	// Jobs lists the jobs that a filter lets through, newest first.
	Jobs(ctx context.Context, of JobFilter) ([]Job, error)

	// Job returns a job; fs.ErrNotExist when there is none of the id.
	Job(ctx context.Context, id string) (Job, error)

	// DropJobs forgets jobs that ended before, but for those which installed a site that is on record,
	// and gives their ids.
	DropJobs(ctx context.Context, before time.Time) ([]string, error)

	// PutJob keeps a job, replacing one of the same id.
	PutJob(ctx context.Context, j Job) error

	// Redirects lists the addresses that lead to sites which moved, sorted.
	Redirects(ctx context.Context) ([]Redirect, error)

	// PutRedirect keeps a redirect, replacing one of the same address.
	PutRedirect(ctx context.Context, r Redirect) error

	// DropRedirect forgets a redirect; none there is fine.
	DropRedirect(ctx context.Context, address string) error

	// Rounds lists the rounds that did anything, newest first, of the last RoundsFor days.
	Rounds(ctx context.Context) ([]Round, error)

	// PutRound keeps a round.
	PutRound(ctx context.Context, r Round) error

	// Tell notes that somebody is told of a trouble now. False where that was done less than
	// again before, by whomever: then it is not to be told, and nothing is noted.
	Tell(ctx context.Context, t Telling, again time.Duration) (bool, error)

	// Told lists the troubles that were told of and are not over, by address.
	Told(ctx context.Context) ([]Telling, error)

	// Untell notes that troubles of a site are over, or that nobody could be told.
	Untell(ctx context.Context, address string, troubles ...string) error

	Close() error
}

// Redirect is an address that a site had and that leads to where it is now.
type Redirect struct {
	Address     string    `json:"address"`
	URL         string    `json:"url"`
	To          string    `json:"leads_to"`
	Account     string    `json:"account"`
	Folder      string    `json:"folder"`
	Files       []string  `json:"files"` // below the folder
	FoldersMade []string  `json:"folders_made,omitempty"`
	Covers      string    `json:"covers"` // one of those below, when it was asked last
	MadeAt      time.Time `json:"made_at"`
}

// Measure is what a site took on a day: whoever keeps a site notes it.
type Measure struct {
	Address string
	Day     string // 2026-11-23, UTC
	Bytes   int64  // of files and database
}

// Measured is what a site that is kept took, and on which day it was looked at; false where
// that is not known.
func Measured(s Site) (Measure, bool) {
	at := s.UpdatedAt
	if s.CheckedAt != nil && s.CheckedAt.After(at) {
		at = *s.CheckedAt
	}
	return Measure{s.Address, at.UTC().Format(time.DateOnly), s.Bytes + s.DatabaseBytes}, s.Bytes > 0 && !at.IsZero()
}

// MeasuredFor is how long measures are kept, in days.
const MeasuredFor = 400

// How far a redirect reaches.
const (
	CoversAll     = "all"     // every address below its own
	CoversPages   = "pages"   // the pages that the site had, by name
	CoversNothing = "nothing" // it does not lead there
)

// Site is an app installed at a place.
type Site struct {
	Address     string    `json:"address"`
	URL         string    `json:"url"`
	AdminURL    string    `json:"admin_url"`
	App         string    `json:"app"`
	Release     string    `json:"release"`
	Archive     string    `json:"archive,omitempty"`       // SHA-256 of the archive that its files are of
	Newer       string    `json:"newer_release,omitempty"` // filled in when shown
	Account     string    `json:"account"`
	Folder      string    `json:"folder"`
	Language    string    `json:"language"`
	Title       string    `json:"title"`
	Admin       Admin     `json:"admin"`
	Database    *Database `json:"database,omitempty"`
	Files       int       `json:"files"`
	Bytes       int64     `json:"bytes"`
	InstalledAt time.Time `json:"installed_at"`
	UpdatedAt   time.Time `json:"updated_at"`
	Care        care.Care `json:"care"`
	Health      string    `json:"health"`
	Job         string    `json:"job"`                   // the job that installed it
	Entries     []string  `json:"entries"`               // what in its folder is the site's
	DataFolder  string    `json:"data_folder,omitempty"` // from the account's top
	SetAside    []string  `json:"set_aside,omitempty"`   // what stood in the way, and is kept in Tivset's folder in the account
	Chosen      []Choice  `json:"chosen,omitempty"`      // the app's own questions and extras, without secrets
	Licence     *Accepted `json:"licence,omitempty"`

	// filled in when shown: how far the newest release goes beyond this one
	NewerLevel string `json:"newer_level,omitempty"`
	// filled in when shown: something newer fixes a security hole
	Urgent bool `json:"urgent,omitempty"`
	// filled in when shown: the release that the site's care takes by itself
	Overdue       string     `json:"overdue,omitempty"` // by how much the backup that the care asks for is; found out
	Due           string     `json:"due_release,omitempty"`
	DatabaseBytes int64      `json:"database_bytes,omitempty"` // when it was last looked at
	LastBackupAt  *time.Time `json:"last_backup_at,omitempty"` //
	CheckedAt     *time.Time `json:"checked_at,omitempty"`     //
	// of its domain, when it was last looked at
	CertificateUntil *time.Time `json:"certificate_until,omitempty"`
	// what of the site is not there any more: files, data or all
	Gone        string            `json:"gone,omitempty"`
	LastJob     string            `json:"last_job,omitempty"`      // the job that changed it last, after its install
	FoldersMade []string          `json:"folders_made,omitempty"`  // folders that came with it and go with it, innermost first
	CopyOf      string            `json:"copy_of,omitempty"`       // the address of the site that it is a copy of
	Adopted     bool              `json:"adopted,omitempty"`       // installed by other means
	Mine        []Mine            `json:"mine,omitempty"`          // programs that the owner says are theirs
	Tried       *Tried            `json:"failed_update,omitempty"` // a release that is not tried again by itself
	Labels      map[string]string `json:"labels,omitempty"`        // the operator's own words, by name
	// programs and changes of an intruder that checks found, the newest last
	Suspects []Suspect `json:"suspects,omitempty"`
	// what strangers see on its pages that the owner lives with
	Exposed []Exposed `json:"accepted_exposure,omitempty"`
}

// Exposed is what a check found that strangers see, and that the owner accepted.
type Exposed struct {
	Check string    `json:"check"`
	Parts []string  `json:"parts"` // of the app, as the kit names them
	At    time.Time `json:"at"`
}

// Tried is an update that failed at a site and was put back.
type Tried struct {
	Release string    `json:"release"`
	Archive string    `json:"archive"` // SHA-256 of the release's archive then
	At      time.Time `json:"at"`
	Problem string    `json:"problem"`
}

// Mine is a file, or a folder with the programs in it, that the owner vouched
// for, as it was then.
type Mine struct {
	Name string `json:"name"`   // below the site's folder
	Sum  string `json:"sha256"` // in hexadecimal; of a folder, of the names and sums of its programs
}

// Suspect is a file that a check found where the release has none of its name, or another content.
type Suspect struct {
	Name    string     `json:"name"` // below the site's folder
	SeenAt  time.Time  `json:"seen_at"`
	GoneAt  *time.Time `json:"gone_at,omitempty"`  // it was taken away, or is as the release has it, since before
	AgainAt *time.Time `json:"again_at,omitempty"` // and was there again
}

// Admin is the site's admin; the password is in the vault.
type Admin struct {
	Name  string `json:"name"`
	Email string `json:"email"`
}

// Database is where a site's data is; the password is in the vault.
type Database struct {
	Engine string `json:"engine"`
	Server string `json:"server"` // the account's name for it
	Name   string `json:"name"`
	User   string `json:"user"`
	Tables string `json:"tables"` // what the tables' names begin with
	From   string `json:"from"`   // new, or whose it is: existing, by-hand
}

// Choice is what was answered to one of the app's questions.
type Choice struct {
	ID     string `json:"id"`
	Answer string `json:"answer"`
}

// Accepted records that the owner accepted the licence.
type Accepted struct {
	Name    string    `json:"name"`
	Release string    `json:"release"`
	At      time.Time `json:"at"`
}

// Job is one run of a list of steps.
type Job struct {
	ID      string     `json:"job"`
	What    string     `json:"what"` // install
	App     string     `json:"app"`
	Account string     `json:"account"`
	Address string     `json:"address"`
	Who     string     `json:"who,omitempty"`   // who asked for it
	Order   int64      `json:"order,omitempty"` // of the queue, that it carries out
	Started time.Time  `json:"started_at"`
	Ended   *time.Time `json:"ended_at,omitempty"`
	Outcome Outcome    `json:"outcome"`
	Problem string     `json:"problem,omitempty"`
	// folders of the account with files that it put others in the place of
	Replaced []string `json:"replaced,omitempty"`
	Kept     []string `json:"kept,omitempty"`     // backups on this machine of what it put something over
	Warnings []string `json:"warnings,omitempty"` // what its undo left, or could not do
}
