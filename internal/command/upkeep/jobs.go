package upkeep

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/command/team"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/screen"
	"tivset/internal/work"
	"tivset/internal/work/backup"
	"tivset/internal/work/requests"
)

func (a *app) jobs() *cobra.Command {
	who, log, follow := false, false, ""
	c := &cobra.Command{
		Use:   "jobs [JOB --log] [--who] [--follow NUMBER]",
		Short: "List what ran and how it ended",
		Long: "Lists the jobs, the newest first. With --who also who asked for each, and when.\n" +
			"With --log it shows the log of one: what was asked of files, database, web and SSH, how long each took,\n" +
			"and what came of it; it holds no password, and can be sent to whoever is to find out what went wrong.\n" +
			"With --follow it shows what a worker does with an order of the queue, until that has ended.",
		Example: "  tivset jobs\n  tivset jobs --who\n  tivset jobs --follow 12\n  tivset jobs 20261123-074500-k3fa --log",
		Args:    cli.Takes(0, 1, "JOB --log"),
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			switch {
			case log != (len(args) == 1):
				return fault.New(fault.Usage, "a job is named to see its log", "", "Write: tivset jobs JOB --log")
			case log:
				return a.jobLog(ctx, s, args[0])
			}
			if follow != "" {
				return team.Follow(ctx, a.App, follow)
			}
			all, err := s.Desk.Jobs(ctx)
			if err != nil {
				return err
			}
			if a.JSON {
				return a.Streams.WriteJSON(all)
			}
			if len(all) == 0 {
				a.Streams.Say("Nothing ran yet.")
				return nil
			}
			a.Streams.Jobs(all, who)
			return nil
		}),
	}
	c.Flags().StringVar(&follow, "follow", "", "show how an order of the queue goes on, by its number")
	c.Flags().BoolVar(&who, "who", false, "also who asked for them, and when")
	c.Flags().BoolVar(&log, "log", false, "show what a job asked of files, database and web, and what came of it")
	return c
}

// jobLog shows a job's log.
func (a *app) jobLog(ctx context.Context, s *core.Core, id string) error {
	file, text, err := s.Desk.Log(ctx, id)
	if err != nil {
		return err
	}
	lines := strings.Split(strings.TrimSuffix(string(text), "\n"), "\n")
	if a.JSON {
		return a.Streams.WriteJSON(map[string]any{"job": id, "log": file, "lines": lines})
	}
	for _, line := range lines {
		a.Streams.Print("%s", line)
	}
	return nil
}

