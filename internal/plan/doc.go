// Package plan works out what an install is about to do, as one value: the
// review prints it, --dry-run prints it as JSON, and the install carries it out,
// so none of them can say another thing than the others.
//
// It looks at the account and changes nothing. Its functions return parts (what
// is at the place, the database, the archive, needs, secrets); the Planner joins
// them once, and from then on nobody writes to the plan: what is found out while
// it is carried out goes to the job's result.
//
// It never imports steps or ways.
package plan
