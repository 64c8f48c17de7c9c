// Package trust says what may be believed of records that lie where others can write.
//
// A team is a charter: who is of it, by their keys, and what each may do, signed by somebody whom the charter before
// calls an admin. All that somebody acts on later is an entry of one log, each signed and bound to the one before.
// Whoever follows that log knows the last word on every record, whatever a database says in its rows.
//
// It computes, and keeps one file: a machine's own signing key. Where the log lies is another room's.
package trust

// Role is what somebody may do.
type Role string

// Roles, each with what those before it may do too.
const (
	Look    Role = "look"    // see sites and jobs
	Request Role = "request" // have workers do something
	Operate Role = "operate" // everything with sites and accounts
	Admin   Role = "admin"   // say who is of the team
)

// Roles are all of them, the least first.
var Roles = []Role{Look, Request, Operate, Admin}

// May says whether somebody with this role may do what another role may.
func (r Role) May(least Role) bool {
	has, needs := -1, len(Roles)
	for n, one := range Roles {
		if one == r {
			has = n
		}
		if one == least {
			needs = n
		}
	}
	return has >= needs
}

// Known says whether there is such a role.
func (r Role) Known() bool { return r.May(Look) }
