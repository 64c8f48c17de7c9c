package cli

import (
	"context"

	"tivset/internal/core"
	"tivset/internal/records/team"
	"tivset/internal/records/trust"
)

// Seen notes in the team's log, where there is a team, what somebody is about to see or open of a site, such as its
// passwords. What cannot be noted is not shown.
func Seen(ctx context.Context, s *core.Core, address, note string) error {
	t, is := s.Book.Ledger.(*team.Team)
	if !is {
		return nil
	}
	return t.Did(ctx, trust.What{Kind: trust.OfSeen, Key: address, About: address, Note: note})
}
