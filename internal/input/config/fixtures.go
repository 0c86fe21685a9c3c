package config

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/document"
)

// Fixture is a record that is made before the run and taken away after it.
type Fixture struct {
	Name string
	Send string            // the operation, such as POST /vessels
	Body any               // merged over the control (RFC 7396); nil: the control as it is
	Keep map[string]string // by name: a runtime expression of OpenAPI
	Undo string            // the operation that takes it away; may be empty
	// Stays says that it need not be taken away, as a token need not.
	Stays bool
	Each  string // how often it is made: once a run, an operation or a case
	// Parameters are those of the request that makes it, UndoParameters of the one
	// that takes it away.
	Parameters, UndoParameters Parameters
	// Within is the collection in which its record is addressed, with {} for each parameter,
	// where that is not the one that it is sent to; empty: it is.
	Within string
	// Chosen is the pointer of the member of its body that names the new record; empty: the
	// service gives records their names.
	Chosen string
	// Names is the path parameter of a PUT that names the new record: with a value that nothing
	// has yet, where nobody gives one. Empty: it is no PUT.
	Names string
	// Guessed says that it is only likely that its record is known by what is kept of the request.
	Guessed bool
	Implied bool   // the file does not say it; the description shows how the record is made
	Reads   bool   // it makes nothing, and reads what is there
	Gone    bool   // it could not be made: it keeps nothing, and still tells how such records are taken away
	Rules   []Rule // of its body: which fields are new each time
	at      string // JSON Pointer into the file
}

func (c *Config) fixtures(r reader, top map[string]any) error {
	v, has := top["fixtures"]
	if !has {
		return nil
	}
	list, err := r.list("/fixtures", v)
	all := []error{err}
	for i, e := range list {
		f, err := r.fixture(fmt.Sprintf("/fixtures/%d", i), e)
		if err == nil && c.named(f.Name) {
			err = r.tree.Fail(f.at, "give each a name of its own", "there are two fixtures %q", f.Name)
		}
		c.Fixtures, all = append(c.Fixtures, f), append(all, err)
	}
	if err := document.Join(all...); err != nil {
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
	all := []error{r.known(at, object, append([]string{"name", "send", "body", "keep", "undo", "each"}, places...)...)}
	note := func(err error) { all = append(all, err) }
	for _, key := range []string{"name", "send"} {
		if _, has := object[key]; !has {
			note(r.tree.Fail(at, "write name: and send:", "the fixture has no %s", key))
		}
	}
	if v, has := object["name"]; has {
		f.Name, err = r.text(at+"/name", v)
		note(err)
	}
	if v, has := object["send"]; has {
		f.Send, err = r.operation(at+"/send", v, "POST /vessels")
		note(err)
	}
	f.Parameters, err = r.parameters(at, object)
	note(err)
	note(r.undo(&f, object))
	f.Body, f.Rules = renewing(object["body"])
	f.Each = "run"
	if v, has := object["each"]; has {
		if f.Each, err = r.text(at+"/each", v); err == nil && !slices.Contains([]string{"run", "operation", "case"}, f.Each) {
			err = r.tree.Fail(at+"/each", "use run, operation or case", "unknown value %q for each:", f.Each)
		}
		note(err)
	}
	if v, has := object["keep"]; has {
		f.Keep, err = r.keep(at+"/keep", v)
		note(err)
	}
	f.Names = f.namesNew()
	return f, document.Join(all...)
}

// namesNew is the last parameter of the path of a PUT that ends with one.
func (f Fixture) namesNew() string {
	names := parameters(f.Send)
	if !strings.HasPrefix(f.Send, "PUT ") || !strings.HasSuffix(f.Send, "}") || len(names) == 0 {
		return ""
	}
	return names[len(names)-1]
}

// keep reads which values of an exchange are kept.
func (r reader) keep(at string, v any) (map[string]string, error) {
	kept, err := r.object(at, v)
	out, all := map[string]string{}, []error{err}
	for _, name := range instance.Names(kept) {
		place := instance.Join(at, name)
		text, err := r.text(place, kept[name])
		if err == nil && !expression.MatchString(text) {
			err = r.tree.Fail(place, "for example $response.body#/id or $response.header.Location", "%q is not a runtime expression that can be kept", text)
		}
		out[name], all = text, append(all, err)
	}
	return out, document.Join(all...)
}

// undo reads how a record is taken away: an operation, or one with the values of
// its parameters.
func (r reader) undo(f *Fixture, object map[string]any) (err error) {
	const like = "DELETE /vessels/{vessel_id}, or none"
	at := f.at + "/undo"
	switch undo := object["undo"].(type) {
	case nil:
	case map[string]any:
		if err := r.known(at, undo, append([]string{"send"}, places...)...); err != nil {
			return err
		}
		if f.Undo, err = r.operation(at+"/send", undo["send"], like); err != nil {
			return err
		}
		f.UndoParameters, err = r.parameters(at, undo)
	default:
		if undo == "none" {
			f.Stays = true
			return nil
		}
		f.Undo, err = r.operation(at, undo, like)
	}
	return err
}

// expression is a runtime expression of OpenAPI (3.1.1, section 4.8.20.4) that
// has a value once a fixture was answered.
var expression = regexp.MustCompile(`^\$(?:(?:request|response)\.(?:body#(?:/.*)?|header\.[!#$%&'*+.^_` + "`" + `|~0-9A-Za-z-]+)|request\.path\.[^{}/]+)$`)

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
		for _, ref := range append(references(f.Body), c.sources(f.Send, f.Parameters)...) {
			if by, is := kept[ref]; is && !placed[by] && by != f.Name {
				missing = by
			}
		}
		return missing
	}
	early := c.givers()
	for len(out) < len(c.Fixtures) {
		ready := func(only map[string]bool) int {
			return slices.IndexFunc(c.Fixtures, func(f Fixture) bool { return !placed[f.Name] && needs(f) == "" && (only == nil || only[f.Name]) })
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
				return r.tree.Fail(f.at, "break the circle", "the fixtures %q and %q need one another", f.Name, needs(f))
			}
		}
	}
	c.Fixtures = out
	return nil
}

