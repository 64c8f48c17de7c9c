package step_test

import (
	"context"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/step"
	"tivset/internal/testing/sitetest"
)

// A journal that does not say where something was kept is another release's: its undo stops, and does not take what it
// cannot find for something that was never kept.
func TestJournalsThatNameNoDepot(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	h, err := w.Desk.Hold(context.Background(), done.Site.Address)
	require.NoError(t, err)
	defer h.Close()
	tools, err := w.Desk.Begin(h.In, h.Of)
	require.NoError(t, err)
	for _, undo := range []interface{ Undo(context.Context) error }{&step.KeepData{Tools: tools},
		&step.KeepFiles{Tools: tools},
		&step.BackUp{Tools: tools}} {
		require.NoError(t, json.Unmarshal([]byte(`{"file": "/state/kept/x.sql.zst", "here": true, "in_account": false}`), undo))
		err := undo.Undo(context.Background())
		require.Error(t, err, "%T", undo)
		assert.Equal(t, fault.OtherRelease, fault.CodeOf(err), "%T: %v", undo, err)
	}
}
