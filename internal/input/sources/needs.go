package sources

import (
	"slices"
	"strings"

	"obiter/internal/input/config"
)

// inOrder puts each fixture behind those whose values it needs.
func (c *Sources) inOrder() error {
	var out []config.Fixture
	placed := map[string]bool{}
	kept := map[string]string{} // value to fixture
	for _, f := range c.Fixtures {
		for name := range f.Keep {
			if other, twice := kept[name]; twice {
				return c.Fail(f, "give one of them another name", "the value %q is kept by the fixtures %q and %q", name, other, f.Name)
			}
			kept[name] = f.Name
		}
	}
	needs := func(f config.Fixture) (missing string) {
		for _, ref := range append(config.References(f.Body), c.sources(f.Send, f.Parameters)...) {
			if by, is := kept[ref]; is && !placed[by] && by != f.Name {
				missing = by
			}
		}
		return missing
	}
	early := c.givers()
	for len(out) < len(c.Fixtures) {
		ready := func(only map[string]bool) int {
			return slices.IndexFunc(c.Fixtures, func(f config.Fixture) bool { return !placed[f.Name] && needs(f) == "" && (only == nil || only[f.Name]) })
		}
		i := ready(early)
		if i < 0 {
			i = ready(nil)
		}
		if i >= 0 {
			out, placed[c.Fixtures[i].Name] = append(out, c.Fixtures[i]), true
			continue
		}
		for _, f := range c.Fixtures {
			if !placed[f.Name] {
				return c.Fail(f, "break the circle", "the fixtures %q and %q need one another", f.Name, needs(f))
			}
		}
	}
	c.Fixtures = out
	return nil
}

// givers are the fixtures that all others may need: those whose values headers
// and credentials refer to, and those that these need.
func (c *Sources) givers() map[string]bool {
	wanted := map[string]bool{}
	for _, text := range c.Everywhere() {
		for _, ref := range config.References(text) {
			wanted[ref] = true
		}
	}
	out := map[string]bool{}
	for range c.Fixtures { // each round finds what one more step needs
		for _, f := range c.Fixtures {
			for name := range f.Keep {
				if wanted[name] && !out[f.Name] {
					out[f.Name] = true
					for _, ref := range append(config.References(f.Body), c.sources(f.Send, f.Parameters)...) {
						wanted[ref] = true
					}
				}
			}
		}
	}
	return out
}

// Scope is how often a fixture is made: as often as it says, and as whatever it needs.
func (c *Sources) Scope(f config.Fixture) string {
	order := []string{"run", "operation", "case"}
	often := max(slices.Index(order, f.Each), 0)
	for _, o := range c.Fixtures {
		if n := slices.Index(order, o.Each); n > often && o.Name != f.Name && c.dependsOn(f, o, map[string]bool{}) {
			often = n
		}
	}
	return order[often]
}

// Own are the fixtures that an operation needs for itself, each after those that
// it needs: what is made anew each operation or case, and what a DELETE removes.
func (c *Sources) Own(operation string) []config.Fixture {
	var out []config.Fixture
	for _, f := range c.Needed([]string{operation}) {
		removed := strings.HasPrefix(operation, "DELETE ") && slices.ContainsFunc(c.sources(operation, nil), func(name string) bool { _, keeps := f.Keep[name]; return keeps })
		if c.Scope(f) != "run" || removed {
			out = append(out, f)
		}
	}
	return out
}

// Has reports whether a fixture has not been forgotten.
func (c *Sources) Has(f config.Fixture) bool {
	return slices.ContainsFunc(c.Fixtures, func(o config.Fixture) bool { return o.Name == f.Name && !o.Gone })
}

// Lacks reports whether the file puts a value into an operation's body that a fixture
// of the file was to keep, which could not be made.
func (c *Sources) Lacks(operation string) bool {
	names := config.References(c.Operations[operation].Body)
	return slices.ContainsFunc(c.Fixtures, func(f config.Fixture) bool {
		return f.Gone && !f.Implied && slices.ContainsFunc(names, func(name string) bool { _, keeps := f.Keep[name]; return keeps })
	})
}

// Remover is the fixture that tells how records are removed that an operation
// makes; false where none does.
func (c *Sources) Remover(operation string) (config.Fixture, bool) {
	i := slices.IndexFunc(c.Fixtures, func(f config.Fixture) bool { return f.Send == operation && f.Undo != "" })
	if i < 0 {
		return config.Fixture{}, false
	}
	return c.Fixtures[i], true
}

