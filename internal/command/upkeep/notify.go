package upkeep

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tivset/internal/answer/care"
	"tivset/internal/command/cli"
	"tivset/internal/fault"
	"tivset/internal/notify/webhook"
	"tivset/internal/records/home"
)

func (a *app) notify() *cobra.Command {
	c := &cobra.Command{
		Use:   "notify [add TO [--of WHAT] | remove TO | test TO]",
		Short: "Have a program, or an https address, told what maintenance meets",
		Long: "Besides the mails that the care of each site asks for, this machine tells programs of yours what its\n" +
			"maintenance runs did and met: one event a run, JSON, on the standard input of exec:/PROGRAM or posted to an\n" +
			"https address with a signature (webhook-signature, as Standard Webhooks has it). What is not taken waits in\n" +
			"the outbox, and is tried again for five days. Without a word it says who is told.",
		Example: "  tivset notify\n  tivset notify add exec:/usr/local/bin/page-me\n" +
			"  tivset notify add https://monitor.lockside.localhost/tivset --of everything\n" +
			"  tivset notify test exec:/usr/local/bin/page-me",
		Args: a.Unknown, Annotations: cli.NoDryRun(),
		RunE: func(*cobra.Command, []string) error { return a.sayNotified() },
	}
	n := home.Notified{}
	add := &cobra.Command{Use: "add TO [--of trouble]", Short: "Tell one more", Args: cli.Takes(1, 1, "TO"),
		Example: "  tivset notify add exec:/usr/local/bin/page-me\n" +
			"  tivset notify add https://monitor.lockside.localhost/tivset",
		Annotations: cli.NoDryRun(),
		RunE: func(_ *cobra.Command, args []string) error {
			n.To = args[0]
			return a.addNotified(n)
		}}
	add.Flags().StringVar(&n.Of, "of", care.Reaches[0], "what it is told of: trouble, changes, everything")
	cli.Option(add, "of", func(context.Context) []string { return care.Reaches }, 0)
	remove := &cobra.Command{Use: "remove TO", Short: "Tell one no more", Args: cli.Takes(1, 1, "TO"),
		Example: "  tivset notify remove exec:/usr/local/bin/page-me\n" +
			"  tivset notify remove https://monitor.lockside.localhost/tivset",
		Annotations: cli.NoDryRun(),
		RunE:        func(_ *cobra.Command, args []string) error { return a.removeNotified(args[0]) }}
	test := &cobra.Command{Use: "test TO", Short: "Tell one of an event that did not happen", Args: cli.Takes(1, 1, "TO"),
		Example: "  tivset notify test exec:/usr/local/bin/page-me\n" +
			"  tivset notify test https://monitor.lockside.localhost/tivset",
		Annotations: cli.NoDryRun(),
		RunE: func(c *cobra.Command, args []string) error {
			return a.testNotified(c.Context(), args[0])
		}}
	c.AddCommand(add, remove, test)
	for _, sub := range c.Commands() {
		sub.DisableFlagsInUseLine = true
	}
	return c
}

// notifiedJSON is one who is told.
type notifiedJSON struct {
	To  string `json:"to"`
	Of  string `json:"of"`
	Key string `json:"key,omitempty"` // only when it is made
}

func (a *app) sayNotified() error {
	all, err := a.World.Home().Notified()
	if err != nil {
		return err
	}
	out, rows := []notifiedJSON{}, [][]string{}
	for _, n := range all {
		out, rows = append(out, notifiedJSON{n.To, n.Of, ""}), append(rows, []string{n.To, n.Of})
	}
	switch {
	case a.JSON:
		return a.Streams.WriteJSON(out)
	case len(all) == 0:
		a.Streams.Say("No program is told. To add one: tivset notify add exec:/PROGRAM")
	default:
		a.Streams.Table([]string{"Who", "What of"}, rows)
	}
	return nil
}

func (a *app) addNotified(n home.Notified) error {
	if err := home.ValidNotified(n, care.Reaches); err != nil {
		return err
	}
	h := a.World.Home()
	all, err := h.Notified()
	if err != nil {
		return err
	}
	out := notifiedJSON{To: n.To, Of: n.Of}
	switch at := slices.IndexFunc(all, func(o home.Notified) bool { return o.To == n.To }); {
	case at >= 0:
		all[at].Of = n.Of // its key stays: the other side knows it
	case home.Program(n.To) == "":
		n.Key = webhook.NewKey()
		out.Key = n.Key
		fallthrough
	default:
		all = append(all, n)
	}
	if err := h.KeepNotified(all); err != nil {
		return err
	}
	if a.JSON {
		return a.Streams.WriteJSON(out)
	}
	a.Streams.Print("%s is told of %s from now on.", n.To, n.Of)
	if out.Key != "" {
		a.Streams.Print("Its key, by which the other side knows that it is this machine (shown only now):\n  %s", out.Key)
	}
	return nil
}

// told finds one who is told.
func (a *app) told(to string) (all []home.Notified, at int, err error) {
	if all, err = a.World.Home().Notified(); err != nil {
		return nil, 0, err
	}
	if at = slices.IndexFunc(all, func(n home.Notified) bool { return n.To == to }); at < 0 {
		names := []string{}
		for _, n := range all {
			names = append(names, n.To)
		}
		return nil, 0, fault.New(fault.Usage, "nobody of that name is told", to,
			"There are: "+strings.Join(append(names, "none else"), ", ")+". Add it: "+fault.Call("notify", "add", to))
	}
	return all, at, nil
}

func (a *app) removeNotified(to string) error {
	all, at, err := a.told(to)
	if err != nil {
		return err
	}
	if err := a.World.Home().KeepNotified(slices.Delete(all, at, at+1)); err != nil {
		return err
	}
	if a.JSON {
		return a.Streams.WriteJSON(map[string]any{"removed": to})
	}
	a.Streams.Print("%s is told no more.", to)
	return nil
}

// testEvent is an event that says that it is none.
type testEvent struct {
	ID    string    `json:"id"`
	At    time.Time `json:"at"`
	By    string    `json:"by"`
	Test  bool      `json:"test"`
	Lines []string  `json:"lines"`
}

func (a *app) testNotified(ctx context.Context, to string) error {
	all, at, err := a.told(to)
	if err != nil {
		return err
	}
	now := a.World.Now().UTC()
	e := testEvent{ID: "test-" + now.Format("20060102-150405"), At: now, By: a.World.Operator(), Test: true,
		Lines: []string{}}
	body, err := json.Marshal(e)
	if err != nil {
		return err
	}
	if err := a.NotifyOne(ctx, all[at], e.ID, body); err != nil {
		var f *fault.Error
		if errors.As(err, &f) {
			return err
		}
		return fault.New(fault.Failed, "it did not take the event", to,
			"A program ends with 0 when it has taken one, an address answers 2xx; mend that, and test again.").Wrap(err)
	}
	if a.JSON {
		return a.Streams.WriteJSON(map[string]any{"told": to})
	}
	a.Streams.Print("%s has taken it.", to)
	return nil
}
