package sites

import (
	"context"

	"tivset/internal/answer/care"
	"tivset/internal/records/ledger"
)

// Entrusting is how the care of sites is to change.
type Entrusting struct {
	Like    string            // a site whose care they get; empty for none
	Decided map[string]string // what is decided besides, by care.Decisions
}

// Entrust changes the care of sites, all of them or, when anything is wrong, none. It
// gives them as they are then.
func (l *List) Entrust(ctx context.Context, words []string, how Entrusting) ([]ledger.Site, error) {
	var like *care.Care
	if how.Like != "" {
		x, err := l.Book.Find(ctx, how.Like)
		if err != nil {
			return nil, err
		}
		like = &x.Care
	}
	var out []ledger.Site
	for _, word := range words {
		x, err := l.Book.Find(ctx, word)
		if err != nil {
			return nil, err
		}
		if like != nil {
			x.Care = *like
		}
		if x.Care, err = x.Care.With(how.Decided); err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	if like == nil && len(how.Decided) == 0 {
		return out, nil
	}
	decided := map[string]care.Care{}
	for _, x := range out {
		decided[x.Address] = x.Care
	}
	if err := l.Book.Ledger.Entrust(ctx, decided); err != nil {
		return nil, err
	}
	for i, x := range out {
		var err error
		if out[i], err = l.Book.Find(ctx, x.Address); err != nil { // with what is due now
			return nil, err
		}
	}
	return out, nil
}
