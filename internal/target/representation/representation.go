// Package representation reads what a service shows of its records: ids, objects in envelopes,
// lists with all there is or with some of it (RFC 9110, section 3.2).
package representation

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
)

// FirstListed is the id of the first record of a list, which an answer is or has as its
// first list.
func FirstListed(a exchange.Answer) (any, bool) {
	v, err := instance.Decode(a.Body)
	if err != nil {
		return nil, false
	}
	list, _ := v.([]any)
	object, _ := v.(map[string]any)
	for _, name := range instance.Names(object) {
		if inner, is := object[name].([]any); is {
			list = inner
			break
		}
	}
	if len(list) == 0 {
		return nil, false
	}
	for _, at := range []string{"", "/id", "/uuid", "/name", "/key", "/slug", "/code"} {
		if v, ok := instance.Scalar(instance.Get(list[0], at)); ok {
			return v, true
		}
	}
	return nil, false
}

// FirstOnly is an answer with the first of each list alone, where the request had a list of records:
// of these the first stands for all.
func FirstOnly(answer, sent any) any {
	if _, several := sent.([]any); !several {
		return answer
	}
	switch v := answer.(type) {
	case []any:
		return v[:min(len(v), 1)]
	case map[string]any:
		out := maps.Clone(v)
		for name, inner := range v {
			if list, is := inner.([]any); is {
				out[name] = list[:min(len(list), 1)]
			}
		}
		return out
	}
	return answer
}

// LeadsInto reports whether a Location is of a record in a collection; in any, where that is "".
func LeadsInto(location, collection string) bool {
	if collection == "" {
		return true
	}
	u, err := url.Parse(location)
	if err != nil {
		return false
	}
	have, want := strings.Split(strings.Trim(u.EscapedPath(), "/"), "/"), strings.Split(strings.Trim(collection+"/{}", "/"), "/")
	if len(have) < len(want) {
		return false
	}
	have = have[len(have)-len(want):]
	for i := range want {
		if want[i] != "{}" && want[i] != have[i] {
			return false
		}
	}
	return true
}

// IDMember is the member of an object that is called by one of the names, else as ids usually are.
func IDMember(object map[string]any, names []string) (id any, found bool) {
	for _, name := range append(slices.Clone(names), "id", "uuid") {
		if id, found = Member(object, name); found {
			return id, true
		}
	}
	return nil, false
}

// Member is a scalar member of an object by its name, whatever its letter case and what parts
// its words.
func Member(object map[string]any, name string) (any, bool) {
	if v, has := object[name]; has {
		return instance.Scalar(v, name != "")
	}
	for _, have := range instance.Names(object) {
		if name != "" && instance.Level(have) == instance.Level(name) {
			return instance.Scalar(object[have], true)
		}
	}
	return nil, false
}

// Envelope is an object within an answer, and where it is.
type Envelope struct {
	At string
	Of map[string]any
}

// Enveloped are the objects that an answer may mean: itself, what it has as its only element,
// and what it has as a member, such as data, in turn.
func Enveloped(v any) []Envelope {
	var out []Envelope
	var enter func(at string, v any, depth int)
	enter = func(at string, v any, depth int) {
		switch v := v.(type) {
		case map[string]any:
			out = append(out, Envelope{at, v})
			if depth == 0 {
				return
			}
			for _, name := range instance.Names(v) {
				if inner := v[name]; instance.Type(inner) == "object" || instance.Type(inner) == "array" {
					enter(instance.Join(at, name), inner, depth-1)
				}
			}
		case []any:
			if len(v) == 1 && depth > 0 {
				enter(at+"/0", v[0], depth-1)
			}
		}
	}
	enter("", v, 3)
	slices.SortStableFunc(out, func(a, b Envelope) int { return strings.Count(a.At, "/") - strings.Count(b.At, "/") })
	return out
}

// IDIn is the member of an object that has an id for its value.
func IDIn(object map[string]any, id string) (string, bool) {
	for _, name := range instance.Names(object) {
		if v, is := instance.Scalar(object[name], true); is && fmt.Sprint(v) == id {
			return name, true
		}
	}
	return "", false
}
