package config

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"obiter/internal/instance"
)

// Parameters are values of parameters by place (path, query, header, cookie) and
// name. Texts may hold ${NAME}; null leaves an optional parameter out.
type Parameters map[string]map[string]any

// places are where parameters are.
var places = []string{"path", "query", "header", "cookie"}

// parameters reads the values that an operation's or a fixture's parameters have.
func (r reader) parameters(at string, object map[string]any) (Parameters, error) {
	var out Parameters
	for _, in := range places {
		v, has := object[in]
		if !has {
			continue
		}
		values, err := r.object(instance.Join(at, in), v)
		if err != nil {
			return nil, err
		}
		for name, v := range values {
			if v == nil && in == "path" {
				return nil, r.tree.Fail(instance.Join(at, in, name), "write a value, or ${NAME}", "a path parameter cannot be left out")
			}
		}
		if out == nil {
			out = Parameters{}
		}
		out[in] = values
	}
	return out, nil
}

// references lists the names that the values refer to.
func (p Parameters) references() []string {
	var out []string
	for _, in := range places {
		for _, name := range instance.Names(p[in]) {
			out = append(out, references(p[in][name])...)
		}
	}
	return out
}

// source is where the value of a path parameter comes from.
type source struct {
	text any    // what the file says for the operation; nil: nothing
	kept string // the name of the value that a fixture keeps
	made bool   // by a request that makes a record
}

// bare is a path in which all parameters look alike: {}.
func bare(path string) string {
	open := strings.IndexByte(path, '{')
	if open < 0 {
		return path
	}
	shut := strings.IndexByte(path[open:], '}')
	if shut < 0 {
		return path
	}
	return path[:open] + "{}" + bare(path[open+shut+1:])
}

// collection is the path that a record lies in, whatever its own parameters are
// called: /quays/{}/bollards for {bollard} of /quays/{quay}/bollards/{bollard}.
func collection(path, parameter string) string {
	before, after, found := strings.Cut(path, "/{"+parameter+"}")
	if !found || after != "" && after[0] != '/' && after[0] != '#' {
		return path // it is only a part of a segment
	}
	return bare(before)
}

// makes is the collection that a fixture's record is made in; false where it
// makes none, but reads one.
func (f Fixture) makes() (string, bool) {
	method, path, _ := strings.Cut(f.Send, " ")
	if method == "PUT" && strings.HasSuffix(path, "}") {
		path = path[:strings.LastIndexByte(path, '/')]
	}
	return bare(path), method == "POST" || method == "PUT"
}

// source tells where the value of a path parameter of an operation comes from: what
// the file says for it, else a fixture of the collection that the parameter is of:
// the value that it keeps under that name, or the only one that it keeps.
func (c *Config) source(operation, parameter string, own Parameters) (source, bool) {
	for _, p := range []Parameters{own, c.Operations[operation].Parameters} {
		if v, has := p["path"][parameter]; has {
			return source{text: v}, true
		}
	}
	_, path, _ := strings.Cut(operation, " ")
	of := collection(path, parameter)
	var near source
	for _, f := range c.Fixtures {
		at, made := f.makes()
		if _, keeps := f.Keep[parameter]; keeps && at != of && last(at) == last(of) {
			near.kept = parameter // probably the same records at another address; not enough to change them
		}
		if at != of {
			continue
		}
		if _, keeps := f.Keep[parameter]; keeps {
			return source{kept: parameter, made: made}, true
		}
		if key := c.Key(f); key != "" && made { // the one value that its record is known by
			return source{kept: key, made: true}, true
		}
	}
	return near, near.kept != ""
}

// last is the last segment of a path.
func last(path string) string { return path[strings.LastIndexByte(path, '/')+1:] }

// Key is the name under which a fixture keeps what its record is known by: the only
// value that it keeps, but for those that credentials are made of; "" where there are
// several.
func (c *Config) Key(f Fixture) string {
	names := slices.DeleteFunc(instance.Names(anyOf(f.Keep)), c.IsCredential)
	if len(names) != 1 {
		return ""
	}
	return names[0]
}

func anyOf(keep map[string]string) map[string]any {
	out := map[string]any{}
	for name := range keep {
		out[name] = nil
	}
	return out
}

// sources lists the names of kept values, and of variables, that an operation's
// parameters take.
func (c *Config) sources(operation string, own Parameters) []string {
	out := append(own.references(), c.Operations[operation].Parameters.references()...)
	for _, name := range parameters(operation) {
		if s, ok := c.source(operation, name, own); ok && s.kept != "" {
			out = append(out, s.kept)
		}
	}
	return out
}

