package reach

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tivset/internal/hosting/database"
)

// What an account file can name can be signed in to.
func TestEveryEngineIsReached(t *testing.T) {
	for _, e := range database.Engines() {
		_, known := engines[e.Name]
		assert.Equal(t, !e.InFiles, known, e.Name)
	}
}
