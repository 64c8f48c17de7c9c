package step

import (
	"context"

	"tivset/internal/check"
	"tivset/internal/fault"
)

// CheckSite proves that the site works before anybody says so.
type CheckSite struct {
	*Tools `json:"-"`

	Lenient bool `json:"-"` // what fails is noted, and does not stop the job
}

// Kind and Title implement job.Step.
func (*CheckSite) Kind() string  { return "check" }
func (*CheckSite) Title() string { return "Check the site" }

// Undo has nothing to do.
func (*CheckSite) Undo(context.Context) error { return nil }

// Do checks; the first that fails stops the job.
func (c *CheckSite) Do(ctx context.Context) error {
	v := &check.Visit{Site: c.Site, In: c.In, Maker: c.Maker, Now: c.Now}
	if err := v.Open(); err != nil {
		return err
	}
	defer v.Close()
	all := v.Checks()
	for i, one := range all {
		c.Count(int64(i+1), int64(len(all)), "checks")
		err := one.Run(ctx)
		if err == nil {
			c.Result.Checks = append(c.Result.Checks, check.Checked{Name: one.Name, OK: true, Detail: one.Detail})
			continue
		}
		c.Result.Checks = append(c.Result.Checks, check.Checked{Name: one.Name, Detail: err.Error()})
		if c.Lenient && ctx.Err() == nil {
			c.Result.Warn("check of the " + one.Name + ": " + err.Error())
			continue
		}
		f := *fault.Of(err)
		f.What = "check of the " + one.Name + ": " + f.What
		return &f
	}
	c.Result.Warn(v.Shown(ctx)...)
	return nil
}
