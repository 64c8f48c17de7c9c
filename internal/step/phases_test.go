package step_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tivset/internal/step"
)

// Every kind of step is of a stage, in which owners see it.
func TestEveryKindIsOfAStage(t *testing.T) {
	for _, kind := range step.Kinds() {
		assert.NotEmpty(t, step.StageOf(kind), kind)
	}
}
