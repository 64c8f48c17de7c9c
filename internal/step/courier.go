package step

import (
	"context"
	"errors"

	"tivset/internal/hosting/helperpage"
)

// SendCourier puts a courier into the document root and has it tell what its
// PHP is, before anything else is made. Over FTP it stays, to unpack and to
// work in databases that are seen only from inside; elsewhere it goes at once.
type SendCourier struct {
	*Tools `json:"-"`
	helperpage.Place

	Only                bool                                     `json:"-"` // it looks, and goes at once
	Functions, Settings []string                                 `json:"-"` // what is to be known of PHP
	Fit                 func(helperpage.Found) ([]string, error) `json:"-"` // warns of what is found, or says what lacks
}

// Kind and Title implement job.Step.
func (*SendCourier) Kind() string  { return "send-courier" }
func (*SendCourier) Title() string { return "Look at the account's PHP" }

// Do sends the courier.
func (c *SendCourier) Do(ctx context.Context) error {
	inside := c.Site.Server != nil && c.Site.Server.FromInside()
	sent, found, err := c.In.SendCourier(ctx, c.Place, c.Functions, c.Settings)
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

// Undo takes the courier away, wherever it has come to.
func (c *SendCourier) Undo(ctx context.Context) error { return c.In.DismissCourier(ctx, c.Place) }

// DismissCourier takes the courier away when its work is done.
type DismissCourier struct {
	*Tools `json:"-"`
	lasting
	helperpage.Place
}

// Kind and Title implement job.Step.
func (*DismissCourier) Kind() string  { return "dismiss-courier" }
func (*DismissCourier) Title() string { return "Take the helping file away" }

// Do ends the courier at work, or takes away what is left of one.
func (d *DismissCourier) Do(ctx context.Context) error {
	if was, err := d.In.LetGo(ctx); was {
		return err
	}
	return d.In.DismissCourier(ctx, d.Place)
}
