package command

import (
	"context"

	"github.com/spf13/cobra"

	"tivset/internal/ledger"
	"tivset/internal/site"
)

func (a *app) jobs() *cobra.Command {
	return &cobra.Command{
		Use:     "jobs",
		Short:   "List what ran and how it ended",
		Example: "  tivset jobs",
		Args:    takes(0, 0, ""),
		RunE: a.using(func(ctx context.Context, s *site.Service, _ []string) error {
			all, err := s.Jobs(ctx)
			if err != nil {
				return err
			}
			if a.json {
				return a.streams.WriteJSON(all)
			}
			if len(all) == 0 {
				a.streams.Say("Nothing ran yet.")
				return nil
			}
			var rows [][]string
			for _, j := range all {
				rows = append(rows, []string{j.ID, j.What, j.App, j.Address, j.Outcome, dash(j.Problem)})
			}
			a.streams.Table([]string{"Job", "What", "App", "Address", "Outcome", "Problem"}, rows)
			return nil
		}),
	}
}

func (a *app) undo() *cobra.Command {
	return &cobra.Command{
		Use:   "undo JOB",
		Short: "Take back a job that was cut off",
		Long: "Takes back the steps of a job that was cut off, last first, until the account is as it\n" +
			"was before. A job whose site was recorded already is finished instead.",
		Example: "  tivset jobs\n  tivset undo 20261123-074500-k3fa",
		Args:    takes(1, 1, "JOB"), Annotations: noDryRun(),
		RunE: a.using(func(ctx context.Context, s *site.Service, args []string) error {
			j, err := s.Undo(ctx, args[0])
			if err != nil {
				return err
			}
			return a.showJob(j)
		}),
		ValidArgsFunction: only(a.unfinishedWords),
	}
}

func (a *app) resume() *cobra.Command {
	var showPassword bool
	c := &cobra.Command{
		Use:   "resume JOB",
		Short: "Bring a job that was cut off to its end",
		Long: "Brings a job that was cut off to its end: what was begun is taken back, and the same is\n" +
			"installed again with the same answers. A job whose site was recorded already is finished.",
		Example: "  tivset jobs\n  tivset resume 20261123-074500-k3fa",
		Args:    takes(1, 1, "JOB"), Annotations: noDryRun(),
		RunE: a.using(func(ctx context.Context, s *site.Service, args []string) error {
			a.streams.ShowPassword = showPassword
			done, err := s.Resume(ctx, args[0])
			if err != nil {
				return err
			}
			return a.showInstalled(done)
		}),
		ValidArgsFunction: only(a.unfinishedWords),
	}
	c.Flags().BoolVar(&showPassword, "show-password", false, "print the admin's password even where no terminal is")
	return c
}

func (a *app) showJob(j ledger.Job) error {
	if a.json {
		return a.streams.WriteJSON(j)
	}
	if j.Outcome == "undone" {
		a.streams.Print("Undone: the account is as it was before job %s.", j.ID)
	} else {
		a.streams.Print("Finished: the site at %s is %s.", j.Address, j.Outcome)
	}
	return nil
}
