package kit

import (
	"encoding/json"
	"maps"
	"reflect"
	"strings"
)

// Schema is the JSON Schema (draft 2020-12) of kit.yaml, for editors.
func Schema() string {
	s := schema(reflect.TypeFor[Kit]())
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "Tivset kit, format 1"
	properties := s["properties"].(map[string]any)
	properties["kit"] = map[string]any{"const": Version}
	properties["kind"] = map[string]any{"enum": Kinds}
	s["required"] = []string{"kit", "app", "title", "kind", "summary", "licence", "check"}
	text, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		panic(err) // the types are the program's own
	}
	return string(text) + "\n"
}

// schema describes a type.
func schema(t reflect.Type) map[string]any {
	if t == reflect.TypeFor[PerEngine]() {
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
