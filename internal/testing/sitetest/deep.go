package sitetest

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
)

// Deep writes all that a value holds, through pointers and with fields that
// nobody else sees, so that a later Deep shows what was written to it.
// Functions, and what the skipped types hold, are left out.
func Deep(v any, skip ...reflect.Type) string {
	d := &deep{skip: skip, seen: map[uintptr]bool{}}
	d.write(reflect.ValueOf(v), "")
	return d.out.String()
}

type deep struct {
	out  strings.Builder
	skip []reflect.Type
	seen map[uintptr]bool // pointers that were followed
}

func (d *deep) write(v reflect.Value, at string) {
	if !v.IsValid() || slices.Contains(d.skip, v.Type()) {
		return
	}
	switch v.Kind() {
	case reflect.Pointer:
		if v.IsNil() || d.seen[v.Pointer()] {
			fmt.Fprintf(&d.out, "%s: %v\n", at, v.IsNil())
			return
		}
		d.seen[v.Pointer()] = true
		d.write(v.Elem(), at)
	case reflect.Interface:
		d.write(v.Elem(), at)
	case reflect.Struct:
		for i := range v.NumField() {
			d.write(v.Field(i), at+"."+v.Type().Field(i).Name)
		}
	case reflect.Slice, reflect.Array:
		d.list(v, at)
	case reflect.Map:
		fmt.Fprintf(&d.out, "%s: %d entries\n", at, v.Len())
		keys := v.MapKeys()
		slices.SortFunc(keys, func(a, b reflect.Value) int { return strings.Compare(fmt.Sprint(a), fmt.Sprint(b)) })
		for _, k := range keys {
			d.write(v.MapIndex(k), fmt.Sprintf("%s[%v]", at, k))
		}
	case reflect.Func, reflect.Chan, reflect.UnsafePointer:
	default:
		fmt.Fprintf(&d.out, "%s: %v\n", at, v)
	}
}

func (d *deep) list(v reflect.Value, at string) {
	if v.Type().Elem().Kind() == reflect.Uint8 {
		fmt.Fprintf(&d.out, "%s: %x\n", at, v)
		return
	}
	fmt.Fprintf(&d.out, "%s: %d of them\n", at, v.Len())
	for i := range v.Len() {
		d.write(v.Index(i), fmt.Sprintf("%s[%d]", at, i))
	}
}
