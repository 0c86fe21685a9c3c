package config

import (
	"fmt"
	"maps"
	"regexp"
	"slices"

	"obiter/internal/instance"
)

// Fixture is a record that is made before the run and taken away after it.
type Fixture struct {
	Name string
	Send string            // the operation, such as POST /vessels
	Body any               // merged over the control (RFC 7396); nil: the control as it is
	Keep map[string]string // by name: a runtime expression of OpenAPI
	Undo string            // the operation that takes it away; may be empty
	at   string            // JSON Pointer into the file
}

func (c *Config) fixtures(r reader, top map[string]any) error {
	v, has := top["fixtures"]
	if !has {
		return nil
	}
	list, err := r.list("/fixtures", v)
	for i, e := range list {
		if err != nil {
			return err
		}
		var f Fixture
		if f, err = r.fixture(fmt.Sprintf("/fixtures/%d", i), e); err == nil && slices.ContainsFunc(c.Fixtures, func(o Fixture) bool { return o.Name == f.Name }) {
			err = r.tree.Fail(f.at, "give each a name of its own", "there are two fixtures %q", f.Name)
		}
		c.Fixtures = append(c.Fixtures, f)
	}
	if err != nil {
		return err
	}
	return c.inOrder(r)
}

func (r reader) fixture(at string, v any) (f Fixture, err error) {
	f.at = at
	object, err := r.object(at, v)
	if err != nil {
		return f, err
	}
	if err := r.known(at, object, "name", "send", "body", "keep", "undo"); err != nil {
		return f, err
	}
	for _, key := range []string{"name", "send"} {
		if _, has := object[key]; !has {
			return f, r.tree.Fail(at, "write name: and send:", "the fixture has no %s", key)
		}
	}
	if f.Name, err = r.text(at+"/name", object["name"]); err != nil {
		return f, err
	}
	if f.Send, err = r.operation(at+"/send", object["send"]); err != nil {
		return f, err
	}
	if undo, has := object["undo"]; has {
		if f.Undo, err = r.operation(at+"/undo", undo); err != nil {
			return f, err
		}
	}
	f.Body = object["body"]
	keep, has := object["keep"]
	if !has {
		return f, nil
	}
	kept, err := r.object(at+"/keep", keep)
	f.Keep = map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(kept)) {
		if err == nil {
			place := instance.Join(at+"/keep", name)
			if f.Keep[name], err = r.text(place, kept[name]); err == nil && !expression.MatchString(f.Keep[name]) {
				err = r.tree.Fail(place, "for example $response.body#/id or $response.header.Location", "%q is no runtime expression that can be kept", f.Keep[name])
			}
		}
	}
	return f, err
}

// expression is a runtime expression of OpenAPI (3.1.1, section 4.8.20.4) that
// has a value once a fixture was answered.
var expression = regexp.MustCompile(`^\$(?:request|response)\.(?:body#(?:/.*)?|header\.[!#$%&'*+.^_` + "`" + `|~0-9A-Za-z-]+)$`)

// inOrder puts each fixture behind those whose values it needs.
func (c *Config) inOrder(r reader) error {
	var out []Fixture
	placed := map[string]bool{}
	kept := map[string]string{} // value to fixture
	for _, f := range c.Fixtures {
		for name := range f.Keep {
			if other, twice := kept[name]; twice {
				return r.tree.Fail(f.at, "give one of them another name", "the value %q is kept by the fixtures %q and %q", name, other, f.Name)
			}
			kept[name] = f.Name
		}
	}
	needs := func(f Fixture) (missing string) {
		for _, ref := range append(references(f.Body), parameters(f.Send)...) {
			if by, is := kept[ref]; is && !placed[by] && by != f.Name {
				missing = by
			}
		}
		return missing
	}
	for len(out) < len(c.Fixtures) {
		before := len(out)
		for _, f := range c.Fixtures {
			if !placed[f.Name] && needs(f) == "" {
				out, placed[f.Name] = append(out, f), true
			}
		}
		if len(out) > before {
			continue
		}
		for _, f := range c.Fixtures {
			if !placed[f.Name] {
				return r.tree.Fail(f.at, "one of them has to do without", "the fixtures %q and %q need one another", f.Name, needs(f))
			}
		}
	}
	c.Fixtures = out
	return nil
}
