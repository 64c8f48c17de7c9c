package upkeep

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/command/team"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/screen"
	"tivset/internal/work"
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
