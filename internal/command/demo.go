package command

import (
	"context"
	"os"

	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/demo"
)

func (a *app) demo() *cobra.Command {
	var tour bool
	c := &cobra.Command{
		Use:   "demo [--tour]",
		Short: "Start a made-up hosting account to try things on",
		Long: "Starts a made-up hosting account on this machine: web server, database server and mailbox\n" +
			"in this one process, with made-up apps to install. It runs until you press Ctrl-C.\n" +
			"It lives in TIVSET_HOME if that is set, else in a temporary folder that goes at the end.",
		Example: "  tivset demo\n  tivset demo --tour",
		Args:    cli.Takes(0, 0, ""),
		RunE: func(c *cobra.Command, _ []string) error {
			if tour {
				return a.runTour(c.Context())
			}
			return a.runDemo(c.Context())
		},
	}
	c.Flags().BoolVar(&tour, "tour", false, "run a whole example and show each command with its output")
	return c
}

// startDemo starts the demo in TIVSET_HOME or in a folder that goes at the end.
func (a *app) startDemo() (d *demo.Demo, end func(), err error) {
	folder, temporary := a.World.Env("TIVSET_HOME"), false
	if folder == "" {
		if folder, err = os.MkdirTemp("", "tivset-demo-"); err != nil {
			return nil, nil, err
		}
		temporary = true
	}
	end = func() {
		if d != nil {
			_ = d.Close()
		}
		if temporary {
			_ = os.RemoveAll(folder)
		}
	}
	if d, err = demo.Start(folder); err != nil {
		end()
		return nil, nil, err
	}
	return d, end, nil
}

type demoJSON struct {
	Home    string        `json:"home"`
	Account string        `json:"account"`
	Root    string        `json:"root"`
	Domains []demo.Domain `json:"domains"`
	Mailbox string        `json:"mailbox"`
}

func (a *app) runDemo(ctx context.Context) error {
	d, end, err := a.startDemo()
	if err != nil {
		return err
	}
	defer end()
	if a.JSON {
		// One line, so that whoever started it can wait for it.
		if err := a.Streams.WriteLine(demoJSON{d.Folder, demo.AccountName, d.Standin.Root, d.Domains,
			d.Standin.Mailbox}); err != nil {
			return err
		}
	} else {
		a.welcome(d)
	}
	<-ctx.Done()
	a.Streams.Say("\nThe demo has ended.")
	return nil
}

func (a *app) welcome(d *demo.Demo) {
	a.Streams.Print("The made-up hosting account %s is running, until you press Ctrl-C here.\n", demo.AccountName)
	for _, x := range d.Domains {
		a.Streams.Print("  %s", x.URL)
	}
	a.Streams.Print("\n  database server  %s\n  mail server      %s, which keeps every mail in %s",
		d.Standin.Database.Address(), d.Standin.Mail.Address(), d.Standin.Mailbox)
	a.Streams.Print("\nIn another terminal:\n\n  export TIVSET_HOME=%s", d.Folder)
	a.Streams.Print("  tivset browse")
	a.Streams.Print("  tivset install inkreach --at %s/journal -a title=\"Lock Journal\" \\\n      -a "+
		"admin.email=wharfinger@lockside.localhost", d.Domains[1].Name)
	a.Streams.Print("  tivset sites")
}

func (a *app) runTour(ctx context.Context) error {
	d, end, err := a.startDemo()
	if err != nil {
		return err
	}
	defer end()
	program, err := os.Executable()
	if err != nil {
		return err
	}
	return demo.Tour(ctx, d, program, a.Streams.Out)
}
