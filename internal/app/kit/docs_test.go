package kit

import (
	"flag"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write the generated docs anew")

const schemaFile = "../../../docs/kit.schema.json"

// The JSON Schema (draft 2020-12) that editors use is written from the types.
func TestDocsSchema(t *testing.T) {
	text := Schema()
	if *update {
		require.NoError(t, os.WriteFile(schemaFile, []byte(text), 0o644))
	}
	have, err := os.ReadFile(schemaFile)
	require.NoError(t, err)
	assert.Equal(t, text, string(have),
		"run: go test ./internal/command ./internal/app/kit -run Docs -update")
}
