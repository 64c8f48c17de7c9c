package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os/exec"
	"slices"
	"strings"
	"time"

	"tivset/internal/answer/care"
	"tivset/internal/notify/webhook"
	"tivset/internal/records/home"
	"tivset/internal/screen"
)

// programTime is how long a program that is told may take.
const programTime = 30 * time.Second

// notifies tells a program of an event, or an https address. Whom this machine tells no more has been told enough.
func (a *App) notifies(ctx context.Context, to, id string, event []byte) error {
	all, err := a.World.Home().Notified()
	if err != nil {
		return err
	}
	n := slices.IndexFunc(all, func(n home.Notified) bool { return n.To == to })
	if n < 0 {
		return nil
	}
	return a.NotifyOne(ctx, all[n], id, event)
}

// NotifyOne tells one of an event.
func (a *App) NotifyOne(ctx context.Context, n home.Notified, id string, event []byte) error {
	if err := home.ValidNotified(n, care.Reaches); err != nil {
		return err // others may have been let into the program since
	}
	event, err := spelledJSON(event)
	if err != nil {
		return err
	}
	if file := home.Program(n.To); file != "" {
		return runTold(ctx, file, event)
	}
	return webhook.Post(ctx, a.Machine().Download, n.To, n.Key, id, a.World.Now(), event)
}

// runTold runs a program with the event as its standard input.
func runTold(ctx context.Context, file string, event []byte) error {
	ctx, cancel := context.WithTimeout(ctx, programTime)
	defer cancel()
	c := exec.CommandContext(ctx, file)
	c.Stdin = bytes.NewReader(event)
	c.WaitDelay = time.Second // what it left behind may hold its output open
	said, err := c.CombinedOutput()
	if ctx.Err() != nil {
		return fmt.Errorf("it took longer than %s", programTime)
	}
	if errors.Is(err, exec.ErrWaitDelay) {
		return nil
	}
	if err != nil {
		first, _, _ := strings.Cut(strings.TrimSpace(string(said[:min(len(said), 1000)])), "\n")
		return fmt.Errorf("%w: %s", err, first)
	}
	return nil
}

// spelledJSON spells the calls in the texts of a document.
func spelledJSON(document []byte) ([]byte, error) {
	var of any
	d := json.NewDecoder(bytes.NewReader(document))
	d.UseNumber()
	if err := d.Decode(&of); err != nil {
		return nil, err
	}
	return json.Marshal(spelledIn(of))
}

func spelledIn(of any) any {
	switch v := of.(type) {
	case string:
		return screen.Spelled(v)
	case []any:
		for n := range v {
			v[n] = spelledIn(v[n])
		}
	case map[string]any:
		for key := range v {
			v[key] = spelledIn(v[key])
		}
	}
	return of
}