// givers are the fixtures that all others may need: those whose values headers
// and credentials refer to, and those that these need.
func (c *Config) givers() map[string]bool {
	wanted := map[string]bool{}
	for _, text := range c.Everywhere() {
		for _, ref := range references(text) {
			wanted[ref] = true
		}
	}
	out := map[string]bool{}
	for range c.Fixtures { // each round finds what one more step needs
		for _, f := range c.Fixtures {
			for name := range f.Keep {
				if wanted[name] && !out[f.Name] {
					out[f.Name] = true
					for _, ref := range append(references(f.Body), c.sources(f.Send, f.Parameters)...) {
						wanted[ref] = true
					}
				}
			}
		}
	}
	return out
}

// Often is how often a fixture is made: as often as it says, and as whatever it needs.
func (c *Config) Often(f Fixture) string {
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
func (c *Config) Own(operation string) []Fixture {
	var out []Fixture
	for _, f := range c.Needed([]string{operation}) {
		removed := strings.HasPrefix(operation, "DELETE ") && slices.ContainsFunc(c.sources(operation, nil), func(name string) bool { _, keeps := f.Keep[name]; return keeps })
		if c.Often(f) != "run" || removed {
			out = append(out, f)
		}
	}
	return out
}

// Has reports whether a fixture has not been forgotten.
func (c *Config) Has(f Fixture) bool {
	return slices.ContainsFunc(c.Fixtures, func(o Fixture) bool { return o.Name == f.Name && !o.Gone })
}

// Lacks reports whether the file puts a value into an operation's body that a fixture
// of the file was to keep, which could not be made.
func (c *Config) Lacks(operation string) bool {
	names := references(c.Operations[operation].Body)
	return slices.ContainsFunc(c.Fixtures, func(f Fixture) bool {
		return f.Gone && !f.Implied && slices.ContainsFunc(names, func(name string) bool { _, keeps := f.Keep[name]; return keeps })
	})
}

// Remover is the fixture that tells how records are removed that an operation
// makes; false where none does.
func (c *Config) Remover(operation string) (Fixture, bool) {
	i := slices.IndexFunc(c.Fixtures, func(f Fixture) bool { return f.Send == operation && f.Undo != "" })
	if i < 0 {
		return Fixture{}, false
	}
	return c.Fixtures[i], true
}

// RemoverOf is Remover for a fixture by its name, where it still makes records by that
// operation.
func (c *Config) RemoverOf(operation, name string) (Fixture, bool) {
	i := slices.IndexFunc(c.Fixtures, func(f Fixture) bool { return f.Name == name && f.Send == operation && f.Undo != "" })
	if i < 0 {
		return c.Remover(operation)
	}
	return c.Fixtures[i], true
}

// Maker is the fixture that an operation's records are made by; false where none is.
func (c *Config) Maker(operation string) (Fixture, bool) {
	i := slices.IndexFunc(c.Fixtures, func(f Fixture) bool { return f.Send == operation })
	if i < 0 {
		return Fixture{}, false
	}
	return c.Fixtures[i], true
}

// Needs reports whether a fixture uses a value: in its body, or in the parameters
// of what makes it and what takes it away.
func (c *Config) Needs(f Fixture, name string) bool {
	return slices.Contains(c.needs(f), name)
}

func (c *Config) needs(f Fixture) []string {
	out := append(references(f.Body), c.sources(f.Send, f.Parameters)...)
	if f.Undo != "" {
		out = append(out, c.sources(f.Undo, f.UndoParameters)...)
	}
	return out
}

// Needed are the fixtures that the operations use: by a path parameter, by what
// the file says of them, or by a header; and those that these need in turn.
func (c *Config) Needed(operations []string) []Fixture {
	return c.needed(operations, c.Everywhere(), true)
}

// ForCredentials are the fixtures that the credentials of operations are made of, each
// after those that it needs.
func (c *Config) ForCredentials(operations []string) []Fixture {
	needed := c.Needed(operations)
	names := map[string]bool{}
	var out []Fixture
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
func (c *Config) Requires(operation string, f Fixture) bool {
	var texts []string
	for _, h := range c.Headers {
		texts = append(texts, h[1])
	}
	return slices.ContainsFunc(c.needed([]string{operation}, texts, false), func(o Fixture) bool { return o.Name == f.Name })
}

func keepsAny(f Fixture, wanted map[string]bool) bool {
	for name := range f.Keep {
		if wanted[name] {
			return true
		}
	}
	return false
}

// Mentions reports whether the file puts a value of a fixture into an operation's body or
// parameters by its name.
func (c *Config) Mentions(operation string, f Fixture) bool {
	o := c.Operations[operation]
	return slices.ContainsFunc(append(references(o.Body), o.Parameters.references()...), func(name string) bool { _, keeps := f.Keep[name]; return keeps })
}

// Authorises reports whether the credential of one of some security schemes is made of
// what a fixture keeps, for an operation that is sent with it.
func (c *Config) Authorises(operation string, schemes []string, f Fixture) bool {
	o := c.Operations[operation]
	return !o.Anonymous && slices.ContainsFunc(schemes, func(scheme string) bool {
		text, own := o.Credentials[scheme]
		if !own {
			text = c.Credentials[scheme]
		}
		return slices.ContainsFunc(references(text), func(name string) bool { _, keeps := f.Keep[name]; return keeps })
	})
}

// needed are the fixtures that operations and some texts use.
func (c *Config) needed(operations, everywhere []string, near bool) []Fixture {
	wanted := map[string]bool{}
	want := func(names []string) {
		for _, n := range names {
			wanted[n] = true
		}
	}
	for _, text := range everywhere {
		want(references(text))
	}
	for _, name := range operations {
		o := c.Operations[name]
		want(c.sourcesOf(name, nil, near))
		want(references(o.Body))
		for _, r := range o.Rules {
			want(references(r.Patch))
			want(references(r.Holds))
			want(references(r.Is))
			want(r.Parameters.references())
		}
	}
	var out []Fixture
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
