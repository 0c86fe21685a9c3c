package config

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/document"
)

// Fixture is a record that is made before the run and deleted after it.
type Fixture struct {
	Name string
	Send string            // the operation, such as POST /vessels
	Body any               // merged over the control (RFC 7396); nil: the control as it is
	Keep map[string]string // by name: a runtime expression of OpenAPI
	Undo string            // the operation that deletes it; may be empty
	// Stays says that it need not be deleted, as a token need not.
	Stays bool
	Each  string // how often it is made: once a run, an operation or a case
	// Parameters are those of the request that makes it, UndoParameters of the one
	// that deletes it.
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
	Gone    bool   // it could not be made: it keeps nothing, and still tells how such records are deleted
	Rules   []Rule // of its body: which fields are new each time
	at      string // JSON Pointer into the file
}

type fixtureKeys struct {
	Name, Send *string
	Body       any
	Keep       map[string]string
	Undo       any
	Each       string
	values
}

func (c *Config) fixtures(r reader, file file) error {
	var all []error
	for i, keys := range file.Fixtures {
		f, err := r.fixture(fmt.Sprintf("/fixtures/%d", i), keys)
		if err == nil && slices.ContainsFunc(c.Fixtures, func(o Fixture) bool { return o.Name == f.Name }) {
			err = r.tree.Fail(f.at, "give each a name of its own", "there are two fixtures %q", f.Name)
		}
		c.Fixtures, all = append(c.Fixtures, f), append(all, err)
	}
	return document.Join(all...)
}

func (r reader) fixture(at string, keys fixtureKeys) (f Fixture, err error) {
	var all []error
	note := func(err error) { all = append(all, err) }
	f = Fixture{at: at, Keep: keys.Keep, Each: cmp.Or(keys.Each, "run")}
	if keys.Name == nil {
		note(r.tree.Fail(at, "write name: and send:", "the fixture has no name"))
	} else {
		f.Name = *keys.Name
	}
	if keys.Send == nil {
		note(r.tree.Fail(at, "write name: and send:", "the fixture has no send"))
	} else {
		f.Send = *keys.Send
		note(r.operation(at+"/send", f.Send, "POST /vessels"))
	}
	f.Parameters, err = r.parameters(at, keys.values)
	note(err)
	note(r.undo(&f, keys.Undo))
	f.Body, f.Rules = renewing(keys.Body)
	if !slices.Contains([]string{"run", "operation", "case"}, f.Each) {
		note(r.tree.Fail(at+"/each", "use run, operation or case", "unknown value %q for each:", f.Each))
	}
	for _, name := range slices.Sorted(maps.Keys(keys.Keep)) {
		if text := keys.Keep[name]; !Expression.MatchString(text) {
			note(r.tree.Fail(instance.Join(at, "keep", name), "for example $response.body#/id or $response.header.Location", "%q is not a runtime expression that can be kept", text))
		}
	}
	f.Names = f.NamesNew()
	return f, document.Join(all...)
}

// NamesNew is the last parameter of the path of a PUT that ends with one.
func (f Fixture) NamesNew() string {
	names := PathParameters(f.Send)
	if !strings.HasPrefix(f.Send, "PUT ") || !strings.HasSuffix(f.Send, "}") || len(names) == 0 {
		return ""
	}
	return names[len(names)-1]
}

// undo reads how a record is deleted: an operation, or one with the values of
// its parameters.
func (r reader) undo(f *Fixture, v any) (err error) {
	at := f.at + "/undo"
	operation := func(at string) error { return r.operation(at, f.Undo, "DELETE /vessels/{vessel_id}, or none") }
	if _, is := v.(map[string]any); is {
		var keys struct {
			Send any
			values
		}
		err := r.into(at, v, &keys)
		var wrong error
		f.UndoParameters, wrong = r.parameters(at, keys.values)
		if err = cmp.Or(err, wrong, r.into(at+"/send", keys.Send, &f.Undo)); err != nil {
			return err
		}
		return operation(at + "/send")
	}
	if f.Stays = v == "none"; f.Stays || v == nil {
		return nil
	}
	if err := r.into(at, v, &f.Undo); err != nil {
		return err
	}
	return operation(at)
}

// Expression is a runtime expression of OpenAPI (3.1.1, section 4.8.20.4) that
// has a value once a fixture was answered.
var Expression = regexp.MustCompile(`^\$(?:(?:request|response)\.(?:body#(?:/.*)?|header\.[!#$%&'*+.^_` + "`" + `|~0-9A-Za-z-]+)|request\.path\.[^{}/]+)$`)