func (a *app) undo() *cobra.Command {
	giveUp, noBackup := false, false
	c := &cobra.Command{
		Use:   "undo JOB [--give-up]",
		Short: "Undo a job that was cut off, or a whole install",
		Long: "Undoes the steps of a job that was cut off, last first, until the account is as it\n" +
			"was before. Where a job had begun to change the database, that is put back, and what is\n" +
			"there by now is kept as a backup. A job that installed a site takes the site away again, with\n" +
			"all that was written in it since, and puts back what was set aside; a backup of it is made first, on\n" +
			"this machine. Both ask first, or want --yes.\n" +
			"A job whose journal is lost nobody can undo, nor one that fails whenever it is tried: --give-up\n" +
			"takes its marks out of the account, so that others may work there, and says what of it still\n" +
			"lies in Tivset's folder in the account.",
		Example: "  tivset jobs\n  tivset undo 20261123-074500-k3fa",
		Args:    cli.Takes(1, 1, "JOB"), Annotations: cli.NoDryRun(),
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			if giveUp {
				return a.giveUp(ctx, s, args[0])
			}
			found, installed, err := s.Desk.Installed(ctx, args[0])
			if err != nil {
				return err
			}
			if installed {
				return a.takeBack(ctx, s, found, noBackup)
			}
			s.Desk.Agree = a.AgreeToPutBack
			j, err := s.Desk.Undo(ctx, args[0])
			if err != nil {
				return err
			}
			return a.showJob(j)
		}),
		ValidArgsFunction: cli.Only(a.UnfinishedWords),
	}
	c.Flags().BoolVar(&giveUp, "give-up", false, "end a job that nobody can undo")
	c.Flags().BoolVar(&noBackup, "no-backup", false, "make no backup of a site before it is taken away")
	return c
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
func (a *app) takeBack(ctx context.Context, s *core.Core, found ledger.Site, noBackup bool) error {
	what := fmt.Sprintf("This takes “%s” (%s) away, with its database and all that was written in it since %s.",
		found.Title, found.URL, found.InstalledAt.Format("2006-01-02 15:04 MST"))
	if n := len(found.SetAside); n > 0 {
		what += " What was set aside for it is put back."
	}
	if !a.Yes {
		if !a.Streams.Asks() {
			return &fault.Error{Kind: fault.NeedsConfirmation, What: "the job installed a site that is in use",
				Where:   found.Address,
				Details: []string{what}, Remedy: "To take it away, add --yes. Nothing was touched."}
		}
		a.Streams.Warn(what)
		if !screen.NewAsker(a.Streams).Confirm(ctx, "Take it away?") {
			return fault.New(fault.NeedsConfirmation, "not undone", found.Address, "Nothing was touched.")
		}
	}
	kept := ""
	if !noBackup {
		made, err := backup.Make(ctx, s.Desk, backup.Request{Site: found.Address, Into: s.Book.Home.Backups()})
		if err != nil {
			f := *fault.Of(err)
			f.What = "no backup could be made, and so nothing was undone: " + f.What
			f.Remedy = strings.TrimSpace(f.Remedy + " To take it back without one: tivset undo " + found.Job + " --no-backup")
			return &f
		}
		kept = made.File
	}
	j, left, err := s.Desk.TakeBack(ctx, found.Job)
	a.Streams.Say("")
	if err != nil {
		return err
	}
	if kept != "" {
		a.Streams.Say("What it was is kept on this machine: %s", kept)
		a.Streams.Say("To have it back: tivset restore %s --from %s", found.Address, kept)
	}
	if len(left) > 0 {
		a.Streams.Warn("not the install's, and so left where it is: " + strings.Join(left, ", "))
	}
	return a.showJob(j)
}

func (a *app) resume() *cobra.Command {
	var showPassword bool
	c := &cobra.Command{
		Use:   "resume JOB",
		Short: "Bring a job that was cut off to its end",
		Long: "Brings a job that was cut off to its end: what was begun is undone, and the same is\n" +
			"installed again with the same answers. A job whose site was recorded already is finished.\n" +
			"Where taking back puts a database back, it asks first, or wants --yes.",
		Example: "  tivset jobs\n  tivset resume 20261123-074500-k3fa",
		Args:    cli.Takes(1, 1, "JOB"), Annotations: cli.NoDryRun(),
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			a.Streams.ShowPassword, s.Desk.Agree = showPassword, a.AgreeToPutBack
			done, err := s.Desk.Resume(ctx, args[0])
			a.Streams.Say("")
			if err != nil {
				return err
			}
			return a.showResumed(ctx, done)
		}),
		ValidArgsFunction: cli.Only(a.UnfinishedWords),
	}
	c.Flags().BoolVar(&showPassword, "show-password", false, "print the admin's password even where no terminal is")
	return c
}

func (a *app) showResumed(ctx context.Context, r *work.Resumed) error {
	switch {
	case r.Way.New && !r.Gone:
		return a.Ended(ctx, &requests.Installed{Done: &r.Done})
	case a.JSON:
		return a.Streams.WriteJSON(map[string]any{"outcome": "finished", "what": r.Way.Name, "address": r.Site.Address,
			"site": r.Site, "gone": r.Gone})
	case r.Gone:
		a.Streams.Print("Finished: the %s of %s; the site is gone.", r.Way.Name, r.Site.Address)
	default:
		a.Streams.Print("Finished: the %s of %s.", r.Way.Name, r.Site.Address)
	}
	return nil
}

func (a *app) showJob(j ledger.Job) error {
	if a.JSON {
		return a.Streams.WriteJSON(j)
	}
	switch {
	case j.Outcome != ledger.Undone:
		a.Streams.Ended(j)
	case len(j.Kept) > 0 || len(j.Warnings) > 0:
		a.Streams.Print("Undone: %s is as it was before job %s.", j.Address, j.ID)
	default:
		a.Streams.Print("Undone: the account is as it was before job %s.", j.ID)
	}
	for _, said := range append(work.Kept(j), j.Warnings...) {
		a.Streams.Warn(screen.Spelled(said))
	}
	return nil
}
