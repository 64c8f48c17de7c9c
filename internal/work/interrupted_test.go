package work_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/testing/chaos"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
)

// Somebody presses Ctrl-C at any moment of an install, over each way to the
// account: it is as it was, every time.
func TestInterruptedAtAnyMoment(t *testing.T) {
	for _, reach := range chaos.Reaches() {
		t.Run(reach, func(t *testing.T) {
			t.Parallel()
			g := chaos.NewGround(t, servers.PHPWeb)
			w := g.World(t, reach)
			begun := time.Now()
			_, err := w.Install(chaos.Request("lockside.localhost/whole", "1.0.0"))
			require.NoError(t, err, "%v", fault.Of(err))
			takes := time.Since(begun)
			before := w.Snapshot()
			const tries = 25
			cut := 0
			for n := 0; n < tries; n += servers.Sweep(4) {
				at := takes * time.Duration(n+1) / (tries + 1)
				ctx, stop := context.WithCancel(ctx)
				time.AfterFunc(at, stop)
				_, err := w.InstallIn(ctx, chaos.Request(fmt.Sprintf("lockside.localhost/cut%d", n), "1.0.0"))
				stop()
				if err == nil { // it was faster, and says so
					before = w.Snapshot()
					continue
				}
				cut++
				assert.NotEqual(t, fault.Incomplete, fault.Of(err).Kind, "after %s: %v", at, err)
				sitetest.Same(t, before, w.Snapshot())
				if t.Failed() {
					t.Logf("after %s of %s: %v", at, takes, err)
					break
				}
			}
			assert.GreaterOrEqual(t, cut, 2, "some were cut off before they had ended")
		})
	}
}
