package rounds

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"tivset/internal/answer/care"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/records/outbox"
)

// intent is what a round is about to do at a site. It is noted before, so that the round after one that was killed
// between doing it and saying so finds out what was done, and says it.
type intent struct {
	Site string    `json:"site"`
	What string    `json:"what"`
	From string    `json:"from"` // the release that the site has
	To   string    `json:"to"`   // the one that is due
	At   time.Time `json:"at"`
	Of   time.Time `json:"of"` // when the round began: its record has that moment
}

// intentID names that of a site in the outbox.
func (o *round) intentID(address string) string {
	sum := sha256.Sum256([]byte(address))
	return o.run + "-does-" + hex.EncodeToString(sum[:4])
}

// intending notes what is done next at a site. A check needs no note: what it finds is found again.
func (o *round) intending(x ledger.Site, what string) error {
	if what == Checked {
		return nil
	}
	now := o.desk.Now().UTC()
	draft, err := json.Marshal(intent{x.Address, what, x.Release, x.Due, now, o.begun.UTC()})
	if err != nil {
		return err
	}
	if err := o.box.Put(outbox.Letter{ID: o.intentID(x.Address), Begun: now, Draft: draft, Run: o.run}); err != nil {
		return fault.New(fault.Failed, "what is about to be done could not be noted, and is not done", "",
			"Make room for the files of this program, and run it again: "+fault.Call("maintain")).Wrap(err)
	}
	return nil
}

// intended drops the note: what came of it is said.
func (o *round) intended(x ledger.Site) error { return o.box.Drop(o.intentID(x.Address)) }

// undoLeft ends the job in whose middle a round was killed: nobody else would, and the site may be closed. One that was
// through is brought to its end instead.
func (o *round) undoLeft(ctx context.Context, i intent) error {
	// The site's care wanted it; what is put back over is kept first.
	d := *o.desk
	d.Agree = func(context.Context, string) error { return nil }
	all, err := d.Unfinished(ctx)
	if err != nil {
		return err
	}
	for _, j := range all {
		if j.Address != i.Site || j.Outcome != ledger.CutOff || j.Started.Before(i.At) || j.Who != o.desk.Who ||
			j.What != map[string]string{Updated: "update", BackedUp: "backup"}[i.What] {
			continue // somebody else's
		}
		if _, err := d.Undo(ctx, j.ID); err != nil {
			return err
		}
	}
	return nil
}

// wasIntended says what a round did that was killed before it said so.
func (o *round) wasIntended(ctx context.Context, one outbox.Letter) error {
	var i intent
	if err := json.Unmarshal(one.Draft, &i); err != nil {
		return errors.Join(fmt.Errorf("what a maintenance run left cannot be read: %w", err), o.box.Drop(one.ID))
	}
	x, err := o.desk.Book.Find(ctx, i.Site)
	if err != nil {
		return o.box.Drop(one.ID) // it is on record no more: whoever took it off knows
	}
	o.left = append(o.left, one.ID)
	if err := o.undoLeft(ctx, i); err != nil {
		o.troubled(x, "left", err)
		return nil
	}
	if x, err = o.desk.Book.Find(ctx, i.Site); err != nil {
		return err
	}
	l := Line{Site: x, What: i.What}
	switch {
	case i.What == Updated && i.To != "" && x.Release == i.To && i.From != i.To:
		l.Detail, l.of = fmt.Sprintf("from %s to %s, and checked", i.From, i.To), care.Change
	case i.What == BackedUp && x.LastBackupAt != nil && !x.LastBackupAt.Before(i.At):
		l.Detail, l.of = "by a run that was ended in the middle", care.Routine
	default:
		return nil
	}
	recorded, err := o.recorded(ctx, i)
	switch {
	case err != nil:
		return err
	case !recorded:
		o.say(l)
	case !o.written[one.Run+i.Site+i.What]:
		o.tell(ctx, l)
	}
	return nil
}

// recorded says whether the round that intended something has said in its record that it was done.
func (o *round) recorded(ctx context.Context, i intent) (bool, error) {
	all, err := o.desk.Book.Ledger.Rounds(ctx)
	for _, r := range all {
		if r.Who == o.desk.Who && r.At.Equal(i.Of) {
			return slices.ContainsFunc(r.Lines, func(l ledger.RoundLine) bool {
				return l.Address == i.Site && l.What == i.What
			}), err
		}
	}
	return false, err
}
