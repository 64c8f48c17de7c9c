package sites

import (
	"context"
	"errors"
	"os/exec"
	"runtime"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/onetimepage"
	"tivset/internal/site"
	"tivset/internal/sites"
)

// doorOpen is for how long the page waits for the browser.
const doorOpen = time.Minute

// sessionOffered is for how long it then has to take the session.
const sessionOffered = 20 * time.Second

func (a *app) enter() *cobra.Command {
	show := false
	c := &cobra.Command{
		Use:   "sign-in SITE",
		Short: "Open the admin area in your browser, signed in",
		Long: "Opens the admin area in the default browser (or the program that BROWSER names), signed in: the\n" +
			"program signs in as a visitor does and hands the session to the browser, by a page that it puts\n" +
			"on the site, good once and for a minute. Where no such page runs, the sign-in page is opened and\n" +
			"the password put on the clipboard.",
		Example: "  tivset sign-in lockside.localhost/forum\n  tivset sign-in forum --print",
		Args:    cli.Takes(1, 1, "SITE"), Annotations: cli.NoDryRun(), ValidArgsFunction: cli.Only(a.SiteWords),
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			in, err := s.Sites.Enter(ctx, args[0])
			if err != nil {
				return err
			}
			defer in.Close()
			if err := cli.Seen(ctx, s, in.Site.Address, "signed in as its admin"); err != nil {
				return err
			}
			hands, err := in.Hands(ctx)
			if err != nil {
				return err
			}
			if !hands {
				return a.enterByHand(ctx, in, show)
			}
			return a.enterSigned(ctx, in, show)
		}),
	}
	c.Flags().BoolVar(&show, "print", false, "print the page's address and open no browser")
	return c
}

func (a *app) enterSigned(ctx context.Context, in *sites.Entrance, show bool) error {
	door, err := onetimepage.Open(func(_ context.Context, agent string) (onetimepage.Form, error) {
		address, values, err := in.Hand(ctx, agent)
		return onetimepage.Form{Action: address, Values: values}, err
	})
	if err != nil {
		return err
	}
	if show {
		a.Streams.Print("%s", door.Address)
	} else if err := a.openDoor(ctx, in.Site.Address, door); err != nil {
		return err
	}
	err = door.Wait(ctx, doorOpen)
	switch {
	case errors.Is(err, onetimepage.ErrUnused):
		return fault.New(fault.Failed, "the browser did not open the page within a minute", in.Site.AdminURL,
			"Run it again with --print, and open the address that it prints.")
	case errors.Is(err, sites.ErrByHand):
		return a.enterByHand(ctx, in, show)
	case err != nil:
		return err
	}
	taken, err := in.Taken(ctx, sessionOffered)
	if err == nil && !taken {
		return fault.New(fault.Failed, "the browser did not take the session", in.Site.AdminURL, "Sign in yourself: "+
			fault.Call("reveal", in.Site.Address))
	}
	if err == nil && !show {
		a.Streams.Say("The admin area of %s is open in your browser, signed in as %s.", in.Site.Title, in.Site.Admin.Name)
	}
	return err
}

// openDoor opens the browser by a file: an address in its words could be read by
// every user of this machine.
func (a *app) openDoor(ctx context.Context, site string, door *onetimepage.Doorway) error {
	file, err := door.File(a.World.Home().Cache)
	if err != nil {
		return err
	}
	return a.openBrowser(ctx, site, "file://"+file)
}

// enterByHand is for sites that run no page of ours.
func (a *app) enterByHand(ctx context.Context, in *sites.Entrance, show bool) error {
	a.Streams.Warn(
		"this site runs no page that could hand a session over; sign in there yourself as " + in.Site.Admin.Name,
	)
	if a.Streams.ErrTerminal {
		if err := a.Streams.Copy(site.Credentials{Site: in.Site, Password: in.Password}); err != nil {
			return err
		}
	} else {
		a.Streams.Say("See the password with: tivset reveal %s", in.Site.Address)
	}
	if show {
		a.Streams.Print("%s", in.Page)
		return nil
	}
	return a.openBrowser(ctx, in.Site.Address, in.Page)
}

// openBrowser opens an address in the browser.
func (a *app) openBrowser(ctx context.Context, site, address string) error {
	words := strings.Fields(a.World.Env("BROWSER"))
	switch {
	case len(words) > 0:
	case runtime.GOOS == "darwin":
		words = []string{"open"}
	case runtime.GOOS == "windows":
		words = []string{"rundll32", "url.dll,FileProtocolHandler"}
	case a.World.Env("SSH_CONNECTION") != "" && a.World.Env("DISPLAY") == "" && a.World.Env("WAYLAND_DISPLAY") == "":
		return fault.New(fault.Failed, "over SSH there is no browser here", "",
			"Open the admin area where you sit, and see name and password with: "+fault.Call("reveal", site))
	default:
		words = []string{"xdg-open"}
	}
	program := exec.CommandContext(context.WithoutCancel(ctx), words[0], append(words[1:], address)...)
	if err := program.Start(); err != nil {
		return noBrowser(words[0], err)
	}
	ended := make(chan error, 1)
	go func() { ended <- program.Wait() }()
	select {
	case err := <-ended: // most hand the address to a browser that runs, and end
		if err != nil {
			return noBrowser(words[0], err)
		}
	case <-time.After(browserBegins):
	}
	return nil
}

// browserBegins is how long an opener that cannot open anything may take to say so.
const browserBegins = 2 * time.Second

func noBrowser(program string, err error) error {
	return fault.New(fault.Failed, "no browser could be opened", program,
		"Name yours in BROWSER, or run it again with --print.").Wrap(err)
}
