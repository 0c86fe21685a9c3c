package config

import (
	"fmt"
	"maps"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/net/http/httpguts"

	"obiter/internal/core/instance"
	"obiter/internal/input/document"
)

var reference = regexp.MustCompile(`\$\{([A-Za-z_][A-Za-z0-9_]*)\}`)

// fresh is the name of a value that is a new one each time; inBody is where it may stand.
const fresh = "fresh"

var inBody = regexp.MustCompile(`^/(?:fixtures|operations)/[^/]+/body/`)

// inHeader is where texts become headers.
var inHeader = regexp.MustCompile(`^/(?:headers|credentials|lesser|header)/|^/(?:operations|fixtures)/[^/]+/(?:credentials|header)/`)

// anyFresh stands for a part of a text that is a new one each time, where a text is
// needed before there is a request.
const anyFresh = "k7q2m9x4"

// Renewed is the text that ${fresh} is part of, with a part in its place.
func Renewed(text, part string) string { return strings.ReplaceAll(text, "${"+fresh+"}", part) }

// renewing takes the fields whose value is ${fresh} out of a body, and gives the rules
// that make new values there and in texts that it is part of.
func renewing(body any) (any, []Rule) {
	var out []Rule
	instance.Walk(body, func(at string, v any) bool {
		text, is := v.(string)
		switch {
		case !is || !strings.Contains(text, "${"+fresh+"}"):
		case text == "${"+fresh+"}":
			body, _ = instance.Remove(body, at)
			out = append(out, Rule{Unique: at, Fresh: true})
		default:
			out = append(out, Rule{Unique: at, Fresh: true, Around: text})
		}
		return true
	})
	return body, out
}

// references lists the names that texts in a value refer to.
func references(v any) []string {
	var out []string
	instance.Walk(v, func(_ string, inner any) bool {
		if s, ok := inner.(string); ok {
			for _, m := range reference.FindAllStringSubmatch(s, -1) {
				if m[1] != fresh {
					out = append(out, m[1])
				}
			}
		}
		return true
	})
	return out
}

var parameter = regexp.MustCompile(`\{([^{}/]+)\}`)

// parameters lists the path parameters of an operation.
func parameters(operation string) []string {
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
		for _, m := range reference.FindAllStringSubmatch(s, -1) {
			switch _, set := c.env(m[1]); {
			case m[1] == fresh && !inBody.MatchString(at):
				all = append(all, r.tree.Fail(at, "write it into the body of a fixture or an operation", "${fresh} is a new value for a field of a body"))
			case set && inHeader.MatchString(at) && !httpguts.ValidHeaderFieldValue(c.ExpandText("${"+m[1]+"}", nil)):
				all = append(all, r.tree.Fail(at, "set it anew: export "+m[1]+"=…", "the value of ${%s} holds a line break or another control character, which no header can carry", m[1]))
			case set, m[1] == fresh:
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
		} else if slices.ContainsFunc(references(m), func(ref string) bool { return !c.resolves(ref, values) }) {
			continue
		}
		out[name] = m
	}
	return out
}

// Resolves reports whether each ${NAME} of a text has a value.
func (c *Config) Resolves(text string, values map[string]any) bool {
	return !slices.ContainsFunc(references(text), func(ref string) bool { return !c.resolves(ref, values) })
}

func (c *Config) resolves(name string, values map[string]any) bool {
	_, given := values[name]
	_, set := c.env(name)
	return given || set
}

// Known are the values of the names that a text refers to, as far as there are any.
func (c *Config) Known(text string, values map[string]any) map[string]any {
	out := map[string]any{}
	for _, name := range references(text) {
		if v, kept := values[name]; kept {
			out[name] = v
		} else if v, set := c.env(name); set {
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
		if m := reference.FindStringSubmatch(v); m != nil && m[0] == v {
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
	return reference.ReplaceAllStringFunc(s, func(ref string) string {
		name := ref[2 : len(ref)-1]
		if name == fresh {
			return anyFresh
		}
		if v, ok := values[name]; ok {
			if text, is := v.(string); is {
				return text
			}
			return string(instance.Encode(v))
		}
		value, _ := c.env(name)
		return value
	})
}

// Everywhere are the texts that go into every request: headers and credentials.
func (c *Config) Everywhere() []string {
	if c.texts == nil {
		return c.everyText()
	}
	return c.texts
}

func (c *Config) everyText() []string {
	out := []string{}
	for _, h := range c.Headers {
		out = append(out, h[1])
	}
	for _, credentials := range []map[string]string{c.Credentials, c.Lesser} {
		for _, name := range slices.Sorted(maps.Keys(credentials)) {
			out = append(out, credentials[name])
		}
	}
	for _, operation := range slices.Sorted(maps.Keys(c.Operations)) {
		own := c.Operations[operation].Credentials
		for _, name := range slices.Sorted(maps.Keys(own)) {
			out = append(out, own[name])
		}
	}
	return out
}

// Secrets are values that may not be written anywhere, by name: of environment
// variables that the file refers to, and of fixtures where headers or credentials
// are made of them.
func (c *Config) Secrets(values map[string]any) map[string]string {
	out := map[string]string{}
	said, _ := c.tree.Value.(map[string]any)
	said = maps.Clone(said)
	delete(said, "at") // where the service is, is told
	if at, is := c.tree.Value.(map[string]any); is {
		maps.Copy(out, c.inAddress(at["at"]))
	}
	for _, ref := range references(said) {
		if v, set := c.env(ref); set {
			if _, kept := values[ref]; !kept {
				out[ref] = v
			}
		}
	}
	for name, v := range values {
		if c.IsCredential(name) {
			out[name] = fmt.Sprint(v)
		}
	}
	return out
}

// inAddress are the values of the environment in the service's address, but for what names its
// host.
func (c *Config) inAddress(at any) map[string]string {
	out := map[string]string{}
	u, err := url.Parse(c.At)
	for _, ref := range references(at) {
		v, set := c.env(ref)
		if !set || err != nil || v == "" || strings.Contains(u.Scheme+"://"+u.Host, v) {
			continue
		}
		if whole, err := url.Parse(v); err == nil && whole.Host == u.Host && whole.Host != "" { // the address is the value
			if password, has := whole.User.Password(); has {
				out[ref] = password
			}
			continue
		}
		out[ref] = v
	}
	return out
}

// Kept are the values that are no credentials.
func (c *Config) Kept(values map[string]any) map[string]any {
	out := maps.Clone(values)
	maps.DeleteFunc(out, func(name string, _ any) bool { return c.IsCredential(name) })
	return out
}

// IsCredential reports whether headers or credentials are made of a value.
func (c *Config) IsCredential(name string) bool { return c.authority[name] }

// seeCredentials notes what headers and credentials are made of: each
// operation and fixture wants to know.
func (c *Config) seeCredentials() {
	c.authority = map[string]bool{}
	c.texts = slices.Clip(c.everyText())
	for _, text := range c.texts {
		for _, name := range references(text) {
			c.authority[name] = true
		}
	}
}
