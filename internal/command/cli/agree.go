package cli

import (
	"context"
	"errors"

	"tivset/internal/app/release"
	"tivset/internal/fault"
	"tivset/internal/screen"
)

// errStop ends a command that has nothing more to do: a dry run was shown.
var errStop error = Quiet(0)

// Agree shows a review and has it confirmed: on a terminal by a yes, elsewhere by --yes.
func (a *App) Agree(ctx context.Context, review, question string, plan any) error {
	if a.DryRun {
		if a.JSON {
			if err := a.Streams.WriteJSON(plan); err != nil {
				return err
			}
			return errStop
		}
		a.Streams.Print("%s", review)
		a.Streams.Say("A dry run: nothing was touched.")
		return errStop
	}
	return a.confirmed(ctx, review, question,
		"Look at what it does with --dry-run; then add --yes. Nothing was touched.")
}

// AgreeFinally has something confirmed by a command that has no dry run.
func (a *App) AgreeFinally(ctx context.Context, review, question string) error {
	return a.confirmed(ctx, review, question, "To have it done, add --yes. Nothing was touched.")
}

func (a *App) confirmed(ctx context.Context, review, question, remedy string) error {
	a.Streams.Say("\n%s", review)
	if a.Yes {
		return nil
	}
	if !a.Streams.Asks() {
		return WantsYes(remedy)
	}
	if !screen.NewAsker(a.Streams).Confirm(ctx, question) {
		return fault.New(fault.NeedsConfirmation, "not done", "", "Nothing was touched.")
	}
	return nil
}

// WantsYes is the fault of a command that changes something where nobody is there to agree.
func WantsYes(remedy string) error {
	return fault.New(fault.NeedsConfirmation, "this wants your yes", "", remedy)
}

// AgreeToPutBack has somebody agree that a database is put back over what is
// there now.
func (a *App) AgreeToPutBack(ctx context.Context, what string) error {
	if a.Yes {
		return nil
	}
	if !a.Streams.Asks() {
		return &fault.Error{Kind: fault.NeedsConfirmation, What: "the database would be put back over what is there now",
			Details: []string{what}, Remedy: "To have it put back, add --yes. Nothing was touched."}
	}
	a.Streams.Warn(what)
	if !screen.NewAsker(a.Streams).Confirm(ctx, "Put it back?") {
		return fault.New(fault.NeedsConfirmation, "not undone", "", "Nothing was touched.")
	}
	return nil
}

const AcceptUsage = "the checksum (SHA-256) of an archive that you fetched and that is right, though the kit does " +
	"not know it"

// AcceptsArchive shows an archive that the owner fetched and the kit does not know, and
// gives its checksum when the owner says that it is the right one.
func (a *App) AcceptsArchive(ctx context.Context, err error) string {
	var u *release.Unknown
	if !errors.As(err, &u) || !a.Streams.Asks() || a.Yes {
		return ""
	}
	f := fault.Of(err)
	a.Streams.Say("%s (%s):", f.What, f.Where)
	for _, line := range f.Details {
		a.Streams.Say("  %s", line)
	}
	if !screen.NewAsker(a.Streams).Confirm(ctx, "Do you have it from the app's own site, with that checksum?") {
		return ""
	}
	return u.Sum
}
