package mariadb

import (
	"context"
	"strings"

	"tivset/internal/fault"
)

// MayCreate implements database.Server. It reads the user's own grants, of
// which every server tells.
func (s *Server) MayCreate(ctx context.Context) error {
	grants, err := s.list(ctx, "SHOW GRANTS")
	if err != nil {
		return err
	}
	has := map[string]bool{}
	for _, g := range grants {
		rights, rest, _ := strings.Cut(strings.ToUpper(g), " ON ")
		if !strings.HasPrefix(rest, "*.*") {
			continue
		}
		for _, r := range strings.Split(strings.TrimPrefix(rights, "GRANT "), ",") {
			has[strings.TrimSpace(r)] = true
		}
		has["GRANT OPTION"] = has["GRANT OPTION"] || strings.Contains(rest, "WITH GRANT OPTION")
	}
	var lacking []string
	for _, need := range []string{"CREATE", "DROP", "CREATE USER", "GRANT OPTION"} {
		if !has[need] && (!has["ALL PRIVILEGES"] || need == "GRANT OPTION") {
			lacking = append(lacking, need)
		}
	}
	if len(lacking) > 0 {
		return fault.New(fault.Failed, "the database user lacks a right: "+strings.Join(lacking, ", "), s.login.User+" on "+s.login.Server,
			"Ask the host for a user who may create databases and users, and grant rights on them.")
	}
	return nil
}
