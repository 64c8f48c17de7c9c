package setup

import (
	"context"
	"fmt"
	"strings"

	"tivset/internal/app/fill"
	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/runtime"
	"tivset/internal/hosting/web"
)

// command runs a program of the account's in the app's folder.
func (r *Runner) command(ctx context.Context, s kit.Step) error {
	commander, ok := r.Files.(files.Commander)
	if !ok || r.PHP == "" {
		return fault.New(fault.Failed, "the set-up runs a program, and the account's files are reached without commands",
			s.Command[0], "Reach the account over SSH with a shell, and name its php: runtime: {php: …}.")
	}
	words := []string{r.PHP}
	if pass, is := web.Brought(ctx); is {
		words = append(words, "-d", runtime.GuardSetting+"="+pass.Secret)
	}
	for _, w := range s.Command[1:] {
		filled, err := fill.Text(w, r.Values)
		if err != nil {
			return err
		}
		words = append(words, filled)
	}
	input, err := fill.Text(s.Input, r.Values)
	if err != nil {
		return err
	}
	limited, cancel := context.WithTimeout(ctx, s.Patience())
	defer cancel()
	out, err := commander.Command(limited, r.Folder, words, input)
	name := strings.Join(s.Command, " ")
	wrong := func(what string) error {
		f := &fault.Error{Kind: fault.Failed, What: what, Where: name,
			Remedy: "Tell the kit's author, with what the program says."}
		if said := lastLines(string(out)); said != "" {
			f.Details = []string{"it printed: " + r.redact(said)}
		}
		return f
	}
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case limited.Err() != nil:
		return wrong(fmt.Sprintf("the app's set-up program did not end within %s", s.Patience()))
	case err != nil:
		return wrong("the app's set-up program failed: " + r.redact(err.Error()))
	case s.Expect == nil:
		return nil
	}
	text, err := fill.Text(s.Expect.Text, r.Values)
	if err != nil {
		return err
	}
	not, err := fill.Text(s.Expect.NotText, r.Values)
	if err != nil {
		return err
	}
	if text != "" && !strings.Contains(string(out), text) {
		return wrong(fmt.Sprintf("the app's set-up program does not print “%s”", r.redact(text)))
	}
	if not != "" && strings.Contains(string(out), not) {
		return wrong(fmt.Sprintf("the app's set-up program prints “%s”", r.redact(not)))
	}
	return nil
}

// lastLines gives the end of what a program printed, on one line.
func lastLines(text string) string {
	words := []rune(strings.Join(strings.Fields(text), " "))
	if len(words) > 200 {
		return "… " + string(words[len(words)-200:])
	}
	return string(words)
}
