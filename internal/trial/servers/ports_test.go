package servers_test

import (
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"

	"tivset/internal/trial/servers"
)

// However many ask at once, each is given a port of its own.
func TestPortsAreGivenOnce(t *testing.T) {
	var seen sync.Map
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for range 50 {
				_, twice := seen.LoadOrStore(servers.FreePort(t), true)
				assert.False(t, twice)
			}
		})
	}
	all.Wait()
}
