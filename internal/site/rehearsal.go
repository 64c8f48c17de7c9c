package site

import (
	"path"
	"regexp"
)

// A rehearsal is a copy that is taken away again: at the domain, in a directory whose name
// nobody can guess and nothing leads to.
const rehearsalDir = "rehearsal-"

// RehearsalLetters is of how many random letters and digits the name is.
const RehearsalLetters = 16

var rehearsalForm = regexp.MustCompile(`^` + rehearsalDir + `[a-z0-9]{16}$`)

// RehearsalAt names the directory of a rehearsal by a random token.
func RehearsalAt(token string) string { return rehearsalDir + token }

// IsRehearsal says whether an address is that of a rehearsal.
func IsRehearsal(address string) bool { return rehearsalForm.MatchString(path.Base(address)) }
