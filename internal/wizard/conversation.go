package wizard

import (
	"context"
	"errors"
	"slices"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/plan"
	"tivset/internal/question"
	"tivset/internal/secret"
	"tivset/internal/site"
)

// Conversation asks for what an install cannot do without and was not told: app, address,
// title, e-mail. Then the review is the hint: all that will be taken stands there in
// numbered lines, and a number changes that line.
//
// It is a machine of its own: an Asker puts the questions, the planner says which
// there are, and nothing here knows a terminal.
type Conversation struct {
	Ask     Asker
	Planner *plan.Planner
	Book    *site.Book
	Maker   secret.Maker
	Account string                                // the account to use, "" for any
	Request *plan.Request                         // what was told so far; filled in
	Save    func(name string, p *plan.Plan) error // writes the answers to a file that is not there yet

	done    map[string]bool // what was answered, or given
	mine    map[string]bool // what was asked here, if ever
	open    map[string]bool // the groups that are unfolded
	trail   []string        // what was asked, in order, for going back
	heading string          // the group that was shown last
	numbers numbers         // of the form's lines
	begun   bool            // an install that was left is gone on with
}

// item is one thing to ask.
type item struct {
	id, group string
	ask       func(context.Context) error
}

// Run asks for what is missing, then shows the review, and asks until the owner
// says yes. When nothing is missing it asks nothing before the review, which
// shows what will be taken. It returns the plan that was agreed to.
func (c *Conversation) Run(ctx context.Context) (*plan.Plan, error) {
	p, err := c.talk(ctx)
	if err != nil {
		c.Keep() // what ends a conversation from outside is no reason to type everything again
	}
	return p, err
}

func (c *Conversation) talk(ctx context.Context) (*plan.Plan, error) {
	var err error
	if c.Request.Proposed, err = c.Planner.Propose(ctx); err != nil {
		return nil, err
	}
	c.mine, c.open = map[string]bool{}, map[string]bool{}
	if err := c.goOnWithWhatWasBegun(ctx); err != nil {
		return nil, err
	}
	c.done = map[string]bool{appItem: c.Request.App != "", addressItem: c.Request.At != ""}
	if !c.complete() {
		if err := c.cannotBegin(ctx); err != nil {
			return nil, err
		}
		c.Ask.Explain("Enter takes what stands in brackets; ? helps, < goes back, Ctrl-C ends and leaves nothing behind.")
		if err := c.goOn(ctx); err != nil {
			return nil, err
		}
	}
	return c.agree(ctx)
}

// cannotBegin says what is wrong with what was given, before anything is asked.
func (c *Conversation) cannotBegin(ctx context.Context) error {
	if _, err := c.Planner.Spots(ctx, c.Account); err != nil {
		return err // without an account there is nothing to ask
	}
	if c.done[appItem] {
		if _, err := c.Book.Catalogue.Find(c.Request.App); err != nil {
			return err
		}
		if err := c.Planner.LookUp(ctx, c.Request.App); err != nil {
			return err
		}
	}
	if c.done[addressItem] {
		_, err := c.Planner.LookAt(ctx, *c.Request)
		return err
	}
	return nil
}

// complete says whether nothing has to be asked, or something given is so wrong
// that the plan has to say it.
func (c *Conversation) complete() bool {
	if c.Request.App == "" || c.Request.At == "" {
		return false
	}
	all, err := c.Planner.Questions(*c.Request)
	return err != nil || !slices.ContainsFunc(all, mustAsk)
}

// mustAsk says whether a question cannot be passed over.
func mustAsk(q question.Asked) bool {
	return q.What != "" || q.Needed && q.Answer == "" || q.ID == answer.Licence && q.Answer != "accept"
}

// goOn asks whatever is not done yet, in order.
func (c *Conversation) goOn(ctx context.Context) error {
	for {
		items, err := c.items()
		if err != nil {
			return err
		}
		i := slices.IndexFunc(items, func(x item) bool { return !c.done[x.id] })
		if i < 0 {
			return nil
		}
		err = c.one(ctx, items[i])
		switch {
		case errors.Is(err, errRewound):
		case errors.Is(err, ErrBack):
			c.back()
		case errors.Is(err, ErrNoAnswer), err != nil && ctx.Err() != nil: // Ctrl-C may come while something is looked at
			return c.left()
		case err != nil:
			return err
		}
	}
}

