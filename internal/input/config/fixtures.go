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
		if err == nil && slices.ContainsFunc(c.Fixtures, func(o Fixture) bool { return o.Name == f.Name }) {
			err = r.tree.Fail(f.at, "give each a name of its own", "there are two fixtures %q", f.Name)
		}
		c.Fixtures, all = append(c.Fixtures, f), append(all, err)
	}
	if err := document.Join(all...); err != nil {
		return err
	}
	return nil
}

func (r reader) fixture(at string, v any) (f Fixture, err error) {
	f.at = at
	object, err := r.object(at, v)
	if err != nil {
		return f, err
	}
	all := []error{r.known(at, object, append([]string{"name", "send", "body", "keep", "undo", "each"}, Places...)...)}
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

// keep reads which values of an exchange are kept.
func (r reader) keep(at string, v any) (map[string]string, error) {
	kept, err := r.object(at, v)
	out, all := map[string]string{}, []error{err}
	for _, name := range instance.Names(kept) {
		place := instance.Join(at, name)
		text, err := r.text(place, kept[name])
		if err == nil && !Expression.MatchString(text) {
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
		if err := r.known(at, undo, append([]string{"send"}, Places...)...); err != nil {
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

// Expression is a runtime expression of OpenAPI (3.1.1, section 4.8.20.4) that
// has a value once a fixture was answered.
var Expression = regexp.MustCompile(`^\$(?:(?:request|response)\.(?:body#(?:/.*)?|header\.[!#$%&'*+.^_` + "`" + `|~0-9A-Za-z-]+)|request\.path\.[^{}/]+)$`)
