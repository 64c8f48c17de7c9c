// Package check looks whether a site works, whatever brought it there: as a
// visitor, as its admin, as a stranger, and as somebody who compares its files
// with the release and sees to what goes wrong with the years.
//
// It changes nothing at the site; an Examiner notes in the ledger what it saw.
// It knows no plan, no step and no way.
package check
