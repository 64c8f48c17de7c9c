package setup

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tivset/internal/app/kit"
)

// What a kit can say can be done, and nothing else is.
func TestEveryKindOfStepIsCarriedOut(t *testing.T) {
	for _, k := range kit.StepKinds() {
		assert.Contains(t, kinds, k.Key)
	}
	assert.Len(t, kinds, len(kit.StepKinds()))
	assert.Error(t, (&Runner{}).Do(t.Context(), kit.Step{}))
}