// Given are the values that an operation's parameters have, by place and name: a
// null leaves the parameter out. own comes before what the file says of the
// operation.
func (c *Config) Given(operation string, own Parameters, values map[string]any) Parameters {
	out := Parameters{}
	set := func(in, name string, v any) {
		if out[in] == nil {
			out[in] = map[string]any{}
		}
		out[in][name] = v
	}
	for _, p := range []Parameters{c.Operations[operation].Parameters, own} {
		for in, named := range p {
			for name, v := range named {
				if text, is := v.(string); is && !c.Resolves(text, values) {
					continue // a value that is not there yet
				}
				set(in, name, c.Expand(v, values))
			}
		}
	}
	for _, name := range parameters(operation) {
		if s, ok := c.source(operation, name, own); ok && s.kept != "" {
			if v, has := values[s.kept]; has {
				set("path", name, v)
			}
		}
	}
	return out
}

// undoing are the parameters of the request that takes a fixture's record away: what
// the file says, and for the record itself what the fixture keeps of it.
func (c *Config) undoing(f Fixture) Parameters {
	own := Parameters{}
	for in, named := range f.UndoParameters {
		own[in] = maps.Clone(named)
	}
	if own["path"] == nil {
		own["path"] = map[string]any{}
	}
	at, made := f.makes()
	_, path, _ := strings.Cut(f.Undo, " ")
	for _, name := range parameters(f.Undo) {
		_, said := own["path"][name]
		_, found := c.source(f.Undo, name, own)
		if key := c.Key(f); !said && !found && made && collection(path, name) == at && key != "" {
			own["path"][name] = "${" + key + "}"
		}
	}
	return own
}

// Undoing are the values of those parameters.
func (c *Config) Undoing(f Fixture, values map[string]any) Parameters {
	return c.Given(f.Undo, c.undoing(f), values)
}

// Unaddressed says why it is not known which record a fixture's undo would take away,
// given what is kept; "" where it is.
func (c *Config) Unaddressed(f Fixture, values map[string]any) string {
	own := c.undoing(f)
	given := c.Given(f.Undo, own, values)
	for _, name := range parameters(f.Undo) {
		_, known := c.source(f.Undo, name, own)
		if _, has := given["path"][name]; has {
			continue
		}
		if known {
			return "the answer that made it does not tell its address"
		}
		return fmt.Sprintf("nothing says which {%s} %s takes; write undo: { send: %s, path: { %s: … } }", name, f.Undo, f.Undo, name)
	}
	return ""
}

// Slots are the places of a request that hold kept values.
type Slots struct {
	Path map[string]string // by parameter: a text with ${NAME}
	Body map[string]string // by JSON Pointer: the same
}

// Slots tells which places of an operation's requests hold values that are kept.
func (c *Config) Slots(operation string) Slots {
	s := c.slots(operation, nil)
	instance.Walk(c.Operations[operation].Body, func(at string, v any) bool {
		if text, is := v.(string); is && reference.MatchString(text) {
			s.Body[at] = text
		}
		return true
	})
	return s
}

// UndoSlots are those of the request that takes a fixture's record away.
func (c *Config) UndoSlots(f Fixture) Slots { return c.slots(f.Undo, c.undoing(f)) }

func (c *Config) slots(operation string, own Parameters) Slots {
	s := Slots{Path: map[string]string{}, Body: map[string]string{}}
	for _, name := range parameters(operation) {
		from, _ := c.source(operation, name, own)
		if text, is := from.text.(string); is {
			s.Path[name] = text
		} else if from.kept != "" {
			s.Path[name] = "${" + from.kept + "}"
		}
	}
	return s
}

// Foreign tells why an operation may change or remove what Obiter did not make; ""
// where it does not, or is allowed to.
func (c *Config) Foreign(operation string) string {
	method, path, _ := strings.Cut(operation, " ")
	if !slices.Contains([]string{"PUT", "PATCH", "DELETE"}, method) || c.Operations[operation].Allow {
		return ""
	}
	allow := fmt.Sprintf("operations: { %s: { allow: true } } in obiter.yaml", operation)
	names := parameters(operation)
	if len(names) == 0 {
		return "it changes what is there for everyone; if it may: " + allow
	}
	for _, name := range names {
		if s, ok := c.source(operation, name, nil); !ok || s.text == nil && !s.made {
			at := strings.ReplaceAll(collection(path, name), "{}", "{…}")
			return fmt.Sprintf("a %s is sent only to records that Obiter made, and no fixture makes {%s} by POST %s; or name one (path:), or allow it: %s", method, name, at, allow)
		}
	}
	return ""
}
