package api

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/span"
)

// misfits adds all that keeps a JSON value from being a t: fields that there are not,
// and values of another type, each by where it is.
func misfits(faults *fault.Faults, at string, value json.RawMessage, t reflect.Type) {
	const most = 20 // as many are of use to anybody
	if value = bytes.TrimSpace(value); len(*faults) >= most || string(value) == "null" {
		return
	}
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch {
	case json.Unmarshal(value, reflect.New(t).Interface()) == nil && t.Kind() != reflect.Struct && t.Kind() != reflect.Slice:
	case t.Kind() == reflect.Struct && value[0] == '{':
		var members map[string]json.RawMessage
		if json.Unmarshal(value, &members) != nil {
			return // said by whoever reads it first
		}
		known := fieldsOf(t)
		for i, name := range known {
			if one, ok := members[name]; ok {
				misfits(faults, strings.TrimPrefix(at+"."+name, "."), one, t.Field(i).Type)
			}
		}
		for _, name := range slices.Sorted(maps.Keys(members)) {
			if len(*faults) < most && !slices.Contains(known, name) {
				faults.Add(strings.TrimPrefix(at+"."+name, "."), "there is no such field", strings.Join(known, ", "))
			}
		}
	case t.Kind() == reflect.Slice && value[0] == '[':
		var items []json.RawMessage
		if json.Unmarshal(value, &items) != nil {
			return
		}
		for i, one := range items {
			misfits(faults, fmt.Sprintf("%s[%d]", at, i), one, t.Elem())
		}
	case t.Kind() == reflect.Map && value[0] == '{':
		var members map[string]json.RawMessage
		if json.Unmarshal(value, &members) != nil {
			return
		}
		for _, name := range slices.Sorted(maps.Keys(members)) {
			misfits(faults, at+"."+name, members[name], t.Elem())
		}
	default:
		faults.Add(at, "it is "+kindOf(value), plainType(t))
	}
}

// kindOf says what a JSON value is.
func kindOf(value json.RawMessage) string {
	switch value[0] {
	case '{':
		return "an object"
	case '[':
		return "a list"
	case '"':
		return "a string"
	case 't', 'f':
		return "true or false"
	}
	return "the number " + shortened(string(value))
}

func shortened(s string) string {
	if len(s) > 20 {
		return s[:20] + "…"
	}
	return s
}

func plainType(t reflect.Type) string {
	if t == reflect.TypeFor[client.Span]() {
		return span.Accepted
	}
	switch t.Kind() {
	case reflect.String:
		return "a string"
	case reflect.Int, reflect.Int64:
		return "a whole number"
	case reflect.Bool:
		return "true or false"
	case reflect.Slice:
		return "a list"
	}
	return "an object"
}

func fieldsOf(t reflect.Type) []string {
	var names []string
	for i := range t.NumField() {
		name, _, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
		names = append(names, name)
	}
	return names
}
