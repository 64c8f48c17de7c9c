// Package step has one journaled step a kind: what jobs consist of, whichever
// way they go.
//
// A step is data: its exported fields are in the journal before its Do begins,
// and its Undo needs nothing else. Do may use more (a function that lists what is
// to move, the site, the plan's archive), for a Do is never run again from the
// journal. What finishes a settled job is, so a finisher holds no function and
// passes the same suite: encode, decode, finish twice, finish after each cut.
//
// The package knows no plan in the making and no way: it never imports package
// work. No field of a step holds a secret; it names entries of the vault.
package step
