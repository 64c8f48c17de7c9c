package work

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"

	"tivset/internal/fault"
	"tivset/internal/logs"
)

// LoggedFor is for how long the logs of jobs are kept, in days.
const LoggedFor = 30

// stageName is the name of a stage below a document root: who knows it reaches a site that is not set up yet.
var stageName = regexp.MustCompile(`stage-[a-z0-9]{20,}`)

// logged has what is done in a context written to a job's log on this machine, without its secrets, until
// done. A log that cannot be opened is none: no job fails for it.
func (d *Service) logged(ctx context.Context, id string, secrets []string) (context.Context, func()) {
	hidden := hiding(secrets)
	hide := func(text string) string { return stageName.ReplaceAllString(hidden(text), "stage-…") }
	if os.MkdirAll(d.Book.Home.Logs(), 0o700) != nil {
		return ctx, func() {}
	}
	l, file, err := logs.Open(d.Book.Home.JobLog(id), hide)
	if err != nil {
		return ctx, func() {}
	}
	return logs.With(logs.Hiding(ctx, hide), l), func() { _ = file.Close() }
}

// logEnd notes how a job ended.
func logEnd(ctx context.Context, err error) {
	if err == nil {
		logs.From(ctx).Info("job ended", "outcome", "done")
		return
	}
	f := fault.Of(err)
	logs.From(ctx).Error("job ended", "exit", int(f.Kind), "error", f.Error(), "remedy", f.Remedy)
}

// Log reads what a job's log on this machine says.
func (d *Service) Log(ctx context.Context, id string) (file string, text []byte, err error) {
	if filepath.Base(id) != id {
		return "", nil, noLog(id, "")
	}
	file = d.Book.Home.JobLog(id)
	text, err = os.ReadFile(file) // of at most logs.Longest
	if !errors.Is(err, fs.ErrNotExist) {
		return file, text, err
	}
	entry, err := d.ledgerJob(ctx, id)
	if err != nil {
		return "", nil, err
	}
	return "", nil, noLog(id, entry.Who)
}

func noLog(id, who string) error {
	remedy := "See the jobs with: " + fault.Call("jobs") + ". Logs are kept for 30 days."
	if who != "" {
		remedy = "It is on the machine that ran the job, which " + who + " asked for; logs are kept there for 30 days."
	}
	return fault.NewAs(fault.NoSuchJob, fault.Usage, "no log of such a job is here", id, remedy)
}
