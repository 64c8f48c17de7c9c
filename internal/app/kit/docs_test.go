package kit

import (
	"encoding/json"
	"flag"
	"maps"
	"os"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write the generated docs anew")

const schemaFile = "../../../docs/kit.schema.json"

// The JSON Schema (draft 2020-12) that editors use is written from the types.
func TestDocsSchema(t *testing.T) {
	s := schema(reflect.TypeFor[Kit]())
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "Tivset kit, format 1"
	properties := s["properties"].(map[string]any)
	properties["kit"] = map[string]any{"const": Version}
	properties["kind"] = map[string]any{"enum": Kinds}
	s["required"] = []string{"kit", "app", "title", "kind", "summary", "licence", "check"}
	text, err := json.MarshalIndent(s, "", "  ")
	require.NoError(t, err)
	if *update {
		require.NoError(t, os.WriteFile(schemaFile, append(text, '\n'), 0o644))
	}
	have, err := os.ReadFile(schemaFile)
	require.NoError(t, err)
	assert.Equal(t, string(text)+"\n", string(have),
		"run: go test ./internal/command ./internal/app/kit -run Docs -update")
}

func schema(t reflect.Type) map[string]any {
	if t == reflect.TypeFor[Text]() {
		text := map[string]any{"type": "string"}
		return map[string]any{"oneOf": []any{text, map[string]any{"type": "object", "additionalProperties": text,
			"propertyNames": map[string]any{"enum": Engines}}}}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return schema(t.Elem())
	case reflect.Slice:
		return map[string]any{"type": "array", "items": schema(t.Elem())}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": schema(t.Elem())}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Int:
		return map[string]any{"type": "integer"}
	case reflect.Struct:
		properties := map[string]any{}
		for i := range t.NumField() {
			key, _, _ := strings.Cut(t.Field(i).Tag.Get("yaml"), ",")
			if t.Field(i).Anonymous {
				maps.Copy(properties, schema(t.Field(i).Type)["properties"].(map[string]any))
			} else if key != "" && key != "-" {
				properties[key] = schema(t.Field(i).Type)
			}
		}
		return map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
	}
	return map[string]any{"type": "string"}
}
