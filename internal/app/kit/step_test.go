package kit_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"tivset/internal/app/kit"
)

// Every kind of step is known by its fields, says what it does, and whether
// strangers could get in its way.
func TestKindsOfSteps(t *testing.T) {
	steps := map[string]kit.Step{
		"sql":     {SQL: &kit.SQLFile{File: "schema.sql"}},
		"run-sql": {RunSQL: "SELECT 1"},
		"request": {Request: &kit.Request{Get: "setup"}},
		"command": {Command: []string{"php", "setup"}},
		"remove":  {Remove: []string{"install"}},
		"write":   {Write: &kit.Written{File: "data/first.txt", Text: "{title}"}},
	}
	words := map[string]bool{}
	for _, k := range kit.StepKinds() {
		s, known := steps[k.Key]
		assert.True(t, known, "a sample of the kind %s", k.Key)
		assert.Equal(t, k.Key, s.Kind().Key)
		assert.Equal(t, k.Key == "request", s.Kind().Pages, k.Key)
		assert.Equal(t, k.Key == "sql" || k.Key == "run-sql", s.Kind().Data, k.Key)
		assert.Equal(t, k.Pages, kit.ByForms([]kit.Step{{RunSQL: "SELECT 2"}, s}), k.Key)
		assert.False(t, words[s.Label()], "%s has words of its own", k.Key)
		words[s.Label()] = true
	}
	assert.Len(t, steps, len(kit.StepKinds()))
	assert.NotEqual(t, steps["request"].Label(), kit.Step{Request: &kit.Request{Post: "setup"}}.Label())
	none := kit.Step{With: map[string]string{"a": "b"}}
	assert.Empty(t, none.Kind().Key)
	assert.Equal(t, "Do nothing", none.Label())
}

func TestPatienceWithACommand(t *testing.T) {
	for text, want := range map[string]time.Duration{"": 5 * time.Minute, "90s": 90 * time.Second, "2m": 2 * time.Minute,
		"soon": 5 * time.Minute} {
		assert.Equal(t, want, kit.Step{Time: text}.Patience(), text)
	}
}