// one asks one thing.
func (c *Conversation) one(ctx context.Context, x item) error {
	if x.group != c.heading {
		c.heading = x.group
		c.Ask.Heading(x.group)
	}
	if err := x.ask(ctx); err != nil {
		return err
	}
	c.done[x.id], c.mine[x.id] = true, true
	c.trail = append(c.trail, x.id)
	return nil
}

// back has the question before asked again.
func (c *Conversation) back() {
	c.heading = ""
	if len(c.trail) == 0 {
		return
	}
	last := c.trail[len(c.trail)-1]
	c.trail = c.trail[:len(c.trail)-1]
	c.again(last)
	if last == placeItem || last == tryItem { // these follow from the answer before
		c.back()
	}
}

// errRewound is what an item returns when others are to be asked again first.
var errRewound = errors.New("other questions come first")

// rewind has all questions from one on asked again.
func (c *Conversation) rewind(id string) {
	for at := slices.Index(c.trail, id); at >= 0 && len(c.trail) > at; {
		c.again(c.trail[len(c.trail)-1])
		c.trail = c.trail[:len(c.trail)-1]
	}
	c.again(id)
	c.heading = ""
}

// again marks a question, and what follows from its answer, as to be asked.
func (c *Conversation) again(id string) {
	delete(c.done, id)
	switch id {
	case appItem:
		c.forget()
	case addressItem:
		delete(c.done, placeItem)
	}
	if c.mine[answer.Occupied] && (id == addressItem || id == placeItem) {
		c.put(answer.Occupied, "") // what may be set aside at one place may not at another
	}
	if strings.HasPrefix(id, "data.") {
		delete(c.done, tryItem)
	}
}

// forget drops the answers to another app's questions.
func (c *Conversation) forget() {
	c.numbers = numbers{}
	for id := range c.Request.Answers {
		ofAll := id == "title" || id == answer.AdminName || id == answer.AdminEmail || strings.HasPrefix(id, "care.")
		if !ofAll {
			delete(c.Request.Answers, id)
			delete(c.done, id)
			delete(c.mine, id)
		}
	}
	c.Request.Release = ""
}

// The items that are no question of the kit's.
const (
	appItem     = "app"
	addressItem = "at"
	placeItem   = "place"
	releaseItem = "release"
	tryItem     = "try data"
)

// items lists what has to be asked now, as far as the answers lead.
func (c *Conversation) items() ([]item, error) {
	out := []item{{appItem, "What to install", c.chooseApp}, {addressItem, "Where", c.chooseAddress}}
	if !c.done[appItem] || !c.done[addressItem] {
		return out, nil
	}
	out = append(out, item{placeItem, "Where", c.lookAtPlace})
	all, err := c.Planner.Questions(*c.Request)
	if err != nil {
		return nil, err
	}
	for _, group := range answer.Groups[1:] {
		for _, q := range all {
			if q.Group == group && (mustAsk(q) || c.mine[q.ID] || q.ID == answer.DataFrom && !q.Rare && !q.Given) {
				out = append(out, c.itemOf(q))
			}
		}
		if group == "Data" && slices.ContainsFunc(all, func(q question.Asked) bool {
			return q.ID == answer.DataFrom && q.Answer != question.DataNew
		}) {
			out = append(out, item{tryItem, group, c.tryData})
		}
	}
	return out, nil
}

func (c *Conversation) itemOf(q question.Asked) item {
	return item{q.ID, q.Group, func(ctx context.Context) error { return c.question(ctx, q.ID) }}
}

func (c *Conversation) put(id, value string) {
	if c.Request.Answers == nil {
		c.Request.Answers = answer.Given{}
	}
	if value == "" {
		delete(c.Request.Answers, id)
		return
	}
	c.Request.Answers[id] = value
}
