package batch_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer"
	"tivset/internal/answer/table"
	"tivset/internal/demo"
	"tivset/internal/fault"
	"tivset/internal/plan"
	"tivset/internal/records/job"
	"tivset/internal/screen"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work"
	"tivset/internal/work/batch"
	"tivset/internal/work/requests"
)

// course is a table of classes, and what is equal for all of them.
func course(t *testing.T, rows string) (*batch.Batch, error) {
	t.Helper()
	read, err := table.Read([]byte(rows))
	require.NoError(t, err)
	all, err := requests.Installs(read, plan.Request{App: "inkreach", Answers: answer.Given{"title": "Class {number}",
		"subtitle": "with {teacher}", "admin.email": "head@slate-school.localhost"}})
	return &batch.Batch{Rows: all, Strict: true}, err
}

// looked is a table that was looked at.
func looked(t *testing.T, w *sitetest.World, rows string) *batch.Batch {
	t.Helper()
	b, err := course(t, rows)
	require.NoError(t, err)
	err = b.Look(ctx, w.Desk)
	require.NoError(t, err, "%v", fault.Of(err).Problems)
	return b
}

// installed is what was installed of a row.
func installed(r *batch.Row) *requests.Installed { return r.Ended.(*requests.Installed) }

const classes = "number;at;teacher\n1;slate-school.localhost/class-{number};Ada\n" +
	"2;slate-school.localhost/class-{number};=2+2\n3;lockside.localhost/{number};Cid\n"

// A row that fails is undone, and the others go on; run again, it does what is missing.
func TestATable(t *testing.T) {
	w := sitetest.Demo(t)
	before := w.Snapshot()
	b := looked(t, w, classes)
	sum := requests.Sum(b)
	assert.Equal(t, []int{3, 3}, []int{sum.Install, sum.Databases})
	sitetest.Same(t, before, w.Snapshot(), "looking changes nothing")
	there := filepath.Join(w.Root, "web/slate-school/class-2")
	b.Carry(ctx, w.Desk, batch.How{Patient: true, Stage: func(row *batch.Row, _ job.Event) {
		if row.Line == 3 { // somebody is faster
			_ = os.MkdirAll(there, 0o755)
			_ = os.WriteFile(filepath.Join(there, "index.page"), []byte("mine"), 0o644)
		}
	}})
	require.Error(t, b.Rows[1].Err)
	for n, title := range map[int]string{0: "Class 1", 2: "Class 3"} {
		require.NoError(t, b.Rows[n].Err)
		assert.Equal(t, title, installed(b.Rows[n]).Site.Title)
		sitetest.Examined(t, w, installed(b.Rows[n]).Site.Address)
	}
	mine, err := os.ReadDir(there)
	require.NoError(t, err)
	assert.Len(t, mine, 1, "of the row that failed nothing is left")
	b, err = course(t, classes)
	require.NoError(t, err)
	assert.ErrorContains(t, b.Look(ctx, w.Desk), "cannot be done as it is")
	require.NoError(t, os.RemoveAll(there))

	b = looked(t, w, classes)
	assert.Equal(t, 1, requests.Sum(b).Install)
	b.Carry(ctx, w.Desk, batch.How{Patient: true})
	require.NoError(t, b.Rows[1].Err)
	assert.Equal(t, "there", b.Rows[0].Ended.Outcome())
	var out bytes.Buffer
	require.NoError(t, screen.WriteResults(&out, b, false))
	assert.Regexp(t, `^line,address,outcome,admin area,name,problem\n`+
		`2,[^\n]*/class-1,there,[^\n]*\n3,http[^\n]*/class-2/,installed,`, out.String())
	assert.NotContains(t, out.String(), installed(b.Rows[1]).Password.Reveal())
}

// All that is wrong is said at once; what is wrong in many rows, once.
func TestTablesThatWillNotDo(t *testing.T) {
	w := sitetest.Demo(t)
	problems := func(rows string) string {
		t.Helper()
		b, err := course(t, rows)
		require.NoError(t, err)
		err = b.Look(ctx, w.Desk)
		require.Error(t, err)
		return fmt.Sprintln(fault.Of(err).What, fault.Of(err).Problems)
	}
	taken := filepath.Join(w.Root, "web/lockside/taken")
	require.NoError(t, os.MkdirAll(taken, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(taken, "index.html"), []byte("a page"), 0o644))
	before := w.Snapshot()
	said := problems("number,at,teacher,seat\n1,lockside.localhost/a,x,1\n2,lockside.localhost/a,x,1\n" +
		"3,lockside.localhost/a/b,x,1\n4,lockside.localhots/c,x,1\n5,,x,1\n6,lockside.localhost/taken,x,1\n")
	for _, words := range []string{"lines 2, 3, 4, 5, 7, seat: there is no such answer", "line 6, at: needed",
		"line 3, at: it is the place of line 2", "line 4, at: it would lie in the site of line 2",
		"line 7, at: something is in the way: web/lockside/taken", "line 5, at: the account has no such domain"} {
		assert.Contains(t, said, words)
	}
	said = problems("number,at,teacher\n1,lockside.localhost/a,x\n2,lockside.localhost/a,x\n" +
		"3,lockside.localhost/a/b,x\n4,lockside.localhots/c,x\n")
	for _, words := range []string{"line 3, at: it is the place of line 2",
		"line 4, at: it would lie in the site of line 2", "Did you mean lockside.localhost?"} {
		assert.Contains(t, said, words)
	}
	_, err := course(t, "number,place\n1,x\n")
	assert.ErrorContains(t, err, "no column at")
	sitetest.Same(t, before, w.Snapshot())
}

