package work

import (
	"context"
	"encoding/json"

	"tivset/internal/fault"
	"tivset/internal/records/job"
)

// AgainWith makes a way's Again of one that does what a request says.
func AgainWith[R any](do func(ctx context.Context, d *Service, r R) error) func(context.Context, *Service,
	job.Header) (func(context.Context) (*Done, error), error) {
	return func(_ context.Context, d *Service, h job.Header) (func(context.Context) (*Done, error), error) {
		var r R
		if err := json.Unmarshal(h.Request, &r); err != nil {
			return nil, NotSaid(h.ID, err)
		}
		return func(ctx context.Context) (*Done, error) { return nil, do(ctx, d, r) }, nil
	}
}

// NotSaid is the fault of a journal that does not say what was asked for.
func NotSaid(id string, err error) error {
	return fault.New(fault.Usage, "the journal does not say what was asked for", id,
		"Take it back with: "+fault.Call("undo", id)).Wrap(err)
}
