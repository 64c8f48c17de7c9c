package step

import "context"

// lasting is embedded by steps that have nothing to take back: they change nothing, or what
// an earlier step's undo takes away with its own.
type lasting struct{}

// Undo implements job.Step.
func (lasting) Undo(context.Context) error { return nil }

// Lasts implements job.Lasting.
func (lasting) Lasts() bool { return true }
