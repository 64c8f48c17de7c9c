package fault_test

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"tivset/internal/fault"
)

// A fault has its own code, or that of the fault that caused it, or the one of its kind.
func TestCodes(t *testing.T) {
	refused := fault.NewAs(fault.SignInRefused, fault.Failed, "the server refused", "", "")
	for want, err := range map[fault.Code]error{
		"":                  nil,
		fault.SignInRefused: fmt.Errorf("sign in: %w", refused),
		fault.NoAnswer:      fault.NewAs(fault.NoAnswer, fault.Failed, "x", "", "").Wrap(refused),
		fault.FailedToDo:    errors.New("anything"),
		fault.WrongCall:     fault.New(fault.Usage, "x", "", ""),
		fault.AtWork:        &fault.Error{Kind: fault.NeedsConfirmation, Busy: true},
		fault.WrongAnswers:  fault.Join("x", "", []fault.Problem{{ID: "title", What: fault.Needed}}),
		fault.SomethingLeft: fault.New(fault.Incomplete, "x", "", "").Wrap(errors.New("y")),
	} {
		assert.Equal(t, want, fault.CodeOf(err), "%v", err)
	}
	assert.Equal(t, fault.SignInRefused, fault.CodeOf(fault.New(fault.Failed, "step: it failed", "", "").Wrap(refused)))
}
