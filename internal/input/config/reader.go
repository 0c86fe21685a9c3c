package config

import (
	"encoding/json"
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/core/suggest"
	"obiter/internal/input/document"
)

// reader reads members with their Places.
type reader struct{ tree *document.File }

// known refuses members that mean nothing.
func (r reader) known(at string, object map[string]any, names ...string) error {
	var all []error
	for _, name := range r.tree.Names(at) {
		if _, has := object[name]; has && !slices.Contains(names, name) {
			hint := "known here: " + strings.Join(names, ", ")
			if near, ok := suggest.Name(name, names); ok {
				hint = "did you mean " + near + "?"
			}
			all = append(all, r.tree.Fail(instance.Join(at, name), hint, "unknown key %q", name))
		}
	}
	return document.Join(all...)
}

// into reads an object into a struct. Each field is a key: its tag, or its name in lower
// case; those of embedded structs are its own.
func (r reader) into(at string, v, target any) error {
	return r.set(at, v, reflect.ValueOf(target).Elem())
}

// keys are the fields of a struct by their keys, in the order of the struct.
func keys(s reflect.Value, visit func(key string, field reflect.Value)) {
	for i := range s.NumField() {
		f := s.Type().Field(i)
		switch key := f.Tag.Get("key"); {
		case f.Anonymous:
			keys(s.Field(i), visit)
		case key == "":
			visit(strings.ToLower(f.Name), s.Field(i))
		default:
			visit(key, s.Field(i))
		}
	}
}

// set reads a value into what has room for its type; one of any type is left as it is.
func (r reader) set(at string, v any, to reflect.Value) error {
	fail := func(expected, hint string) error {
		return r.tree.Fail(at, hint, "%s is %s%s", instance.Last(at), article(v), expected)
	}
	object, isObject := v.(map[string]any)
	var all []error
	switch to.Kind() {
	case reflect.Interface:
		if v != nil {
			to.Set(reflect.ValueOf(v))
		}
	case reflect.Pointer:
		to.Set(reflect.New(to.Type().Elem()))
		return r.set(at, v, to.Elem())
	case reflect.String:
		text, is := v.(string)
		if !is {
			return fail("; expected text", "write it as text")
		}
		to.SetString(text)
	case reflect.Bool:
		is, ok := v.(bool)
		if !ok {
			return fail(" where true or false is expected", "write "+instance.Last(at)+": true")
		}
		to.SetBool(is)
	case reflect.Slice:
		list, is := v.([]any)
		if !is {
			return fail("; expected a list", "write one entry a line, each after a dash")
		}
		to.Set(reflect.MakeSlice(to.Type(), len(list), len(list)))
		for i, e := range list {
			all = append(all, r.set(fmt.Sprintf("%s/%d", at, i), e, to.Index(i)))
		}
	case reflect.Struct, reflect.Map:
		if !isObject {
			return fail(" where an object is expected", "write names and values below it")
		}
		if to.Kind() == reflect.Map {
			to.Set(reflect.MakeMap(to.Type()))
			for _, name := range instance.Names(object) {
				value := reflect.New(to.Type().Elem()).Elem()
				all = append(all, r.set(instance.Join(at, name), object[name], value))
				to.SetMapIndex(reflect.ValueOf(name), value)
			}
			break
		}
		var names []string
		keys(to, func(key string, field reflect.Value) {
			names = append(names, key)
			if value, has := object[key]; has {
				all = append(all, r.set(instance.Join(at, key), value, field))
			}
		})
		all = append(all, r.known(at, object, names...))
	}
	return document.Join(all...)
}

func article(v any) string {
	switch t := instance.Type(v); t {
	case "null":
		return "empty"
	case "array", "object", "integer":
		return "an " + t
	default:
		return "a " + t
	}
}

// rejection reads the status of one; or is what else may be there.
func (r reader) rejection(at string, v any, or string) (int, error) {
	n, _ := v.(json.Number)
	code, err := n.Int64()
	if err != nil || code < 400 || code > 499 {
		return 0, r.tree.Fail(at, "write a status from 400 to 499"+or, "%s is not a 4xx status", instance.Encode(v))
	}
	return int(code), nil
}

// operationName is a method and a path, as users write operations.
var operationName = regexp.MustCompile(`^[A-Z]+ /\S*$`)

// operation refuses what names none; the message says what it should be like.
func (r reader) operation(at, name, like string) error {
	if !operationName.MatchString(name) {
		return r.tree.Fail(at, "write it as in "+like, "%q is not an operation", name)
	}
	return nil
}

func (r reader) pointer(at, text string) error {
	if _, err := instance.Split(text); err != nil || text == "" {
		return r.tree.Fail(at, "write it as in /crew/0/name", "%q is not a JSON Pointer to a field", text)
	}
	return nil
}
