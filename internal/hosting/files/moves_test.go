package files_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tivset/internal/hosting/files"
)

func TestWithin(t *testing.T) {
	assert.True(t, files.Within("web/a/b", "web/a"))
	assert.True(t, files.Within("web/a", "web/a"))
	assert.False(t, files.Within("web/ab", "web/a"))
}

func TestOthers(t *testing.T) {
	o := files.Others{"web/a/inner", "web/b"}
	for name, has := range map[string]bool{"web/a": false, "web/a/inner": true, "web/a/inner/x": true, "web/b/x": true,
		"web/bb": false} {
		assert.Equal(t, has, o.Has(name), name)
	}
	for name, below := range map[string]bool{"web/a": true, "web/a/inner": false, "web": true, "web/c": false} {
		assert.Equal(t, below, o.Below(name), name)
	}
}
