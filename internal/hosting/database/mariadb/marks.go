package mariadb

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"github.com/go-sql-driver/mysql"
)

// Marks implements database.Marker, by CHECKSUM TABLE (MariaDB manual), which
// reads all rows on the server.
func (s *Session) Marks(ctx context.Context, only func(string) bool) (map[string]string, error) {
	d := &dump{ctx: ctx, session: s, only: only}
	tables, err := d.columns("SHOW FULL TABLES", 2)
	if err != nil {
		return nil, explain(err, s.login)
	}
	out := map[string]string{}
	for _, t := range tables {
		if !d.wants(t[0]) {
			continue
		}
		kind, sum := "TABLE ", ""
		if t[1] == "VIEW" {
			kind = "VIEW "
		} else {
			rows, err := d.columns("CHECKSUM TABLE "+quoteName(t[0]), 2)
			var refused *mysql.MySQLError
			if errors.As(err, &refused) || err == nil && len(rows) == 0 {
				return nil, fmt.Errorf("checksum of %s: %w", t[0], errors.ErrUnsupported)
			}
			if err != nil {
				return nil, explain(err, s.login)
			}
			sum = rows[0][1]
		}
		made, err := d.columns("SHOW CREATE "+kind+quoteName(t[0]), 2)
		if err != nil || len(made) == 0 {
			return nil, explain(err, s.login)
		}
		out[t[0]] = sum + " " + made[0][1]
	}
	rest, err := d.rest()
	if err != nil {
		return nil, explain(err, s.login)
	}
	out[""] = rest
	for name, text := range out {
		sum := sha256.Sum256([]byte(text))
		out[name] = hex.EncodeToString(sum[:])
	}
	return out, nil
}

// rest is what a dump holds beside tables and views.
func (d *dump) rest() (string, error) {
	var out strings.Builder
	triggers, err := d.columns("SHOW TRIGGERS", 5)
	if err != nil {
		return "", err
	}
	for _, t := range triggers {
		if d.wants(t[2]) {
			out.WriteString(strings.Join(t, "\x00"))
		}
	}
	for _, kind := range []string{"PROCEDURE", "FUNCTION", "EVENT"} {
		names, err := d.listed(kind)
		if err != nil {
			return "", err
		}
		for _, name := range names {
			made, err := d.columns("SHOW CREATE "+kind+" "+quoteName(name), 4)
			if err != nil {
				return "", err
			}
			for _, row := range made {
				out.WriteString(strings.Join(row, "\x00"))
			}
		}
	}
	return out.String(), nil
}
