package command

import (
	"context"
	"errors"
	"os/exec"
	"runtime"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tivset/internal/core"
	"tivset/internal/doorway"
	"tivset/internal/fault"
	"tivset/internal/site"
	"tivset/internal/sites"
)

// doorOpen is for how long the page waits for the browser.
const doorOpen = time.Minute

func (a *app) enter() *cobra.Command {
	show := false
	c := &cobra.Command{
		Use:   "enter SITE",
		Short: "Open the admin side in your browser, signed in",
		Long: "Opens the admin side in the default browser (or the program that BROWSER names), signed in: by\n" +
			"a page on this machine that works once and for a minute. Where a site's sign-in cannot be sent\n" +
			"that way, the sign-in page is opened and the password put on the clipboard.",
		Example: "  tivset enter lockside.localhost/forum",
		Args:    takes(1, 1, "SITE"), Annotations: noDryRun(), ValidArgsFunction: only(a.siteWords),
		RunE: a.using(func(ctx context.Context, s *core.Core, args []string) error {
			in, err := s.Sites.Enter(ctx, args[0])
			if err != nil {
				return err
			}
			if in.Action == "" {
				return a.enterByHand(ctx, in, show)
			}
			return a.enterSigned(ctx, in, show)
		}),
	}
	c.Flags().BoolVar(&show, "print", false, "print the page's address and open no browser")
	return c
}

func (a *app) enterSigned(ctx context.Context, in *sites.Entrance, show bool) error {
	door, err := doorway.Open(in.Action, in.Values)
	if err != nil {
		return err
	}
	if show {
		a.streams.Print("%s", door.Address)
	} else if err := a.openBrowser(ctx, door.Address); err != nil {
		return err
	}
	err = door.Wait(ctx, doorOpen)
	if errors.Is(err, doorway.ErrUnused) {
		return fault.New(fault.Failed, "the browser did not open the page within a minute", in.Site.AdminURL,
			"Run it again with --print, and open the address that it prints.")
	}
	if err == nil && !show {
		a.streams.Say("The admin side of %s is open in your browser, signed in as %s.", in.Site.Title, in.Site.Admin.Name)
	}
	return err
}

// enterByHand is for sign-ins that take no form from elsewhere.
func (a *app) enterByHand(ctx context.Context, in *sites.Entrance, show bool) error {
	a.streams.Warn("this site's sign-in takes no form from another page; sign in there yourself as " + in.Site.Admin.Name)
	if a.streams.ErrTerminal {
		if err := a.streams.Copy(site.Credentials{Site: in.Site, Password: in.Password}); err != nil {
			return err
		}
	} else {
		a.streams.Say("See the password with: tivset reveal %s", in.Site.Address)
	}
	if show {
		a.streams.Print("%s", in.Page)
		return nil
	}
	return a.openBrowser(ctx, in.Page)
}

// openBrowser opens an address in the browser. The address of a doorway is no
// secret for long: it works once.
func (a *app) openBrowser(ctx context.Context, address string) error {
	words := strings.Fields(a.world.Env("BROWSER"))
	switch {
	case len(words) > 0:
	case runtime.GOOS == "darwin":
		words = []string{"open"}
	case runtime.GOOS == "windows":
		words = []string{"rundll32", "url.dll,FileProtocolHandler"}
	default:
		words = []string{"xdg-open"}
	}
	program := exec.CommandContext(context.WithoutCancel(ctx), words[0], append(words[1:], address)...)
	if err := program.Start(); err != nil {
		return fault.New(fault.Failed, "no browser could be opened", words[0],
			"Name yours in BROWSER, or run it again with --print.").Because(err)
	}
	go func() { _ = program.Wait() }()
	return nil
}
