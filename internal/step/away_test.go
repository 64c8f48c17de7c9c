package step

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestRulesLeaveLast(t *testing.T) {
	names := []string{"web/a/.htaccess", "web/a/config.php", "web/a/.user.ini", "web/a/lib"}
	assert.Equal(t, []string{"web/a/config.php", "web/a/lib", "web/a/.htaccess", "web/a/.user.ini"}, rulesLast(names))
	assert.Equal(t, "web/a/.htaccess", names[0], "the list itself stays")
}
