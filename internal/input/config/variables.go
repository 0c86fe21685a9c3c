package config

import (
	"maps"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/net/http/httpguts"

	"obiter/internal/core/instance"
	"obiter/internal/input/document"
)

// Reference matches ${NAME} in a text.
var Reference = regexp.MustCompile(`\$\{([A-Za-z_][A-Za-z0-9_]*)\}`)

// Fresh is the name of a value that is a new one each time; inBody is where it may stand.
const Fresh = "fresh"

var inBody = regexp.MustCompile(`^/(?:fixtures|operations)/[^/]+/body/`)

// inHeader is where texts become headers.
var inHeader = regexp.MustCompile(`^/(?:headers|credentials|lesser|header)/|^/(?:operations|fixtures)/[^/]+/(?:credentials|header)/`)

// anyFresh stands for a part of a text that is a new one each time, where a text is
// needed before there is a request.
const anyFresh = "k7q2m9x4"

// Renewed is the text that ${fresh} is part of, with a part in its place.
func Renewed(text, part string) string { return strings.ReplaceAll(text, "${"+Fresh+"}", part) }

// renewing takes the fields whose value is ${fresh} out of a body, and gives the rules
// that make new values there and in texts that it is part of.
func renewing(body any) (any, []Rule) {
	var out []Rule
	instance.Walk(body, func(at string, v any) bool {
		text, is := v.(string)
		switch {
		case !is || !strings.Contains(text, "${"+Fresh+"}"):
		case text == "${"+Fresh+"}":
			body, _ = instance.Remove(body, at)
			out = append(out, Rule{Unique: at, Fresh: true})
		default:
			out = append(out, Rule{Unique: at, Fresh: true, Around: text})
		}
		return true
	})
	return body, out
}

// References lists the names that texts in a value refer to.
func References(v any) []string {
	var out []string
	instance.Walk(v, func(_ string, inner any) bool {
		if s, ok := inner.(string); ok {
			for _, m := range Reference.FindAllStringSubmatch(s, -1) {
				if m[1] != Fresh {
					out = append(out, m[1])
				}
			}
		}
		return true
	})
	return out
}

var parameter = regexp.MustCompile(`\{([^{}/]+)\}`)

// PathParameters lists the path parameters of an operation.
func PathParameters(operation string) []string {
	var out []string
	for _, m := range parameter.FindAllStringSubmatch(operation, -1) {
		out = append(out, m[1])
	}
	return out
}

// references holds every ${NAME} against the fixtures and the environment.
func (c *Config) references(r reader, top map[string]any) error {
	kept := map[string]bool{}
	for _, f := range c.Fixtures {
		for name := range f.Keep {
			kept[name] = true
		}
	}
	var all []error
	instance.Walk(any(top), func(at string, v any) bool {
		s, _ := v.(string)
		for _, m := range Reference.FindAllStringSubmatch(s, -1) {
			switch _, set := c.Env(m[1]); {
			case m[1] == Fresh && !inBody.MatchString(at):
				all = append(all, r.tree.Fail(at, "write it into the body of a fixture or an operation", "${fresh} is a new value for a field of a body"))
			case set && inHeader.MatchString(at) && !httpguts.ValidHeaderFieldValue(c.ExpandText("${"+m[1]+"}", nil)):
				all = append(all, r.tree.Fail(at, "set it anew: export "+m[1]+"=…", "the value of ${%s} holds a line break or another control character, which no header can carry", m[1]))
			case set, m[1] == Fresh:
			case at == "/at":
				all = append(all, r.tree.Fail(at, "set it: export "+m[1]+"=…", "${%s} is not set in the environment", m[1]))
			case !kept[m[1]]:
				all = append(all, r.tree.Fail(at, "set it: export "+m[1]+"=…, or keep it from a fixture", "${%s} is neither kept by a fixture nor set in the environment", m[1]))
			}
		}
		return true
	})
	return document.Join(all...)
}

// Resolved is a value without the members whose texts refer to a value that is
// neither given nor in the environment: what a fixture would keep, before it was made.
func (c *Config) Resolved(v any, values map[string]any) any {
	object, ok := v.(map[string]any)
	if !ok {
		return v
	}
	out := map[string]any{}
	for name, m := range object {
		if _, nested := m.(map[string]any); nested {
			m = c.Resolved(m, values)
		} else if slices.ContainsFunc(References(m), func(ref string) bool { return !c.resolves(ref, values) }) {
			continue
		}
		out[name] = m
	}
	return out
}

// Resolves reports whether each ${NAME} of a text has a value.
func (c *Config) Resolves(text string, values map[string]any) bool {
	return !slices.ContainsFunc(References(text), func(ref string) bool { return !c.resolves(ref, values) })
}

func (c *Config) resolves(name string, values map[string]any) bool {
	_, given := values[name]
	_, set := c.Env(name)
	return given || set
}

// Known are the values of the names that a text refers to, as far as there are any.
func (c *Config) Known(text string, values map[string]any) map[string]any {
	out := map[string]any{}
	for _, name := range References(text) {
		if v, kept := values[name]; kept {
			out[name] = v
		} else if v, set := c.Env(name); set {
			out[name] = v
		}
	}
	return out
}

// Expand is a value with each ${NAME} in its texts replaced. A text that is
// nothing but a reference takes the value's type.
func (c *Config) Expand(v any, values map[string]any) any {
	switch v := v.(type) {
	case string:
		if m := Reference.FindStringSubmatch(v); m != nil && m[0] == v {
			if value, ok := values[m[1]]; ok {
				return value
			}
		}
		return c.ExpandText(v, values)
	case map[string]any:
		out := maps.Clone(v)
		for k, m := range v {
			out[k] = c.Expand(m, values)
		}
		return out
	case []any:
		out := slices.Clone(v)
		for i, e := range v {
			out[i] = c.Expand(e, values)
		}
		return out
	}
	return v
}

// ExpandText is a text with each ${NAME} replaced.
func (c *Config) ExpandText(s string, values map[string]any) string {
	return Reference.ReplaceAllStringFunc(s, func(ref string) string {
		name := ref[2 : len(ref)-1]
		if name == Fresh {
			return anyFresh
		}
		if v, ok := values[name]; ok {
			if text, is := v.(string); is {
				return text
			}
			return string(instance.Encode(v))
		}
		value, _ := c.Env(name)
		return value
	})
}