// RemoverOf is Remover for a fixture by its name, where it still makes records by that
// operation.
func (c *Sources) RemoverOf(operation, name string) (config.Fixture, bool) {
	i := slices.IndexFunc(c.Fixtures, func(f config.Fixture) bool { return f.Name == name && f.Send == operation && f.Undo != "" })
	if i < 0 {
		return c.Remover(operation)
	}
	return c.Fixtures[i], true
}

// Maker is the fixture that an operation's records are made by; false where none is.
func (c *Sources) Maker(operation string) (config.Fixture, bool) {
	i := slices.IndexFunc(c.Fixtures, func(f config.Fixture) bool { return f.Send == operation })
	if i < 0 {
		return config.Fixture{}, false
	}
	return c.Fixtures[i], true
}

// Needs reports whether a fixture uses a value: in its body, or in the parameters
// of what makes it and what deletes it.
func (c *Sources) Needs(f config.Fixture, name string) bool {
	return slices.Contains(c.needs(f), name)
}

func (c *Sources) needs(f config.Fixture) []string {
	out := append(config.References(f.Body), c.sources(f.Send, f.Parameters)...)
	if f.Undo != "" {
		out = append(out, c.sources(f.Undo, f.UndoParameters)...)
	}
	return out
}

// Needed are the fixtures that the operations use: by a path parameter, by what
// the file says of them, or by a header; and those that these need in turn.
func (c *Sources) Needed(operations []string) []config.Fixture {
	return c.needed(operations, c.Everywhere(), true)
}

// ForCredentials are the fixtures that the credentials of operations are made of, each
// after those that it needs.
func (c *Sources) ForCredentials(operations []string) []config.Fixture {
	needed := c.Needed(operations)
	names := map[string]bool{}
	var out []config.Fixture
	for _, f := range slices.Backward(needed) {
		wanted := false
		for name := range f.Keep {
			wanted = wanted || c.IsCredential(name) || names[name]
		}
		if !wanted {
			continue
		}
		for _, name := range c.needs(f) {
			names[name] = true
		}
		out = append(out, f)
	}
	slices.Reverse(out)
	return out
}

// Requires reports whether an operation needs a fixture for more than its credentials,
// and cannot do with another record.
func (c *Sources) Requires(operation string, f config.Fixture) bool {
	var texts []string
	for _, h := range c.Headers {
		texts = append(texts, h[1])
	}
	return slices.ContainsFunc(c.needed([]string{operation}, texts, false), func(o config.Fixture) bool { return o.Name == f.Name })
}

func keepsAny(f config.Fixture, wanted map[string]bool) bool {
	for name := range f.Keep {
		if wanted[name] {
			return true
		}
	}
	return false
}

// Mentions reports whether the file puts a value of a fixture into an operation's body or
// parameters by its name.
func (c *Sources) Mentions(operation string, f config.Fixture) bool {
	o := c.Operations[operation]
	return slices.ContainsFunc(append(config.References(o.Body), o.Parameters.References()...), func(name string) bool { _, keeps := f.Keep[name]; return keeps })
}

// Authorises reports whether the credential of one of some security schemes is made of
// what a fixture keeps, for an operation that is sent with it.
func (c *Sources) Authorises(operation string, schemes []string, f config.Fixture) bool {
	o := c.Operations[operation]
	return !o.Anonymous && slices.ContainsFunc(schemes, func(scheme string) bool {
		text, own := o.Credentials[scheme]
		if !own {
			text = c.Credentials[scheme]
		}
		return slices.ContainsFunc(config.References(text), func(name string) bool { _, keeps := f.Keep[name]; return keeps })
	})
}

// needed are the fixtures that operations and some texts use.
func (c *Sources) needed(operations, everywhere []string, near bool) []config.Fixture {
	wanted := map[string]bool{}
	want := func(names []string) {
		for _, n := range names {
			wanted[n] = true
		}
	}
	for _, text := range everywhere {
		want(config.References(text))
	}
	for _, name := range operations {
		o := c.Operations[name]
		want(c.sourcesOf(name, nil, near))
		want(config.References(o.Body))
		for _, r := range o.Rules {
			want(config.References(r.Patch))
			want(config.References(r.Holds))
			want(config.References(r.Is))
			want(r.Parameters.References())
		}
	}
	var out []config.Fixture
	for _, f := range slices.Backward(c.Fixtures) { // those behind need those before
		if f.Gone || !keepsAny(f, wanted) {
			continue
		}
		out = append(out, f)
		want(c.needs(f))
	}
	slices.Reverse(out)
	return out
}
