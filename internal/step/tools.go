package step

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"tivset/internal/app/fill"
	"tivset/internal/check"
	"tivset/internal/hosting"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
	"tivset/internal/site"
)

// Tools are what the steps of one job work with.
type Tools struct {
	In      *hosting.Account // the account in which the job works
	Site    *site.Site       // what the job makes or changes; nil in a recovery, where the journal is all there is
	Book    *site.Book       // ledger and vault
	Hosting *hosting.Opener  // opens the account of another site
	Maker   secret.Maker
	Now     func() time.Time
	Job     string // its id
	Who     string // user and machine, for others who find the job under way
	Count   func(count, total int64, unit string)
	Result  *Result
}

// Result is what a job finds out while it is carried out.
type Result struct {
	Recorded *ledger.Site // the site as it was recorded, by the step that settles the job
	Checks   []check.Checked
	Now      fill.Values // what the site was found to say of itself, by the names of kit.NowNames
	Warnings []string
	Entries  []string // what was put in place
	Made     []string // folders that were made for the site, innermost first
	Backup   string   // one that stays, whatever becomes of the job
	Replaced []string // folders of the account with files that an undo put others in the place of
	Kept     []string // what an undo put something over, kept as files of this machine or folders of the account

	left map[string]int // rows that hold an old address still, by table
}

// Left notes how many rows of which tables hold an address or a folder of before,
// because the kit keeps them from being changed.
func (r *Result) Left(rows map[string]int) {
	if r.left == nil {
		r.left = map[string]int{}
	}
	for table, n := range rows {
		r.left[table] = max(r.left[table], n)
	}
}

// warnLeft tells the owner of them.
func (r *Result) warnLeft() {
	var tables []string
	for _, table := range slices.Sorted(maps.Keys(r.left)) {
		tables = append(tables, fmt.Sprintf("%s (%d rows)", table, r.left[table]))
	}
	if len(tables) > 0 {
		r.Warn("the address or the folder of before still stands in " + strings.Join(tables, ", ") +
			", where the kit says that nothing is to be replaced")
	}
}

// Warn adds a warning, once.
func (r *Result) Warn(texts ...string) {
	for _, text := range texts {
		known := false
		for _, w := range r.Warnings {
			known = known || w == text
		}
		if !known {
			r.Warnings = append(r.Warnings, text)
		}
	}
}

// Store is the layout of the account's store.
func (t *Tools) Store() hosting.Store { return t.In.Store() }

// For gives the same job's tools for another site, in the account of that.
func (t *Tools) For(in *hosting.Account, s *site.Site) *Tools {
	other := *t
	other.In, other.Site = in, s
	return &other
}

// inAccount gives the job's tools in an account, which may be another than the
// job's own.
func (t *Tools) inAccount(ctx context.Context, name string) (*Tools, func(), error) {
	if name == "" || name == t.In.Name {
		return t, func() {}, nil
	}
	a, err := t.Book.Home.Account(name)
	if err != nil {
		return nil, nil, err
	}
	in, err := t.Hosting.Open(ctx, a)
	if err != nil {
		return nil, nil, err
	}
	return t.For(in, nil), func() { _ = in.Close() }, nil
}

// keptData is where a job keeps a database.
func (t *Tools) keptData() UndoStore { return t.undoStore("sql.zst") }

// keptFiles is where a job keeps what the app has written into files.
func (t *Tools) keptFiles() UndoStore { return t.undoStore("files.tar.zst") }

// kinds makes an empty step, or finisher, of each kind.
var kinds = map[string]func(*Tools) any{
	"claim":            func(t *Tools) any { return &Claim{Tools: t} },
	"keep-secrets":     func(t *Tools) any { return &KeepSecrets{Tools: t} },
	"make-database":    func(t *Tools) any { return &MakeDatabase{Tools: t} },
	"make-user":        func(t *Tools) any { return &MakeUser{Tools: t} },
	"prove-domain":     func(t *Tools) any { return &ProveDomain{Tools: t} },
	"set-timers":       func(t *Tools) any { return &SetTimers{Tools: t} },
	"put-helper-page":  func(t *Tools) any { return &PutHelperPage{Tools: t} },
	"take-helper-page": func(t *Tools) any { return &TakeHelperPage{Tools: t} },
	"use-database":     func(t *Tools) any { return &UseDatabase{Tools: t} },
	"make-folder":      func(t *Tools) any { return &MakeFolder{Tools: t} },
	"set-aside":        func(t *Tools) any { return &SetAside{Tools: t} },
	"unpack":           func(t *Tools) any { return &Unpack{Tools: t} },
	"set-up":           func(t *Tools) any { return &SetUp{Tools: t} },
	"put-in-place":     func(t *Tools) any { return &PutInPlace{Tools: t} },
	"check":            func(t *Tools) any { return &CheckSite{Tools: t} },
	"record":           func(t *Tools) any { return &RecordSite{Tools: t} },
	"await-settings":   func(t *Tools) any { return &AwaitSettings{Tools: t} },
	"back-up":          func(t *Tools) any { return &BackUp{Tools: t} },
	"save-site":        func(t *Tools) any { return &SaveSite{Tools: t} },
	"keep-data":        func(t *Tools) any { return &KeepData{Tools: t} },
	"keep-files":       func(t *Tools) any { return &KeepFiles{Tools: t} },
	"load-data":        func(t *Tools) any { return &LoadData{Tools: t} },
	"unpack-backup":    func(t *Tools) any { return &UnpackBackup{Tools: t} },
	"cover-pages":      func(t *Tools) any { return &CoverPages{Tools: t} },
	"uncover-pages":    func(t *Tools) any { return &UncoverPages{Tools: t} },
	"put-index-pages":  func(t *Tools) any { return &PutIndexPages{Tools: t} },
	"close":            func(t *Tools) any { return &Close{Tools: t} },
	"set-modes":        func(t *Tools) any { return &SetModes{Tools: t} },
	"swap":             func(t *Tools) any { return &Swap{Tools: t} },
	"prepare":          func(*Tools) any { return &FuncStep{} },
	"unclaim":          func(t *Tools) any { return &Unclaim{Tools: t} },
	"set-password":     func(t *Tools) any { return &SetPassword{Tools: t} },
	"swap-secrets":     func(t *Tools) any { return &SwapSecrets{Tools: t} },
	"tidy":             func(t *Tools) any { return &Tidy{Tools: t} },
	"drop-files":       func(t *Tools) any { return &DropFiles{Tools: t} },
	"drop-here":        func(*Tools) any { return &DropHere{} },
	"remove-old":       func(t *Tools) any { return &Removal{Tools: t} },
}

// Kinds lists the names of all kinds, in no order.
func Kinds() []string {
	var out []string
	for kind := range kinds {
		out = append(out, kind)
	}
	return out
}

// Decode makes steps and finishers from a journal, which work with these tools.
func (t *Tools) Decode() job.Decode {
	return func(kind string, fields json.RawMessage) (any, error) {
		empty, known := kinds[kind]
		if !known {
			return nil, fmt.Errorf("the journal has a step %q, which this release does not know", kind)
		}
		s := empty(t)
		if err := json.Unmarshal(fields, s); err != nil {
			return nil, err
		}
		return s, t.couldHaveMade(s)
	}
}
