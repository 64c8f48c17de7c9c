package setup

import (
	"context"
	"fmt"
	"path"
	"tivset/internal/app/fill"
	"tivset/internal/app/kit"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
)

// script runs an SQL file of the app.
func (r *Runner) script(ctx context.Context, step kit.Step) error {
	s := step.SQL
	name, err := fill.Text(s.File, r.Values)
	if err != nil {
		return err
	}
	if err := files.Valid(name); err != nil {
		return err
	}
	file, err := r.Files.Open(ctx, path.Join(r.Folder, name))
	if err != nil {
		return fmt.Errorf("open the schema: %w", err)
	}
	defer file.Close()
	_, err = r.Data.Run(ctx, file, database.ScriptOptions{From: s.Tables, To: r.Values["tables"]})
	if err != nil {
		return fmt.Errorf("%s, %w", name, err)
	}
	return nil
}

// statement runs one statement of the kit.
func (r *Runner) statement(ctx context.Context, s kit.Step) error {
	text, err := fill.Text(s.RunSQL, fill.Values{"tables": r.Values["tables"]})
	if err != nil {
		return err
	}
	values, err := r.fillAll(s.With)
	if err != nil {
		return err
	}
	return r.Data.Exec(ctx, text, values)
}