// An interrupt undoes what is under way and begins nothing more; what was installed stays.
func TestATableIsInterrupted(t *testing.T) {
	w := sitetest.Demo(t)
	var rows strings.Builder
	rows.WriteString("number,at,teacher\n")
	for n := range 8 {
		fmt.Fprintf(&rows, "%d,lockside.localhost/c%d,x\n", n, n)
	}
	b := looked(t, w, rows.String())
	within, stop := context.WithCancel(ctx)
	b.Carry(within, w.Desk, batch.How{Limits: batch.AtOnce(2), Ended: func(r *batch.Row) {
		if r.Err == nil {
			stop()
		}
	}})
	made := 0
	for _, r := range b.Rows {
		if r.Err == nil {
			made++
			sitetest.Examined(t, w, installed(r).Site.Address)
		}
	}
	all, err := w.Book.Ledger.Addresses(ctx)
	require.NoError(t, err)
	assert.Len(t, all, made)
	assert.Less(t, made, 8)
	left, err := w.Desk.Unfinished(ctx)
	require.NoError(t, err)
	assert.Empty(t, left)
}

// asked is a request of tests: it says what it was made to.
type asked struct {
	kind  string
	plan  batch.Plan
	err   error
	looks atomic.Int32
}

func (r *asked) Kind() string { return r.kind }

func (r *asked) Where(context.Context, *work.Service) (batch.Where, error) { return r.plan.Where, nil }

func (r *asked) Plan(context.Context, *work.Service) (*batch.Plan, error) {
	r.looks.Add(1)
	if r.err != nil {
		return nil, r.err
	}
	p := r.plan
	return &p, nil
}

// What all of them need together is looked at before the first is begun.
func TestRoom(t *testing.T) {
	w := sitetest.Demo(t)
	in, err := w.Home.Account(demo.AccountName)
	require.NoError(t, err)
	for _, bytes := range []int64{1 << 10, 1 << 59} {
		b := &batch.Batch{}
		for range 2 {
			b.Rows = append(b.Rows, &batch.Row{Request: &asked{plan: batch.Plan{Where: batch.Where{Account: in}, Bytes: bytes}}})
		}
		err := b.Look(ctx, w.Desk)
		if bytes == 1<<10 {
			require.NoError(t, err)
			continue
		}
		assert.ErrorContains(t, err, "all of them together need 1099511627776 MB, and the account has ")
		assert.Equal(t, fault.Usage, fault.Of(err).Kind)
	}
}

// What is done is what was looked at: nothing is looked at once more, a place at which another job is at work
// is waited for, and all is let go of, done or not. One that somebody sits before does not wait.
func TestSitesAreLookedAtOnce(t *testing.T) {
	w := sitetest.Demo(t)
	in, err := w.Home.Account(demo.AccountName)
	require.NoError(t, err)
	for _, patient := range []bool{true, false} {
		var did, closed atomic.Int32
		b := &batch.Batch{}
		var all []*asked
		for n := range 3 {
			tries, gone := 0, false
			r := &asked{plan: batch.Plan{Where: batch.Where{Address: fmt.Sprint("lockside.localhost/", n), Account: in}}}
			r.plan.Release = func() error {
				gone = true
				closed.Add(1)
				return nil
			}
			r.plan.Do = func(context.Context, *work.Service) (batch.Ended, error) {
				if tries++; tries == 1 && n > 0 {
					return nil, &fault.Error{Kind: fault.NeedsConfirmation, What: "busy", Busy: true}
				}
				assert.False(t, gone, "it is let go once it has ended")
				did.Add(1)
				return requests.Checked(nil), nil
			}
			all = append(all, r)
			b.Rows = append(b.Rows, &batch.Row{Request: r})
		}
		require.NoError(t, b.Look(ctx, w.Desk))
		b.Carry(ctx, w.Desk, batch.How{Patient: patient})
		b.Close()
		assert.EqualValues(t, map[bool]int{true: 3, false: 1}[patient], did.Load())
		assert.EqualValues(t, 3, closed.Load(), "each once")
		for n, r := range all {
			assert.EqualValues(t, 1, r.looks.Load())
			assert.Equal(t, patient || n == 0, b.Rows[n].Err == nil, "%v", b.Rows[n].Err)
		}
	}
}

// What is wrong with one of several keeps all back where that was asked for; else it, and what cannot be
// reached, keeps back only its own.
func TestWhatIsWrongWithOne(t *testing.T) {
	w := sitetest.Demo(t)
	in, err := w.Home.Account(demo.AccountName)
	require.NoError(t, err)
	rows := func(why error) *batch.Batch {
		return &batch.Batch{Rows: []*batch.Row{{Site: "a", Request: &asked{err: why}}, {Site: "b", Request: &asked{err: why}},
			{Site: "c", Request: &asked{plan: batch.Plan{Where: batch.Where{Account: in}}}}}}
	}
	wrong, away := fault.New(fault.Usage, "no site has this address", "", ""), fault.New(fault.Failed, "it is away", "",
		"")
	for _, c := range []struct {
		why    error
		strict bool
		all    string
	}{{wrong, true, "a, b"}, {wrong, false, ""}, {away, true, ""}, {away, false, ""}} {
		b := rows(c.why)
		b.Strict = c.strict
		err := b.Look(ctx, w.Desk)
		if c.all != "" {
			require.Error(t, err)
			require.Len(t, fault.Of(err).Problems, 1, "the same of several is said once")
			assert.Equal(t, c.all, fault.Of(err).Problems[0].ID)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, []bool{true, true, false}, []bool{b.Rows[0].Err != nil, b.Rows[1].Err != nil, b.Rows[2].Err != nil})
	}
}
