package config

import (
	"encoding/json"
	"fmt"
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

func (r reader) text(at string, v any) (string, error) {
	s, ok := v.(string)
	if !ok {
		return "", r.tree.Fail(at, "write it as text", "%s is %s; expected text", instance.Last(at), article(v))
	}
	return s, nil
}

// texts reads a list of them.
func (r reader) texts(at string, v any) ([]string, error) {
	list, err := r.list(at, v)
	out, all := []string{}, []error{err}
	for i, e := range list {
		text, err := r.text(fmt.Sprintf("%s/%d", at, i), e)
		out, all = append(out, text), append(all, err)
	}
	return out, document.Join(all...)
}

func (r reader) object(at string, v any) (map[string]any, error) {
	m, ok := v.(map[string]any)
	if !ok {
		return nil, r.tree.Fail(at, "write names and values below it", "%s is %s where an object is expected", instance.Last(at), article(v))
	}
	return m, nil
}

func (r reader) list(at string, v any) ([]any, error) {
	l, ok := v.([]any)
	if !ok {
		return nil, r.tree.Fail(at, "write one entry a line, each after a dash", "%s is %s; expected a list", instance.Last(at), article(v))
	}
	return l, nil
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

// operation reads the name of one; the message says what it should be like.
func (r reader) operation(at string, v any, like string) (string, error) {
	s, err := r.text(at, v)
	if err == nil && !operationName.MatchString(s) {
		err = r.tree.Fail(at, "write it as in "+like, "%q is not an operation", s)
	}
	return s, err
}

func (r reader) pointer(at, text string) error {
	if _, err := instance.Split(text); err != nil || text == "" {
		return r.tree.Fail(at, "write it as in /crew/0/name", "%q is not a JSON Pointer to a field", text)
	}
	return nil
}
