package command

import (
	"context"
	"errors"

	"tivset/internal/app/release"
	"tivset/internal/fault"
	"tivset/internal/screen"
)

// errStop ends a command that has nothing more to do: a dry run was shown.
var errStop error = &silent{0}

// agree shows a review and has it confirmed: on a terminal by a yes, elsewhere by --yes.
func (a *app) agree(ctx context.Context, review, question string, plan any) error {
	if a.dryRun {
		if a.json {
			if err := a.streams.WriteJSON(plan); err != nil {
				return err
			}
			return errStop
		}
		a.streams.Print("%s", review)
		a.streams.Say("A dry run: nothing was touched.")
		return errStop
	}
	return a.confirmed(ctx, review, question,
		"Look at what it does with --dry-run; then add --yes. Nothing was touched.")
}

// agreeFinally has something confirmed by a command that has no dry run.
func (a *app) agreeFinally(ctx context.Context, review, question string) error {
	return a.confirmed(ctx, review, question, "To have it done, add --yes. Nothing was touched.")
}

func (a *app) confirmed(ctx context.Context, review, question, remedy string) error {
	a.streams.Say("\n%s", review)
	if a.yes {
		return nil
	}
	if !a.streams.Asks() {
		return wantsYes(remedy)
	}
	if !screen.NewAsker(a.streams).Confirm(ctx, question) {
		return fault.New(fault.NeedsConfirmation, "not done", "", "Nothing was touched.")
	}
	return nil
}

// wantsYes is the fault of a command that changes something where nobody is there to agree.
func wantsYes(remedy string) error {
	return fault.New(fault.NeedsConfirmation, "this wants your yes", "", remedy)
}

// agreeToPutBack has somebody agree that a database is put back over what is
// there now.
func (a *app) agreeToPutBack(ctx context.Context, what string) error {
	if a.yes {
		return nil
	}
	if !a.streams.Asks() {
		return &fault.Error{Kind: fault.NeedsConfirmation, What: "the database would be put back over what is there now",
			Details: []string{what}, Remedy: "To have it put back, add --yes. Nothing was touched."}
	}
	a.streams.Warn(what)
	if !screen.NewAsker(a.streams).Confirm(ctx, "Put it back?") {
		return fault.New(fault.NeedsConfirmation, "not undone", "", "Nothing was touched.")
	}
	return nil
}

const acceptUsage = "the checksum (SHA-256) of an archive that you fetched and that is right, though the kit does " +
	"not know it"

// acceptsArchive shows an archive that the owner fetched and the kit does not know, and
// gives its checksum when the owner says that it is the right one.
func (a *app) acceptsArchive(ctx context.Context, err error) string {
	var u *release.Unknown
	if !errors.As(err, &u) || !a.streams.Asks() || a.yes {
		return ""
	}
	f := fault.Of(err)
	a.streams.Say("%s (%s):", f.What, f.Where)
	for _, line := range f.Details {
		a.streams.Say("  %s", line)
	}
	if !screen.NewAsker(a.streams).Confirm(ctx, "Do you have it from the app's own site, with that checksum?") {
		return ""
	}
	return u.Sum
}
