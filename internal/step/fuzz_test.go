package step_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
)

// FuzzDecode reads steps as somebody wrote them into a journal: whatever they name, reading them touches nothing.
func FuzzDecode(f *testing.F) {
	f.Add("unpack", `{"stage":".tivset/stage/20261125-080000-abcd","top":"web"}`)
	f.Add("remove-old", `{"site":{"folder":"web/lockside/journal"},"paths":["web/chandlery"]}`)
	f.Add("set-timers", `{"folder":"\u0000/../x","lines":[1]}`)
	f.Fuzz(func(t *testing.T, kind, fields string) {
		g := newGround(t)
		before := g.all()
		_, err := g.tools(g.site).Decode()(kind, json.RawMessage(fields))
		if err == nil {
			assert.True(t, json.Valid([]byte(fields)))
		}
		assert.Equal(t, before, g.all())
	})
}
