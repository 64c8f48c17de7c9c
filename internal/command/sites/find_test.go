package sites

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tivset/internal/work/adopt"
)

// What is typed means apps of the list by number or by name, and never one that cannot be
// taken charge of.
func TestChoose(t *testing.T) {
	seen := &adopt.Seen{All: []adopt.Sighting{{Address: "lockside.localhost/forum", App: "willowbench"},
		{Address: "lockside.localhost/journal", App: "inkreach", Recorded: true},
		{Address: "lockside.localhost/old", App: "inkreach", Problem: "its release is none that the kit knows"},
		{Address: "lockside.localhost/class-2", App: "slateroom"}}}
	can := []adopt.Sighting{seen.All[0], seen.All[3]}
	for text, want := range map[string][]adopt.Sighting{"none": nil, "all": can, "1": can[:1], "1, 4": can,
		"forum": can[:1], "4 1": {can[1], can[0]}, "class-2": can[1:]} {
		chosen, what, _ := choose(text, seen, can)
		assert.Empty(t, what, text)
		assert.Equal(t, want, chosen, text)
	}
	for text, want := range map[string]string{"2": "looked after already", "3": "cannot be managed",
		"9": "none of them", "1,boat": "none of them", "lockside.localhost": "none of them"} {
		_, what, _ := choose(text, seen, can)
		assert.Contains(t, what, want, text)
	}
}
