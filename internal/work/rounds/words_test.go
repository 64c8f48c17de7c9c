package rounds

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What is told begins as a sentence does, whatever stands first.
func TestWords(t *testing.T) {
	for detail, want := range map[string]string{"the update": "The update.", "“a” is b.": "“a” is b.", "über": "Über.",
		"PHP 8 is needed": "PHP 8 is needed.", "": "."} {
		assert.Equal(t, want, passage{What: Trouble, Detail: detail}.words())
	}
	assert.Equal(t, "Updated: from 1 to 2.", passage{What: Updated, Detail: "from 1 to 2"}.words())
	assert.Equal(t, "No.\n  Do this.", passage{What: Trouble, Detail: "no", Remedy: "Do this."}.words())
}
