package sources

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/config"
)

// source is where the value of a path parameter comes from.
type source struct {
	text  any    // what the file says; nil: nothing
	kept  string // the name of the value that a fixture keeps
	named bool   // the file says it for this very operation
	made  bool   // by a request that makes a record
	by    string // the name of the fixture that keeps it
	near  bool   // of a collection of the same name at another address
}

// written is the value as the file would write it; nil where there is none.
func (s source) written() any {
	if s.kept != "" {
		return "${" + s.kept + "}"
	}
	return s.text
}

// own reports whether the record may be changed for it.
func (s source) own() bool { return s.named || s.made }

// bare is a path in which all parameters look alike: {}.
func bare(path string) string {
	if strings.IndexByte(path, '{') < 0 {
		return path
	}
	var b strings.Builder
	b.Grow(len(path))
	for {
		open := strings.IndexByte(path, '{')
		shut := strings.IndexByte(path[max(open, 0):], '}')
		if open < 0 || shut < 0 {
			b.WriteString(path)
			return b.String()
		}
		b.WriteString(path[:open])
		b.WriteString("{}")
		path = path[open+shut+1:]
	}
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
func makes(f config.Fixture) (string, bool) {
	method, path, _ := strings.Cut(f.Send, " ")
	if f.Within != "" {
		return f.Within, true
	}
	if method == "PUT" && strings.HasSuffix(path, "}") {
		path = path[:strings.LastIndexByte(path, '/')]
	}
	return bare(path), method == "POST" || method == "PUT"
}

// collectionRef is the collection that a fixture makes records in or reads, in the forms in
// which it is compared.
type collectionRef struct {
	at, last, record string
	made             bool
}

func (c *Sources) collectionOf(f config.Fixture) collectionRef {
	key := f.Send + " " + f.Within
	if have, known := c.stations[key]; known {
		return have
	}
	at, made := makes(f)
	s := collectionRef{at, last(at), instance.Level(singular(at)), made}
	c.stations[key] = s
	return s
}

// source tells where the value of a path parameter of an operation comes from: what
// the file says for it there; a fixture that makes records of the collection that the
// parameter is of, by the value that it keeps under that name, or the only one that it
// keeps; what the file says for all of the name; a fixture that reads the collection.
func (c *Sources) source(operation, parameter string, own config.Parameters) (source, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if own != nil {
		return c.look(operation, parameter, own)
	}
	key := [2]string{operation, parameter}
	if f, known := c.found[key]; known {
		return f.source, f.ok
	}
	out, ok := c.look(operation, parameter, nil)
	if c.found != nil {
		c.found[key] = found{out, ok}
	}
	return out, ok
}

// severalNames is what a fixture keeps for one of several parameters that name a record of the
// collection at a path; false where they do not.
func severalNames(f config.Fixture, of, at, parameter string) (kept string, is bool) {
	if !strings.HasPrefix(of, at) || strings.Trim(of[len(at):], "/{}") != "" {
		return parameter, false
	}
	if _, keeps := f.Keep[parameter]; keeps {
		return parameter, true
	}
	kept = ownName(f, parameter)
	_, is = f.Keep[kept]
	return kept, is
}

// look looks for the source of a value.
func (c *Sources) look(operation, parameter string, own config.Parameters) (source, bool) {
	for _, p := range []config.Parameters{own, c.Operations[operation].Parameters} {
		if v, has := p["path"][parameter]; has {
			return source{text: v, named: true}, true
		}
	}
	_, path, _ := strings.Cut(operation, " ")
	of := collection(path, parameter)
	wanted := refersTo(parameter)
	var read, near source
	for _, f := range c.Fixtures {
		if f.Gone {
			continue
		}
		by := c.collectionOf(f)
		_, keeps := f.Keep[parameter]
		kept, several := severalNames(f, of, by.at, parameter)
		switch {
		case several: // one of several that name a record
		case by.at != of:
			if !keeps && near.kept != "" || by.last != last(of) && by.record != wanted {
				continue
			}
			if kept = parameter; !keeps {
				kept = c.Key(f)
			}
			if kept != "" {
				near = source{kept: kept, near: true, by: f.Name} // probably the same records at another address; not enough to change them
			}
			continue
		default: // the one value that its record is known by
			if kept = c.Key(f); kept == "" {
				continue
			}
		}
		if by.made && namedBy(f, path) {
			return source{kept: kept, made: true, by: f.Name}, true
		}
		if read.kept == "" {
			read.kept, read.by = kept, f.Name
		}
	}
	if v, has := c.Parameters["path"][parameter]; has {
		return source{text: v, made: c.allMade(v)}, true
	}
	if read.kept != "" {
		return read, true
	}
	return near, near.kept != ""
}

// MakersOf are the operations that make the records which an operation's address and
// body name, as far as these are deleted again.
func (c *Sources) MakersOf(operation string) []string {
	var out []string
	for _, name := range append(c.sources(operation, nil), config.References(c.Operations[operation].Body)...) {
		f := c.fixtureKeeping([]string{name})
		if f == nil || f.Undo == "" || c.IsCredential(name) || slices.Contains(out, f.Send) {
			continue
		}
		if _, made := makes(*f); made {
			out = append(out, f.Send)
		}
	}
	return out
}

// Variables are what headers ("header X") and credentials (by the given key) are made
// of, where that is a reference and at most a word before it; and by their names the
// operations whose answers values are kept from.
func (c *Sources) Variables(key func(scheme, operation string, lesser bool) string) (variables, kept map[string]string) {
	variables, kept = map[string]string{}, map[string]string{}
	add := func(key, text string) {
		if !plainReference.MatchString(text) {
			return
		}
		variables[key] = text
		for _, name := range config.References(text) {
			if f := c.fixtureKeeping([]string{name}); f != nil {
				kept[name] = f.Send
			}
		}
	}
	for _, h := range c.Headers {
		add("header "+h[0], h[1])
	}
	for scheme, text := range c.Credentials {
		add(key(scheme, "", false), text)
	}
	for scheme, text := range c.Lesser {
		add(key(scheme, "", true), text)
	}
	for operation, o := range c.Operations {
		for scheme, text := range o.Credentials {
			add(key(scheme, operation, false), text)
		}
	}
	return variables, kept
}

var plainReference = regexp.MustCompile(`^(?:[A-Za-z]+ )?\$\{[A-Za-z_]\w*\}$`)

// Addressed reports whether there is a value for each path parameter of an operation
// that something is said of, given what is kept.
func (c *Sources) Addressed(operation string, values map[string]any) bool {
	given := c.Given(operation, nil, values)["path"]
	return !slices.ContainsFunc(config.PathParameters(operation), func(name string) bool { return given[name] == nil })
}

// namedBy reports whether a path names the fixture's record, and not only a part of its
// name: /tags/{type} is not the one of /tags/{type}/{value}.
func namedBy(f config.Fixture, path string) bool {
	_, create, _ := strings.Cut(f.Send, " ")
	_, undo, _ := strings.Cut(f.Undo, " ")
	names := strings.Count(bare(undo), "{}") - strings.Count(bare(create), "{}")
	return names < 2 || !strings.HasPrefix(bare(undo), bare(create)+"/") || strings.HasPrefix(bare(path)+"/", bare(create)+strings.Repeat("/{}", names)+"/")
}

// ownName is what a value of a record is kept as where another record has one of the name.
func ownName(f config.Fixture, parameter string) string {
	_, path, _ := strings.Cut(f.Send, " ")
	return identifier(singular(path) + "_" + parameter)
}

// allMade reports whether a value is made of nothing but what fixtures keep of records
// that they make.
func (c *Sources) allMade(v any) bool {
	names := config.References(v)
	return len(names) > 0 && !slices.ContainsFunc(names, func(name string) bool {
		by := c.fixtureKeeping([]string{name})
		if by == nil {
			return true
		}
		_, made := makes(*by)
		return !made
	})
}

// last is the last segment of a path.
func last(path string) string { return path[strings.LastIndexByte(path, '/')+1:] }

// Key is the name under which a fixture keeps what its record is known by: the only
// value that it keeps, but for those that credentials are made of; "" where there are
// several.
func (c *Sources) Key(f config.Fixture) string {
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
func (c *Sources) sources(operation string, own config.Parameters) []string {
	return c.sourcesOf(operation, own, true)
}

// sourcesOf leaves out, without near, those that are probably of the same records.
func (c *Sources) sourcesOf(operation string, own config.Parameters, near bool) []string {
	out := append(own.References(), c.Operations[operation].Parameters.References()...)
	for _, in := range config.Places[1:] {
		out = append(out, config.References(any(c.Parameters[in]))...)
	}
	for _, name := range config.PathParameters(operation) {
		if s, ok := c.source(operation, name, own); s.near && !near {
			continue
		} else if ok && s.kept != "" {
			out = append(out, s.kept)
		} else if ok {
			out = append(out, config.References(s.text)...)
		}
	}
	return out
}

// Given are the values that an operation's parameters have, by place and name: a
// null leaves the parameter out. own comes before what the file says of the
// operation.
func (c *Sources) Given(operation string, own config.Parameters, values map[string]any) config.Parameters {
	out := config.Parameters{}
	set := func(in, name string, v any) {
		if out[in] == nil {
			out[in] = map[string]any{}
		}
		out[in][name] = v
	}
	for _, p := range []config.Parameters{c.Parameters, c.Operations[operation].Parameters, own} {
		for in, named := range p {
			for name, v := range named {
				if text, is := v.(string); is && !c.Resolves(text, values) {
					continue // a value that is not there yet
				}
				set(in, name, c.Expand(v, values))
			}
		}
	}
	for _, name := range config.PathParameters(operation) {
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
func (c *Sources) undoing(f config.Fixture) config.Parameters {
	own := config.Parameters{}
	for in, named := range f.UndoParameters {
		own[in] = maps.Clone(named)
	}
	if own["path"] == nil {
		own["path"] = map[string]any{}
	}
	at, made := makes(f)
	_, path, _ := strings.Cut(f.Undo, " ")
	for _, name := range config.PathParameters(f.Undo) {
		_, said := own["path"][name]
		if key := c.Key(f); !said && made && collection(path, name) == at && key != "" {
			own["path"][name] = "${" + key + "}" // and of no other record, whatever else there is a value of
		}
	}
	return own
}

// Undoing are the values of those parameters.
func (c *Sources) Undoing(f config.Fixture, values map[string]any) config.Parameters {
	return c.Given(f.Undo, c.undoing(f), values)
}

// Unaddressed says why it is not known which record a fixture's undo would delete,
// given what is kept; "" where it is.
func (c *Sources) Unaddressed(f config.Fixture, values map[string]any) string {
	own := c.undoing(f)
	given := c.Given(f.Undo, own, values)
	for _, name := range config.PathParameters(f.Undo) {
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

// Slots are the config.Places of a request that hold kept values.
type Slots struct {
	Path map[string]string // by parameter: a text with ${NAME}
	Body map[string]string // by JSON Pointer: the same
}

// Slots tells which config.Places of an operation's requests hold values that are kept.
func (c *Sources) Slots(operation string) Slots {
	s := c.slots(operation, nil)
	instance.Walk(c.Operations[operation].Body, func(at string, v any) bool {
		if text, is := v.(string); is && config.Reference.MatchString(text) {
			s.Body[at] = text
		}
		return true
	})
	return s
}

// UndoSlots are those of the request that takes a fixture's record away.
func (c *Sources) UndoSlots(f config.Fixture) Slots { return c.slots(f.Undo, c.undoing(f)) }

func (c *Sources) slots(operation string, own config.Parameters) Slots {
	s := Slots{Path: map[string]string{}, Body: map[string]string{}}
	for _, name := range config.PathParameters(operation) {
		from, _ := c.source(operation, name, own)
		if text, is := from.text.(string); is {
			s.Path[name] = text
		} else if from.kept != "" {
			s.Path[name] = "${" + from.kept + "}"
		}
	}
	return s
}

// madeWithin reports whether the record that a value is of was made at the address that
// the parameters before it name here, but for those that name the record as well.
func (c *Sources) madeWithin(operation string, before []string, s source) bool {
	by := c.fixtureKeeping([]string{s.kept})
	if s.kept == "" || by == nil {
		return len(before) == 0 || s.kept == "" && s.made
	}
	there := config.PathParameters(by.Send)
	n := 0
	for _, name := range before {
		here, ok := c.source(operation, name, nil)
		if _, keeps := by.Keep[here.kept]; keeps && here.kept != "" {
			continue
		}
		if !ok || n == len(there) {
			return false
		}
		other, known := c.source(by.Send, there[n], by.Parameters)
		if n++; !known || fmt.Sprint(here.written()) != fmt.Sprint(other.written()) {
			return false
		}
	}
	return true
}
