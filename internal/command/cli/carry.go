package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/job"
	"tivset/internal/records/team"
	"tivset/internal/records/trust"
	"tivset/internal/screen"
	"tivset/internal/work/batch"
	"tivset/internal/work/requests"
)

// questions are what is asked before something is done, of one site and of several.
var questions = map[string]struct{ one, several string }{
	"install": {"Install?", "Install %s?"}, "update": {"Update?", "Update %s?"}, "restore": {"Restore?", "Restore %s?"},
	"copy": {"Copy?", "Copy %s?"}, "move": {"Move?", "Move %s?"}, "remove": {"Remove it?", "Remove %s?"},
}

// Carry looks at all that is asked for, has it agreed to, and does it, or puts it on the queue. Again, which may be
// nil, mends the request for one site that could not be looked at.
func (a *App) Carry(ctx context.Context, s *core.Core, b *batch.Batch, o *Selection,
	again func(err error) (batch.Request, error)) error {
	if o.AtOnce < 1 {
		return fault.New(fault.Usage, "at least one site has to be worked on at once", "--parallel",
			"Give a number from 1 on.")
	}
	defer b.Close()
	one := len(b.Rows) == 1 && o.Table == "" && !o.All
	switch {
	case one && a.Ordering != nil:
		return a.orderOne(ctx, s, b)
	case one:
		return a.carryOne(ctx, s, b, again)
	}
	return a.carryAll(ctx, s, b, o)
}

// carryOne does what is asked of one site.
func (a *App) carryOne(ctx context.Context, s *core.Core, b *batch.Batch,
	again func(err error) (batch.Request, error)) (err error) {
	r := b.Rows[0]
	r.Plan, err = r.Request.Plan(ctx, s.Desk)
	if err != nil && again != nil {
		if r.Request, err = again(err); err == nil {
			r.Plan, err = r.Request.Plan(ctx, s.Desk)
		}
	}
	if err != nil {
		return err
	}
	if err := a.agreeToOne(ctx, r); err != nil {
		return err
	}
	b.Carry(ctx, s.Desk, batch.How{})
	if r.ToDo() || r.Err != nil {
		a.Streams.Say("")
	}
	if r.Err != nil {
		if not := (*requests.NotRehearsed)(nil); errors.As(r.Err, &not) && !a.JSON {
			a.Streams.Rehearsed(not.Rehearsed)
		}
		return r.Err
	}
	return a.Ended(ctx, r.Ended)
}

// question names what it is about.
func question(r *batch.Row) string {
	text := questions[r.Request.Kind()].one
	if title := screen.TitleOf(r.Plan); title != "" {
		text = strings.TrimSuffix(strings.TrimSuffix(text, "?"), " it") + " “" + title + "” at " + r.Plan.Address + "?"
	}
	return text
}

func (a *App) agreeToOne(ctx context.Context, r *batch.Row) error {
	review := a.Streams.ReviewOf(r.Plan)
	switch {
	case review == "":
		return nil
	case r.Plan.Free && !a.DryRun:
		a.Streams.Say("\n%s", review)
		return nil
	}
	return a.Agree(ctx, review, question(r), planJSON(r.Plan))
}

// carryAll does what is asked of several sites.
func (a *App) carryAll(ctx context.Context, s *core.Core, b *batch.Batch, o *Selection) error {
	b.Strict = o.Strict || o.Table != ""
	if t, is := s.Book.Ledger.(*team.Team); is && a.Ordering != nil && a.Yes && a.May(ctx, t, trust.Operate) != nil {
		return a.orderUnseen(ctx, s, b)
	}
	if err := b.Look(ctx, s.Desk); err != nil {
		return err
	}
	if err := a.agreeToAll(ctx, b); err != nil {
		return err
	}
	if a.Ordering != nil {
		return a.OrderAll(ctx, s, b, "")
	}
	file, err := a.ResultsFile(o.Results)
	if err != nil {
		return err
	}
	w := a.Streams.Watch(a.World.Now)
	b.Carry(ctx, s.Desk, batch.How{Limits: batch.AtOnce(o.AtOnce), Patient: true,
		Stage: func(r *batch.Row, e job.Event) { w.Stage(r.Name(), e) },
		Ended: func(r *batch.Row) { w.Ended(r.Name(), screen.Says(r.Ended), r.Ended != nil && r.Ended.OK(), r.Err) }})
	w.Close()
	if file != nil {
		err = a.writeResults(file, b)
	}
	return a.unwritten(err, a.allEnded(b))
}

