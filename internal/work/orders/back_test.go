package orders

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"

	"tivset/internal/fault"
	"tivset/internal/hosting/backoff"
	"tivset/internal/records/queue"
)

// A worker fails an order only for what the site is: what it lacks itself, or what passes by waiting, gives it back.
func TestWhatAWorkerMayConclude(t *testing.T) {
	with := func(code fault.Code) error { return fault.NewAs(code, fault.Usage, "x", "y", "") }
	for _, code := range []fault.Code{fault.NotOfTeam, fault.MayOnlyLook, fault.NotBelieved, fault.LedgerRefused,
		fault.OtherRelease} {
		b := back(with(code), 3, "quillmere")
		if assert.NotNil(t, b, code) {
			assert.Error(t, b.Useless, code)
			assert.Equal(t, "x y", b.Why)
		}
	}
	assert.Equal(t, queue.Lack{Account: "quillmere"}, back(with(fault.UnknownServer), 3, "quillmere").Lacks)
	assert.Equal(t, queue.Lack{Number: 3}, back(with(fault.NoKit), 3, "quillmere").Lacks)
	busy := fault.New(fault.Failed, "another job", "", "")
	busy.Busy = true
	assert.Equal(t, busyFor, back(busy, 3, "").After)
	assert.NotNil(t, back(backoff.Of(errors.New("too many")), 3, ""))
	for _, err := range []error{errors.New("x"), with(fault.SignInRefused), with(fault.NoSuchSite), with(fault.NoAnswer)} {
		assert.Nil(t, back(err, 3, "quillmere"), "%v", err)
	}
}
