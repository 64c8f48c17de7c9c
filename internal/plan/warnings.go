package plan

import (
	"context"

	"tivset/internal/answer"
	"tivset/internal/secret"
	"tivset/internal/site"
)

// warnings gathers what the owner should know before saying yes, of the place,
// the reach and the answers.
func (pl *Planner) warnings(ctx context.Context, d *decided, s *site.Site) ([]string, error) {
	out, err := pl.traps(ctx, s.In, s.At)
	if err != nil {
		return nil, err
	}
	if !s.In.Line().Encrypted {
		out = append(out, "this account is reached over plain FTP: everybody on the way can read the password and all "+
			"that is sent. Ask the host for SFTP, or try ftps:// in files:")
	}
	for _, e := range s.Kit.Extras {
		if v := s.Answers[e.Answer()]; e.Warning != "" && v != "no" && v != answer.None {
			out = append(out, e.Warning)
		}
	}
	if s.Answers["admin.name-risk"] == "accept" {
		if why := secret.Guessable(s.Admin.Name, d.asking.Seen()...); why != "" {
			out = append(out, "the admin's sign-in name: "+why)
		}
	}
	return out, nil
}
