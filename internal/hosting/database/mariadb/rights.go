package mariadb

import (
	"context"
	"slices"
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
	lacking := lackingOf(rightsOn(grants, "*.*"), []string{"CREATE", "DROP", "CREATE USER", "GRANT OPTION"})
	if len(lacking) > 0 {
		return fault.New(fault.Failed, "the database user lacks a right: "+strings.Join(lacking, ", "), s.login.User+" on "+
			s.login.Server,
			"Ask the host for a user who may create databases and users, and grant rights on them.")
	}
	return nil
}

// rightsOn gathers the rights that grants give on a target, such as *.* or a
// database's (GRANT syntax of the MariaDB manual).
func rightsOn(grants []string, targets ...string) map[string]bool {
	has := map[string]bool{}
	for _, g := range grants {
		rights, rest, _ := strings.Cut(g, " ON ")
		target, _, _ := strings.Cut(rest, " TO ")
		if !slices.Contains(targets, target) {
			continue
		}
		for _, r := range strings.Split(strings.TrimPrefix(strings.ToUpper(rights), "GRANT "), ",") {
			has[strings.TrimSpace(r)] = true
		}
		has["GRANT OPTION"] = has["GRANT OPTION"] || strings.Contains(strings.ToUpper(rest), "WITH GRANT OPTION")
	}
	return has
}

func lackingOf(has map[string]bool, needs []string) []string {
	var lacking []string
	for _, need := range needs {
		if !has[need] && (!has["ALL PRIVILEGES"] || need == "GRANT OPTION") {
			lacking = append(lacking, need)
		}
	}
	return lacking
}

// Lacking implements database.Session.
func (s *Session) Lacking(ctx context.Context) ([]string, error) {
	grants, err := column(ctx, s.pool, "SHOW GRANTS")
	if err != nil {
		return nil, explain(err, s.login)
	}
	name := s.login.Database
	has := rightsOn(grants, "*.*", quoteName(name)+".*", quotePattern(name)+".*")
	return lackingOf(has, []string{"SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "ALTER", "INDEX", "DROP"}), nil
}
