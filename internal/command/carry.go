package command

import (
	"context"
	"errors"
	"fmt"
	"os"

	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/job"
	"tivset/internal/screen"
	"tivset/internal/work/batch"
	"tivset/internal/work/requests"
)

// questions are what is asked before something is done, of one site and of several.
var questions = map[string]struct{ one, several string }{
	"install": {"Install?", "Install %s?"}, "update": {"Update?", "Update %s?"}, "restore": {"Restore?", "Restore %s?"},
	"copy": {"Copy?", "Copy %s?"}, "move": {"Move?", "Move %s?"}, "remove": {"Take it out?", "Take %s out?"},
}

// carry looks at all that is asked for, has it agreed to, and does it, or puts it on the queue. Again, which may be
// nil, mends the request for one site that could not be looked at.
func (a *app) carry(ctx context.Context, s *core.Core, b *batch.Batch, o *selection,
	again func(err error) (batch.Request, error)) error {
	if o.atOnce < 1 {
		return fault.New(fault.Usage, "at least one site has to be worked on at once", "--at-once",
			"Give a number from 1 on.")
	}
	defer b.Close()
	one := len(b.Rows) == 1 && o.table == ""
	switch {
	case one && a.ordering != nil:
		return a.orderOne(ctx, s, b)
	case one:
		return a.carryOne(ctx, s, b, again)
	}
	return a.carryAll(ctx, s, b, o)
}

// carryOne does what is asked of one site.
func (a *app) carryOne(ctx context.Context, s *core.Core, b *batch.Batch,
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
		a.streams.Say("")
	}
	if r.Err != nil {
		if not := (*requests.NotRehearsed)(nil); errors.As(r.Err, &not) && !a.json {
			a.streams.Rehearsed(not.Rehearsed)
		}
		return r.Err
	}
	return a.ended(ctx, r.Ended)
}

func (a *app) agreeToOne(ctx context.Context, r *batch.Row) error {
	review := a.streams.ReviewOf(r.Plan)
	switch {
	case review == "":
		return nil
	case r.Plan.Free && !a.dryRun:
		a.streams.Say("\n%s", review)
		return nil
	}
	return a.agree(ctx, review, questions[r.Request.Kind()].one, planJSON(r.Plan))
}

// carryAll does what is asked of several sites.
func (a *app) carryAll(ctx context.Context, s *core.Core, b *batch.Batch, o *selection) error {
	b.Strict = o.strict || o.table != ""
	if err := b.Look(ctx, s.Desk); err != nil {
		return err
	}
	if err := a.agreeToAll(ctx, b); err != nil {
		return err
	}
	if a.ordering != nil {
		return a.orderAll(ctx, s, b, "")
	}
	file, err := a.resultsFile(o.results)
	if err != nil {
		return err
	}
	w := a.streams.Watch(a.world.Now)
	b.Carry(ctx, s.Desk, batch.How{Limits: batch.AtOnce(o.atOnce), Patient: true,
		Stage: func(r *batch.Row, e job.Event) { w.Stage(r.Name(), e) },
		Ended: func(r *batch.Row) { w.Ended(r.Name(), screen.Says(r.Ended), r.Err) }})
	w.Close()
	if file != nil {
		err = a.writeResults(file, b)
	}
	return a.unwritten(err, a.allEnded(b))
}

// agreeToAll has everything agreed to that will be done; what needs no yes has no review.
func (a *app) agreeToAll(ctx context.Context, b *batch.Batch) error {
	todo := 0
	for _, r := range b.Rows {
		if r.ToDo() && r.Plan.Shown != nil {
			todo++
		}
	}
	if todo == 0 && !a.dryRun {
		return nil
	}
	err := a.agree(ctx, a.streams.ReviewAll(b), fmt.Sprintf(questions[b.Rows[0].Request.Kind()].several, counted(todo)),
		plansJSON(a.streams, b))
	if code := worst(b); errors.Is(err, errStop) && code != 0 {
		return &silent{code}
	}
	return err
}

// counted is how a question calls so many sites.
func counted(n int) string {
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

func (a *app) writeResults(file *os.File, b *batch.Batch) error {
	return errors.Join(screen.WriteResults(file, b, a.streams.ShowPassword), file.Close())
}

// unwritten says that the table of results could not be written, if so, beside how all of them ended: nobody
// may take a table that is not whole for all that came of it.
func (a *app) unwritten(why, ended error) error {
	if why == nil {
		return ended
	}
	a.streams.Note(screen.Spelled("the results could not be written: " + why.Error() + "; see what came of each with " +
		fault.Call("jobs") + ", and a password with " + fault.Call("reveal", "SITE")))
	if how := (*silent)(nil); ended == nil || errors.As(ended, &how) && how.code < int(fault.Incomplete) {
		return &silent{int(fault.Incomplete)}
	}
	return ended
}

// allEnded says how all of them ended; the worst gives the exit code.
func (a *app) allEnded(b *batch.Batch) error {
	if a.json {
		if err := a.streams.WriteJSON(endsJSON(a.streams, b)); err != nil {
			return err
		}
	} else {
		a.streams.AllEnded(b)
	}
	if code := worst(b); code != 0 {
		return &silent{code}
	}
	return nil
}

// each does something with each of the sites that are named, one after the other. One that fails does not keep
// the others from it. What it prints for programs is one document: that of the one site;
// of several, an array.
func (a *app) each(ctx context.Context, words []string, do func(word string) (document any, err error)) error {
	if len(words) == 1 {
		document, err := do(words[0])
		if err == nil && a.json {
			err = a.streams.WriteJSON(document)
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
			if document = a.streams.Failed(err); !a.json {
				a.streams.Fault(err)
			}
		}
		all = append(all, document)
	}
	if a.json {
		if err := a.streams.WriteJSON(all); err != nil {
			return err
		}
	}
	if code != 0 {
		return &silent{code}
	}
	return nil
}

// named are the sites of rows.
func named(rows []*batch.Row) (out []string) {
	for _, r := range rows {
		out = append(out, r.Site)
	}
	return out
}
