package batch_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
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
	"tivset/internal/work/batch"
)

// course is a table of classes, and what is equal for all of them.
func course(t *testing.T, rows string) batch.Request {
	t.Helper()
	read, err := table.Read([]byte(rows))
	require.NoError(t, err)
	return batch.Request{Table: read, All: plan.Request{App: "inkreach", Answers: answer.Given{"title": "Class {number}",
		"tagline": "with {teacher}", "admin.email": "head@helm-school.localhost"}}}
}

const classes = "number;at;teacher\n1;helm-school.localhost/class-{number};Ada\n" +
	"2;helm-school.localhost/class-{number};=2+2\n3;lockside.localhost/{number};Cid\n"

// A row that fails is undone, and the others go on; run again, it does what is missing.
func TestATable(t *testing.T) {
	w := sitetest.Demo(t)
	r := course(t, classes)
	before := w.Snapshot()
	p, err := batch.Look(ctx, w.Desk, r)
	require.NoError(t, err)
	assert.Equal(t, []int{3, 3}, []int{p.Install, p.Databases})
	sitetest.Same(t, before, w.Snapshot(), "looking changes nothing")
	there := filepath.Join(w.Root, "web/helm-school/class-2")
	results := batch.Carry(ctx, w.Desk, p, batch.Usual, nil, func(row batch.Row, _ job.Event) {
		if row.Line == 3 { // somebody is faster
			_ = os.MkdirAll(there, 0o755)
			_ = os.WriteFile(filepath.Join(there, "index.page"), []byte("mine"), 0o644)
		}
	})
	require.Error(t, results[1].Err)
	for _, n := range []int{0, 2} {
		require.NoError(t, results[n].Err)
		sitetest.Examined(t, w, results[n].Done.Site.Address)
	}
	assert.Equal(t, []string{"Class 1", "Class 3"}, []string{results[0].Done.Site.Title, results[2].Done.Site.Title})
	mine, err := os.ReadDir(there)
	require.NoError(t, err)
	assert.Len(t, mine, 1, "of the row that failed nothing is left")
	_, err = batch.Look(ctx, w.Desk, r)
	assert.ErrorContains(t, err, "cannot be installed as it is")
	require.NoError(t, os.RemoveAll(there))

	p, err = batch.Look(ctx, w.Desk, r)
	require.NoError(t, err)
	assert.Equal(t, 1, p.Install)
	results = batch.Carry(ctx, w.Desk, p, batch.Usual, nil, nil)
	require.NoError(t, results[1].Err)
	assert.NotNil(t, results[0].There)
	var out bytes.Buffer
	require.NoError(t, screen.WriteResults(&out, results, false))
	assert.Regexp(t, `^line,address,outcome,admin side,name,problem\n`+
		`2,[^\n]*/class-1,there,[^\n]*\n3,http[^\n]*/class-2/,installed,`, out.String())
	assert.NotContains(t, out.String(), results[1].Done.Password.Reveal())
}

// All that is wrong is said at once; what is wrong in many rows, once.
func TestTablesThatWillNotDo(t *testing.T) {
	w := sitetest.Demo(t)
	before := w.Snapshot()
	problems := func(rows string) string {
		t.Helper()
		_, err := batch.Look(ctx, w.Desk, course(t, rows))
		require.Error(t, err)
		return fmt.Sprintln(fault.Of(err).What, fault.Of(err).Problems)
	}
	said := problems("number,at,teacher,seat\n1,lockside.localhost/a,x,1\n2,lockside.localhost/a,x,1\n" +
		"3,lockside.localhost/a/b,x,1\n4,lockside.localhots/c,x,1\n5,,x,1\n")
	for _, words := range []string{"lines 2, 3, 4, 5, seat: there is no such answer", "line 6, at: needed"} {
		assert.Contains(t, said, words)
	}
	said = problems("number,at,teacher\n1,lockside.localhost/a,x\n2,lockside.localhost/a,x\n" +
		"3,lockside.localhost/a/b,x\n4,lockside.localhots/c,x\n")
	for _, words := range []string{"line 3, at: it is the place of line 2",
		"line 4, at: it would lie in the site of line 2", "Did you mean lockside.localhost?"} {
		assert.Contains(t, said, words)
	}
	_, err := batch.Look(ctx, w.Desk, course(t, "number,place\n1,x\n"))
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
	p, err := batch.Look(ctx, w.Desk, course(t, rows.String()))
	require.NoError(t, err)
	within, stop := context.WithCancel(ctx)
	results := batch.Carry(within, w.Desk, p, batch.AtOnce(2), func(r batch.Result) {
		if r.Err == nil {
			stop()
		}
	}, nil)
	installed := 0
	for _, r := range results {
		if r.Err == nil {
			installed++
			sitetest.Examined(t, w, r.Done.Site.Address)
		}
	}
	all, err := w.Book.Ledger.Addresses(ctx)
	require.NoError(t, err)
	assert.Len(t, all, installed)
	assert.Less(t, installed, 8)
	left, err := w.Desk.Unfinished(ctx)
	require.NoError(t, err)
	assert.Empty(t, left)
}

// All of them together have to fit into their account.
func TestRoom(t *testing.T) {
	w := sitetest.Demo(t)
	require.NoError(t, batch.Room(ctx, w.Desk, map[string]int64{demo.AccountName: 1 << 10}))
	err := batch.Room(ctx, w.Desk, map[string]int64{demo.AccountName: 1 << 60})
	assert.ErrorContains(t, err, "all of them together need 1099511627776 MB, and the account has ")
	assert.Equal(t, fault.Usage, fault.Of(err).Kind)
}
