package config_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/config"
)

func TestSetConstant(t *testing.T) {
	const awkward = `it's \ "x"`
	const written = `'it\'s \\ "x"'`
	for before, after := range map[string]string{
		`<?php define('A', 'old');`:                       `<?php define('A', ` + written + `);`,
		"<?php\nconst A = __DIR__ . '/x;y', B = 2;":       "<?php\nconst A = " + written + ", B = 2;",
		`<?php define( "A" , f(1, [2, ')']) , true );`:    `<?php define( "A" , ` + written + ` , true );`,
		"<?php // define('A', 1);\nDEFINE('A', 2) ?> A":   "<?php // define('A', 1);\nDEFINE('A', " + written + ") ?> A",
		"<?php $x = \"define('A', 1)\"; define('A', 2); ": "<?php $x = \"define('A', 1)\"; define('A', " + written + "); ",
		"<?php define('AA', 1); class C { const A = 1; }": "<?php define('AA', 1); class C { const A = " + written + "; }",
	} {
		got, err := config.SetConstant(before, "A", awkward)
		require.NoError(t, err, before)
		assert.Equal(t, after, got)
	}
	for _, text := range []string{"", "define('A', 1);", "<?php define('A', 1); define('A', 2);", "<?php define('B', 1);",
		"<?php undefine('A', 1);", "<?php $a->define; $A = 1;"} {
		_, err := config.SetConstant(text, "A", "x")
		assert.ErrorContains(t, err, "not once", text)
	}
}
