package step_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
)

// A journal is read as a stranger's, wherever it comes from: what it names to be taken away is the job's own, and
// neither a site nor a document root; what is refused is not begun.
func TestJournalsOfStrangers(t *testing.T) {
	g := newGround(t)
	before := g.all()
	decode := g.tools(g.site).Decode()
	good := ".tivset/stage/" + jobID
	_, err := decode("unpack", json.RawMessage(`{"stage":"`+good+`","top":".tivset/stage"}`))
	require.NoError(t, err)
	for _, place := range []string{"web", "web/lockside", "web/lockside/journal", ".", "", "..", "../" + jobID,
		"/" + jobID,
		".tivset", ".tivset/stage", ".tivset/backups", ".tivset/stage/20261125-080000-zzzz", "web/lockside/" + jobID[:19]} {
		quoted, err := json.Marshal(place)
		require.NoError(t, err)
		at := string(quoted)
		for kind, fields := range map[string]string{
			"unpack":         `{"stage":` + at + `}`,
			"unpack-backup":  `{"stage":` + at + `}`,
			"tidy":           `{"stage":` + at + `,"marker":".tivset/busy/0123456789abcdef.json"}`,
			"claim":          `{"marker":` + at + `}`,
			"unclaim":        `{"marker":` + at + `}`,
			"drop-files":     `{"names":[` + at + `]}`,
			"set-aside":      `{"from":"web/lockside","to":` + at + `}`,
			"cover-pages":    `{"clean":` + at + `}`,
			"uncover-pages":  `{"clean":` + at + `,"guarded":"` + good + `"}`,
			"prove-domain":   `{"folder":"web/lockside","name":` + at + `}`,
			"await-settings": `{"file":` + at + `}`,
			"set-timers":     `{"folder":` + at + `}`,
		} {
			_, err := decode(kind, json.RawMessage(fields))
			require.Error(t, err, "%s %s", kind, fields)
			assert.Equal(t, fault.NotBelieved, fault.CodeOf(err), "%s %s", kind, fields)
		}
	}
	for _, fields := range []string{`{"site":{"folder":"web/lockside/journal"},"paths":["web/chandlery"]}`,
		`{"site":{"folder":"web"},"paths":["web/lockside"]}`, `{"site":{"folder":"."},"paths":["."]}`,
		`{"site":{"folder":"web/lockside/journal"},"paths":["web/lockside/journal/../../x"]}`} {
		_, err := decode("remove-old", json.RawMessage(fields))
		assert.Error(t, err, fields)
	}
	for _, folder := range []string{"web", "web/lockside", ".", "../x"} {
		_, err := decode("make-folder", json.RawMessage(`{"folder":"`+folder+`"}`))
		assert.Error(t, err, folder)
	}
	assert.Equal(t, before, g.all())
}
