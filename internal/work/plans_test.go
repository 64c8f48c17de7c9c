package work_test

import (
	"reflect"
	"testing"

	"github.com/stretchr/testify/require"

	"tivset/internal/hosting"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work/install"
	"tivset/internal/work/place"
	"tivset/internal/work/remove"
	"tivset/internal/work/update"
)

// A plan is a value: carried out, it is what it was when somebody agreed to it,
// however its job ends.
func TestNobodyWritesToAPlan(t *testing.T) {
	w := sitetest.Demo(t)
	carried := func(what string, plan any, carry func() error) {
		t.Helper()
		before := wholePlan(plan)
		require.Contains(t, before, "Kit", "the dump goes down to the kit")
		require.NoError(t, carry(), what)
		sitetest.Same(t, before, wholePlan(plan), what)
	}
	p, err := w.Planner.Plan(ctx, sitetest.Older("inkreach", "lockside.localhost/journal", "1.3.2"))
	require.NoError(t, err)
	w.Trip.FailOn("exec")
	w.Trip.Arm(1, 2)
	before := wholePlan(p)
	_, err = install.Install(ctx, w.Desk, p)
	require.Error(t, err)
	sitetest.Same(t, before, wholePlan(p), "an install that failed")
	w.Trip.Arm(0, 0)
	carried("install", p, func() error {
		_, err := install.Install(ctx, w.Desk, p)
		return err
	})

	u, err := update.Look(ctx, w.Desk, update.Request{Site: p.Place.URL})
	require.NoError(t, err)
	carried("update", u, func() error {
		_, err := update.Update(ctx, w.Desk, u)
		return err
	})
	require.NoError(t, u.Close())

	for _, r := range []place.Request{{Site: p.Place.URL, At: "lockside.localhost/second"},
		{Site: "lockside.localhost/second", At: "chandlery.localhost/third", Move: true, Redirect: true}} {
		c, err := place.Look(ctx, w.Desk, r)
		require.NoError(t, err)
		carried("copy, or move", c, func() error {
			_, err := place.Carry(ctx, w.Desk, c)
			return err
		})
		require.NoError(t, c.Close())
	}

	r, err := remove.Look(ctx, w.Desk, remove.Request{Site: p.Place.URL})
	require.NoError(t, err)
	carried("remove", r, func() error {
		_, err := remove.Remove(ctx, w.Desk, r)
		return err
	})
	require.NoError(t, r.Close())
}

// wholePlan writes all that a plan holds, except for the open account, which is
// no part of what was planned.
func wholePlan(p any) string { return sitetest.Deep(p, reflect.TypeFor[*hosting.Account]()) }
