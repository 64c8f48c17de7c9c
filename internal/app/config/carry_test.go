package config_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/config"
	"tivset/internal/app/fill"
)

func TestCarry(t *testing.T) {
	php, err := config.For("php")
	require.NoError(t, err)
	const template = "<?php\n// made {now | lower}\ndefine('DB', {data.name});\ndefine('URL', {url});\ndefine('HASH', " +
		"{admin.password | bcrypt});\n$x = [{title}, {subtitle}];\n"
	before := fill.Values{"now": "1", "data.name": "quill_a", "url": "http://a/", "admin.password": "old", "title": "it's",
		"subtitle": "x"}
	after := fill.Values{"now": "2", "data.name": "quill_b", "url": "http://b/", "admin.password": "old", "title": "it's",
		"subtitle": "x"}
	current := "<?php\n// made 1\n// by hand: define('DB', no)\r\ndefine('DB', 'quill_a');\r\n  $mine = 1;\ndefine( " +
		"'URL', 'http://a/');\ndefine('HASH', '$2a$10$abc');\n$x = ['it\\'s', 'x'];\n"
	_, err = config.Carry(php, template, current, before, after)
	assert.ErrorContains(t, err, "define('URL', {url});", "two blanks: found neither as written nor by its beginning")
	current = "<?php\n// made 1\n// by hand: define('DB', no)\r\ndefine('DB', 'quill_a');\r\n  $mine = " +
		"1;\ndefine('URL', $mine . 'http://a/');\ndefine('HASH', '$2a$10$abc');\n$x = ['it\\'s', 'x'];\n"
	got, err := config.Carry(php, template, current, before, after)
	require.NoError(t, err)
	assert.Equal(t, "<?php\n// made 1\n// by hand: define('DB', no)\r\ndefine('DB', 'quill_b');\r\n  $mine = "+
		"1;\ndefine('URL', 'http://b/');\ndefine('HASH', '$2a$10$abc');\n$x = ['it\\'s', 'x'];\n", got)

	same, err := config.Carry(php, template, "anything", before, before)
	require.NoError(t, err)
	assert.Equal(t, "anything", same)
	_, err = config.Carry(php, template, current+"define('DB', 'quill_a');\n", before, after)
	assert.ErrorContains(t, err, "DB", "two lines that could be meant")
	after["admin.password"] = "new"
	got, err = config.Carry(php, template, current, before, after)
	require.NoError(t, err)
	assert.NotContains(t, got, "$2a$10$abc")
}
