package upkeep

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/screen"
	"tivset/internal/work/backup"
)

func (a *app) undo() *cobra.Command {
	giveUp, noBackup, all := false, false, false
	c := &cobra.Command{
		Use:   "undo JOB… | --all [--give-up]",
		Short: "Undo jobs that were cut off, or a whole install",
		Long: "Undoes the steps of a job that was cut off, last first, until the account is as it\n" +
			"was before. Where a job had begun to change the database, that is put back, and what is\n" +
			"there by now is kept as a backup. A job that installed a site takes the site away again, with\n" +
			"all that was written in it since, and puts back what was set aside; a backup of it is made first, on\n" +
			"this machine. Both ask first, or want --yes.\n" +
			"A job whose journal is lost nobody can undo, nor one that fails whenever it is tried: --give-up\n" +
			"takes its marks out of the account, so that others may work there, and says what of it still\n" +
			"lies in Tivset's folder in the account.\n" +
			"With --all those are undone that were cut off, of --account only its own; one that cannot be undone keeps\n" +
			"the others from nothing.",
		Example: "  tivset jobs\n  tivset undo 20261123-074500-k3fa\n  tivset undo --all --yes",
		Args:    cli.Takes(0, -1, "JOB…"), Annotations: cli.NoDryRun(),
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			switch {
			case all == (len(args) > 0):
				return fault.New(fault.Usage, "which job?", strings.Join(args, " "),
					"Name it, or several; or say --all, for those that were cut off. See them with: tivset jobs")
			case giveUp && len(args) != 1:
				return fault.New(fault.Usage, "jobs are given up one by one", "--give-up", "Name one.")
			case giveUp:
				return a.giveUp(ctx, s, args[0])
			case !all && len(args) == 1:
				j, err := a.undoOne(ctx, s, args[0], noBackup)
				if err != nil {
					return err
				}
				return a.showJob(j)
			}
			return a.undoMany(ctx, s, args, noBackup)
		}),
		ValidArgsFunction: cli.Only(a.UnfinishedWords),
	}
	c.Flags().BoolVar(&giveUp, "give-up", false, "end a job that nobody can undo")
	c.Flags().BoolVar(&all, "all", false, "all that were cut off; with --account those of that account")
	c.Flags().BoolVar(&noBackup, "no-backup", false, "make no backup of a site before it is taken away")
	return c
}

// undoOne undoes a job that was cut off, or an install.
func (a *app) undoOne(ctx context.Context, s *core.Core, id string, noBackup bool) (j ledger.Job, err error) {
	found, installed, err := s.Desk.Installed(ctx, id)
	if err != nil {
		return j, err
	}
	if installed {
		return a.takeBack(ctx, s, found, noBackup)
	}
	s.Desk.Agree = a.AgreeToPutBack
	return s.Desk.Undo(ctx, id)
}

// undoMany undoes several jobs, the newest first: what a later one changed is undone before what it was changed from.
func (a *app) undoMany(ctx context.Context, s *core.Core, ids []string, noBackup bool) error {
	if len(ids) == 0 {
		jobs, err := s.Desk.Unfinished(ctx)
		if err != nil {
			return err
		}
		for _, j := range jobs {
			if a.Account == "" || j.Account == a.Account {
				ids = append(ids, j.ID)
			}
		}
	}
	ids = slices.Clone(ids)
	slices.Sort(ids) // they begin with their time
	slices.Reverse(ids)
	documents, code := []any{}, 0
	for _, id := range slices.Compact(ids) {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		j, err := a.undoOne(ctx, s, id, noBackup)
		switch {
		case err != nil:
			code = max(code, screen.Code(err))
			documents = append(documents, a.Streams.Failed(err))
			if f := fault.Of(err); !a.JSON {
				a.Streams.Note(fmt.Sprintf("%s was not undone: %s. %s", id, f.Error(), screen.Spelled(f.Remedy)))
			}
		case a.JSON:
			documents = append(documents, j)
		default:
			if err := a.showJob(j); err != nil {
				return err
			}
		}
	}
	if len(ids) == 0 && !a.JSON {
		a.Streams.Say("No job was cut off.")
	}
	if a.JSON {
		if err := a.Streams.WriteJSON(documents); err != nil {
			return err
		}
	}
	if code != 0 {
		return cli.Quiet(code)
	}
	return nil
}

// giveUp ends a job that nobody can undo.
func (a *app) giveUp(ctx context.Context, s *core.Core, id string) error {
	s.Desk.Agree = a.AgreeToPutBack
	done, err := s.Desk.GiveUp(ctx, id)
	if err != nil {
		return err
	}
	if a.JSON {
		return a.Streams.WriteJSON(map[string]any{"outcome": done.Job.Outcome, "job": done.Job, "left": done.Left,
			"marks": done.Marks, "looked_at": done.Seen == nil})
	}
	if done.Job.Outcome != ledger.GivenUp { // it could be brought to an end after all
		return a.showJob(done.Job)
	}
	a.Streams.Print("Job %s is given up. What it had begun at %s stays as it is.", id, done.Job.Address)
	for _, folder := range done.Left {
		a.Streams.Warn(
			"of the job there is still " + folder + " in the account; what belongs to the owner there can be moved back",
		)
	}
	if done.Seen != nil {
		a.Streams.Warn("the account could not be looked at: " + done.Seen.Error())
	}
	return nil
}

// takeBack undoes a whole install, once that was confirmed.
func (a *app) takeBack(ctx context.Context, s *core.Core, found ledger.Site, noBackup bool) (j ledger.Job, err error) {
	what := fmt.Sprintf("This takes “%s” (%s) away, with its database and all that was written in it since %s.",
		found.Title, found.URL, found.InstalledAt.Format("2006-01-02 15:04 MST"))
	if n := len(found.SetAside); n > 0 {
		what += " What was set aside for it is put back."
	}
	if !a.Yes {
		if !a.Streams.Asks() {
			return j, &fault.Error{Kind: fault.NeedsConfirmation, What: "the job installed a site that is in use",
				Where:   found.Address,
				Details: []string{what}, Remedy: "To take it away, add --yes. Nothing was touched."}
		}
		a.Streams.Warn(what)
		if !screen.NewAsker(a.Streams).Confirm(ctx, "Take it away?") {
			return j, fault.New(fault.NeedsConfirmation, "not undone", found.Address, "Nothing was touched.")
		}
	}
	kept := ""
	if !noBackup {
		made, err := backup.Make(ctx, s.Desk, backup.Request{Site: found.Address, Into: s.Book.Home.Backups()})
		if err != nil {
			f := *fault.Of(err)
			f.What = "no backup could be made, and so nothing was undone: " + f.What
			f.Remedy = strings.TrimSpace(f.Remedy + " To take it back without one: tivset undo " + found.Job + " --no-backup")
			return j, &f
		}
		kept = made.File
	}
	j, left, err := s.Desk.TakeBack(ctx, found.Job)
	a.Streams.Say("")
	if err != nil {
		return j, err
	}
	if kept != "" {
		a.Streams.Say("What it was is kept on this machine: %s", kept)
		a.Streams.Say("To have it back: tivset restore %s --from %s", found.Address, kept)
	}
	if len(left) > 0 {
		a.Streams.Warn("not the install's, and so left where it is: " + strings.Join(left, ", "))
	}
	return j, nil
}
