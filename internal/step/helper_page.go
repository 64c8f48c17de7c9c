package step

import (
	"context"
	"errors"

	"tivset/internal/hosting/helperpage"
)

// PutHelperPage puts a helper page into the document root and has it tell what its
// PHP is, before anything else is made. Over FTP it stays, to unpack and to
// work in databases that are seen only from inside; elsewhere it goes at once.
type PutHelperPage struct {
	*Tools `json:"-"`
	helperpage.Place

	Only                bool                                     `json:"-"` // it looks, and goes at once
	Functions, Settings []string                                 `json:"-"` // what is to be known of PHP
	Fit                 func(helperpage.Found) ([]string, error) `json:"-"` // warns of what is found, or says what lacks
}

// Kind and Title implement job.Step.
func (*PutHelperPage) Kind() string  { return "put-helper-page" }
func (*PutHelperPage) Title() string { return "Look at the account's PHP" }

// Do sends the helper page.
func (c *PutHelperPage) Do(ctx context.Context) error {
	inside := c.Site.Server != nil && c.Site.Server.FromInside()
	sent, found, err := c.In.PutHelperPage(ctx, c.Place, c.Functions, c.Settings)
	var silent *helperpage.Silent
	if errors.As(err, &silent) && !silent.Shown && !inside {
		// It may lack openssl; whether the app works there, the checks tell.
		c.Result.Warn("PHP could not be looked at: it needs its extension openssl for that")
		return c.Undo(ctx)
	}
	if err != nil {
		return err
	}
	warnings, err := c.Fit(found)
	c.Result.Warn(warnings...)
	if err != nil {
		return err
	}
	if (c.In.Unpacks(found) || inside) && !c.Only {
		c.In.Employ(sent, found)
		return nil
	}
	return sent.End(ctx)
}

// Undo takes the helper page away, wherever it has come to.
func (c *PutHelperPage) Undo(ctx context.Context) error { return c.In.TakeHelperPage(ctx, c.Place) }

// TakeHelperPage takes the helper page away when its work is done.
type TakeHelperPage struct {
	*Tools `json:"-"`
	lasting
	helperpage.Place
}

// Kind and Title implement job.Step.
func (*TakeHelperPage) Kind() string  { return "take-helper-page" }
func (*TakeHelperPage) Title() string { return "Take the helping file away" }

// Do ends the helper page at work, or takes away what is left of one.
func (d *TakeHelperPage) Do(ctx context.Context) error {
	if was, err := d.In.LetGo(ctx); was {
		return err
	}
	return d.In.TakeHelperPage(ctx, d.Place)
}