// agreeToAll has everything agreed to that will be done; what needs no yes has no review.
func (a *App) agreeToAll(ctx context.Context, b *batch.Batch) error {
	todo := 0
	for _, r := range b.Rows {
		if r.ToDo() && r.Plan.Shown != nil {
			todo++
		}
	}
	if todo == 0 && !a.DryRun {
		return nil
	}
	err := a.Agree(ctx, a.Streams.ReviewAll(b), fmt.Sprintf(questions[b.Rows[0].Request.Kind()].several, Counted(todo)),
		plansJSON(a.Streams, b))
	if code := worst(b); errors.Is(err, errStop) && code != 0 {
		return Quiet(code)
	}
	return err
}

// Counted is how a question calls so many sites.
func Counted(n int) string {
	if n == 1 {
		return "it"
	}
	return fmt.Sprintf("all %d", n)
}

// worst is the exit code of the worst of several; 0 where none failed.
func worst(b *batch.Batch) (code int) {
	for _, r := range b.Rows {
		switch {
		case r.Err != nil:
			code = max(code, screen.Code(r.Err))
		case r.Ended != nil && !r.Ended.OK():
			code = max(code, int(fault.Failed))
		}
	}
	return code
}

func (a *App) writeResults(file *os.File, b *batch.Batch) error {
	return errors.Join(screen.WriteResults(file, b, a.Streams.ShowPassword), file.Close())
}

// unwritten says that the table of results could not be written, if so, beside how all of them ended: nobody
// may take a table that is not whole for all that came of it.
func (a *App) unwritten(why, ended error) error {
	if why == nil {
		return ended
	}
	a.Streams.Note(screen.Spelled("the results could not be written: " + why.Error() + "; see what came of each with " +
		fault.Call("jobs") + ", and a password with " + fault.Call("reveal", "SITE")))
	if how := (*Silent)(nil); ended == nil || errors.As(ended, &how) && how.Code < int(fault.Incomplete) {
		return Quiet(int(fault.Incomplete))
	}
	return ended
}

// allEnded says how all of them ended; the worst gives the exit code.
func (a *App) allEnded(b *batch.Batch) error {
	if a.JSON {
		if err := a.Streams.WriteJSON(endsJSON(a.Streams, b)); err != nil {
			return err
		}
	} else {
		a.Streams.AllEnded(b)
	}
	if code := worst(b); code != 0 {
		return Quiet(code)
	}
	return nil
}

// Each does something with each of the sites that are named, one after the other. One that fails does not keep
// the others from it. What it prints for programs is one document: that of the one site;
// of several, an array.
func (a *App) Each(ctx context.Context, words []string, do func(word string) (document any, err error)) error {
	if len(words) == 1 {
		document, err := do(words[0])
		if err == nil && a.JSON {
			err = a.Streams.WriteJSON(document)
		}
		return err
	}
	all, code := []any{}, 0
	for _, word := range words {
		document, err := do(word)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			code = max(code, screen.Code(err))
			if document = a.Streams.Failed(err); !a.JSON {
				a.Streams.Fault(err)
			}
		}
		all = append(all, document)
	}
	if a.JSON {
		if err := a.Streams.WriteJSON(all); err != nil {
			return err
		}
	}
	if code != 0 {
		return Quiet(code)
	}
	return nil
}

// Named are the sites of rows.
func Named(rows []*batch.Row) (out []string) {
	for _, r := range rows {
		out = append(out, r.Site)
	}
	return out
}
