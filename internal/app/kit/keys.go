package kit

import (
	"reflect"
	"strings"
)

// keysOf lists the keys that each part of a kit knows, by the part's type, so
// that an unknown one can be answered with those there are.
var keysOf = listKeys(reflect.TypeFor[Kit](), map[string][]string{})

// newKeys are keys that have another name now, by the old one.
var newKeys = map[string]string{"asks": "questions", "ask": "text", "form": "hint", "disk": "space", "shared": "mixed",
	"writable": "written"}

func listKeys(t reflect.Type, into map[string][]string) map[string][]string {
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice || t.Kind() == reflect.Map {
		t = t.Elem()
	}
	if t.Kind() != reflect.Struct {
		return into
	}
	if _, done := into[t.Name()]; done {
		return into
	}
	into[t.Name()] = nil
	for i := range t.NumField() {
		field := t.Field(i)
		if field.Anonymous { // its keys are the part's own
			listKeys(field.Type, into)
			into[t.Name()] = append(into[t.Name()], into[field.Type.Name()]...)
			continue
		}
		if key, _, _ := strings.Cut(field.Tag.Get("yaml"), ","); key != "" && key != "-" {
			into[t.Name()] = append(into[t.Name()], key)
			listKeys(field.Type, into)
		}
	}
	return into
}
