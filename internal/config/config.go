// Package config reads obiter.yaml: what the command line leaves out, the
// records that must exist first, and what the description does not say. It is
// strict: an unknown key, a wrong type or a reference to nothing is an error
// with file, line and column, before anything is sent.
package config

import (
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"obiter/internal/exchange"
	"obiter/internal/instance"
	"obiter/internal/oad"
)

// Config is what the file says. Texts may hold ${NAME}: a value that a fixture
// keeps, or an environment variable.
type Config struct {
	Description string // as written; relative to the file's folder
	At          string
	Headers     [][2]string
	Statuses    map[exchange.Class][]int
	AllowHosts  []string
	Errors      *Errors   // nil: the layout is learned
	Fixtures    []Fixture // each after those whose values it needs
	Operations  map[string]Operation
	Messages    []Message
	Credentials map[string]string // by security scheme: what it is sent with
	Files       TLS

	tree *oad.Tree
	env  func(string) (string, bool)
}

// Errors is how the API names fields: JSON Pointers to the list in an answer, and
// in an entry of it to the field's name and the message; and how the name is
// written, empty for any way.
type Errors struct{ List, Field, Message, Notation string }

// Operation is what is said of one operation.
type Operation struct {
	Body  any // merged over each control (RFC 7396); nil: nothing
	Rules []Rule
}

// TLS names PEM files, relative to the configuration's folder.
type TLS struct {
	CA        string // certificates that are trusted beside the machine's own
	Cert, Key string // what Obiter shows of itself
}

// Read reads a configuration. The name serves messages; env looks an
// environment variable up. Errors are *oad.Error.
func Read(name string, src []byte, env func(string) (string, bool)) (*Config, error) {
	tree, err := oad.ReadTree(name, src)
	if err != nil {
		return nil, err
	}
	c := &Config{Statuses: map[exchange.Class][]int{}, Operations: map[string]Operation{}, tree: tree, env: env}
	top, ok := tree.Value().(map[string]any)
	if !ok {
		return nil, tree.Fail("", "it should hold keys such as description: and at:", "the configuration is not an object")
	}
	r := reader{tree}
	if err := r.known("", top, "description", "at", "headers", "statuses", "allow_hosts", "errors", "fixtures", "operations", "messages", "credentials", "tls"); err != nil {
		return nil, err
	}
	for _, part := range []func(reader, map[string]any) error{c.simple, c.layout, c.headers, c.credentials, c.statuses, c.fixtures, c.operations, c.messages, c.tls, c.references} {
		if err := part(r, top); err != nil {
			return nil, err
		}
	}
	return c, nil
}

// reader reads members with their places.
type reader struct{ tree *oad.Tree }

// known refuses members that mean nothing.
func (r reader) known(at string, object map[string]any, names ...string) error {
	for _, name := range r.tree.Names(at) {
		if _, has := object[name]; has && !slices.Contains(names, name) {
			return r.tree.Fail(instance.Join(at, name), "known here: "+strings.Join(names, ", "), "the key %q is not known%s", name, like(name, names))
		}
	}
	return nil
}

// like names the known key that a letter or two are missing from.
func like(name string, names []string) string {
	for _, n := range names {
		if strings.HasPrefix(n, name[:min(len(name), 2)]) || strings.EqualFold(strings.ReplaceAll(name, "-", "_"), n) {
			return fmt.Sprintf("; did you mean %q?", n)
		}
	}
	return ""
}

func (r reader) text(at string, v any) (string, error) {
	s, ok := v.(string)
	if !ok {
		return "", r.tree.Fail(at, "write it as text", "%s is %s where text is asked for", instance.Last(at), article(v))
	}
	return s, nil
}

func (r reader) object(at string, v any) (map[string]any, error) {
	m, ok := v.(map[string]any)
	if !ok {
		return nil, r.tree.Fail(at, "write names and values below it", "%s is %s where an object is asked for", instance.Last(at), article(v))
	}
	return m, nil
}

func (r reader) list(at string, v any) ([]any, error) {
	l, ok := v.([]any)
	if !ok {
		return nil, r.tree.Fail(at, "write one entry a line, each after a dash", "%s is %s where a list is asked for", instance.Last(at), article(v))
	}
	return l, nil
}

func article(v any) string {
	switch t := instance.Type(v); t {
	case "null":
		return "empty"
	case "array", "object", "integer":
		return "an " + t
	default:
		return "a " + t
	}
}

func (c *Config) simple(r reader, top map[string]any) (err error) {
	for key, into := range map[string]*string{"description": &c.Description, "at": &c.At} {
		if v, has := top[key]; has && err == nil {
			*into, err = r.text("/"+key, v)
		}
	}
	v, has := top["allow_hosts"]
	if !has || err != nil {
		return err
	}
	hosts, err := r.list("/allow_hosts", v)
	for i, h := range hosts {
		if err == nil {
			var host string
			host, err = r.text(fmt.Sprintf("/allow_hosts/%d", i), h)
			c.AllowHosts = append(c.AllowHosts, host)
		}
	}
	return err
}

func (c *Config) layout(r reader, top map[string]any) error {
	v, has := top["errors"]
	if !has {
		return nil
	}
	object, err := r.object("/errors", v)
	if err != nil {
		return err
	}
	if err := r.known("/errors", object, "list", "field", "message", "notation"); err != nil {
		return err
	}
	c.Errors = &Errors{}
	for _, m := range []struct {
		key    string
		into   *string
		needed bool
	}{{"list", &c.Errors.List, true}, {"field", &c.Errors.Field, true}, {"message", &c.Errors.Message, false}} {
		v, has := object[m.key]
		if !has && m.needed {
			return r.tree.Fail("/errors", "for example errors: { list: /errors, field: /pointer, message: /detail }", "the layout has no %s", m.key)
		}
		if !has {
			continue
		}
		at := "/errors/" + m.key
		text, err := r.text(at, v)
		if err == nil {
			err = r.pointer(at, text)
		}
		if *m.into = text; err != nil {
			return err
		}
	}
	if v, has := object["notation"]; has {
		text, err := r.text("/errors/notation", v)
		if err == nil && !slices.Contains(notations, text) {
			err = r.tree.Fail("/errors/notation", strings.Join(notations, ", ")+" are", "the notation %q is not known", text)
		}
		if c.Errors.Notation = text; err != nil {
			return err
		}
	}
	return nil
}

// notations are the ways in which a field's name can be written.
var notations = []string{"pointer", "pointer-fragment", "dotted", "bracketed", "name"}

func (c *Config) headers(r reader, top map[string]any) error {
	v, has := top["headers"]
	if !has {
		return nil
	}
	object, err := r.object("/headers", v)
	for _, name := range r.tree.Names("/headers") {
		if err != nil {
			break
		}
		var value string
		at := instance.Join("/headers", name)
		if value, err = r.text(at, object[name]); err == nil && (name == "" || strings.ContainsAny(name, " \t\"(),/:;<=>?@[\\]{}") || strings.ContainsAny(value, "\r\n\x00")) {
			err = r.tree.Fail(at, "a header is a name without blanks, and one line", "%q is no header", name)
		}
		c.Headers = append(c.Headers, [2]string{name, value})
	}
	return err
}

// classes are those whose statuses can be narrowed.
var classes = []exchange.Class{exchange.Syntax, exchange.Type, exchange.Constraint, exchange.UnknownField, exchange.EmptyBody, exchange.Parameter,
	exchange.PathParameter, exchange.MediaType, exchange.Method, exchange.NotFound, exchange.Reference, exchange.Duplicate, exchange.Unauthorized}

func (c *Config) statuses(r reader, top map[string]any) error {
	v, has := top["statuses"]
	if !has {
		return nil
	}
	object, err := r.object("/statuses", v)
	if err != nil {
		return err
	}
	var names []string
	for _, k := range classes {
		names = append(names, string(k))
	}
	if err := r.known("/statuses", object, names...); err != nil {
		return err
	}
	for _, name := range r.tree.Names("/statuses") {
		at := instance.Join("/statuses", name)
		list, ok := object[name].([]any)
		if !ok {
			list = []any{object[name]}
		}
		for _, e := range list {
			code, err := r.rejection(at, e, ", or a list of them")
			if err != nil {
				return err
			}
			c.Statuses[exchange.Class(name)] = append(c.Statuses[exchange.Class(name)], code)
		}
	}
	return nil
}

// rejection reads the status of one; or is what may stand there beside it.
func (r reader) rejection(at string, v any, or string) (int, error) {
	n, _ := v.(json.Number)
	code, err := n.Int64()
	if err != nil || code < 400 || code > 499 {
		return 0, r.tree.Fail(at, "write a status from 400 to 499"+or, "%s is no rejection", instance.Encode(v))
	}
	return int(code), nil
}

// operationName is a method and a path, as users write operations.
var operationName = regexp.MustCompile(`^[A-Z]+ /\S*$`)

func (r reader) operation(at string, v any) (string, error) {
	s, err := r.text(at, v)
	if err == nil && !operationName.MatchString(s) {
		err = r.tree.Fail(at, "write it as in POST /vessels", "%q names no operation", s)
	}
	return s, err
}

func (c *Config) operations(r reader, top map[string]any) error {
	v, has := top["operations"]
	if !has {
		return nil
	}
	object, err := r.object("/operations", v)
	if err != nil {
		return err
	}
	for _, name := range r.tree.Names("/operations") {
		at := instance.Join("/operations", name)
		if _, err := r.operation(at, name); err != nil {
			return err
		}
		said, err := r.object(at, object[name])
		if err != nil {
			return err
		}
		if err := r.known(at, said, "body", "rules"); err != nil {
			return err
		}
		rules, err := r.rules(at+"/rules", said["rules"])
		if err != nil {
			return err
		}
		c.Operations[name] = Operation{Body: said["body"], Rules: rules}
	}
	return nil
}

func (r reader) pointer(at, text string) error {
	if _, err := instance.Split(text); err != nil || text == "" {
		return r.tree.Fail(at, "write it as in /crew/0/name", "%q is no JSON Pointer to a field", text)
	}
	return nil
}

var reference = regexp.MustCompile(`\$\{([A-Za-z_][A-Za-z0-9_]*)\}`)

// references lists the names that texts in a value refer to.
func references(v any) []string {
	var out []string
	instance.Walk(v, func(_ string, inner any) bool {
		if s, ok := inner.(string); ok {
			for _, m := range reference.FindAllStringSubmatch(s, -1) {
				out = append(out, m[1])
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
	var failed error
	instance.Walk(any(top), func(at string, v any) bool {
		s, _ := v.(string)
		for _, m := range reference.FindAllStringSubmatch(s, -1) {
			if _, set := c.env(m[1]); !set && !kept[m[1]] && failed == nil {
				failed = r.tree.Fail(at, "set it: export "+m[1]+"=…, or keep it from a fixture", "${%s} is no value of a fixture, and the environment has none of that name", m[1])
			}
		}
		return failed == nil
	})
	return failed
}

// Known is a value without the members whose texts refer to a value that is
// neither given nor in the environment: what a fixture would keep, before it was made.
func (c *Config) Known(v any, values map[string]any) any {
	object, ok := v.(map[string]any)
	if !ok {
		return v
	}
	out := map[string]any{}
	for name, m := range object {
		if _, nested := m.(map[string]any); nested {
			m = c.Known(m, values)
		} else if slices.ContainsFunc(references(m), func(ref string) bool { return !c.resolves(ref, values) }) {
			continue
		}
		out[name] = m
	}
	return out
}

// Resolves tells whether each ${NAME} of a text has a value.
func (c *Config) Resolves(text string, values map[string]any) bool {
	return !slices.ContainsFunc(references(text), func(ref string) bool { return !c.resolves(ref, values) })
}

func (c *Config) resolves(name string, values map[string]any) bool {
	_, given := values[name]
	_, set := c.env(name)
	return given || set
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

// Fail is an error at the place of a fixture.
func (c *Config) Fail(f Fixture, hint, problem string, args ...any) error {
	return c.tree.Fail(f.at, hint, problem, args...)
}

// Needed are the fixtures that the operations use: by a path parameter, by what
// is said of them, or by a header; and those that these need in their turn.
func (c *Config) Needed(operations []string) []Fixture {
	wanted := map[string]bool{}
	want := func(names []string) {
		for _, n := range names {
			wanted[n] = true
		}
	}
	for _, text := range c.Everywhere() {
		want(references(text))
	}
	for _, name := range operations {
		o := c.Operations[name]
		want(parameters(name))
		want(references(o.Body))
		for _, r := range o.Rules {
			want(references(r.Patch))
		}
	}
	var out []Fixture
	for _, f := range slices.Backward(c.Fixtures) { // those behind need those before
		if !slices.ContainsFunc(slices.Collect(maps.Keys(f.Keep)), func(name string) bool { return wanted[name] }) {
			continue
		}
		out = append(out, f)
		want(references(f.Body))
		want(parameters(f.Send))
		want(parameters(f.Undo))
	}
	slices.Reverse(out)
	return out
}

// CheckOperations holds the operations that are named against those there are.
func (c *Config) CheckOperations(names []string) error {
	check := func(at, name string) error {
		if slices.Contains(names, name) {
			return nil
		}
		return c.tree.Fail(at, "obiter survey lists them", "the description has no operation %q", name)
	}
	for _, name := range slices.Sorted(maps.Keys(c.Operations)) {
		if err := check(instance.Join("/operations", name), name); err != nil {
			return err
		}
	}
	for _, f := range c.Fixtures {
		if err := check(f.at+"/send", f.Send); err != nil {
			return err
		}
		if f.Undo != "" {
			if err := check(f.at+"/undo", f.Undo); err != nil {
				return err
			}
		}
	}
	return nil
}

// credentials reads what security schemes are sent with.
func (c *Config) credentials(r reader, top map[string]any) error {
	v, has := top["credentials"]
	if !has {
		return nil
	}
	object, err := r.object("/credentials", v)
	c.Credentials = map[string]string{}
	for _, name := range r.tree.Names("/credentials") {
		if err != nil {
			break
		}
		at := instance.Join("/credentials", name)
		c.Credentials[name], err = r.text(at, object[name])
		if err == nil && !reference.MatchString(c.Credentials[name]) {
			err = r.tree.Fail(at, "write ${NAME}: a value that a fixture keeps, or an environment variable", "the credential %q stands in the file", name)
		}
	}
	return err
}

// CheckSchemes holds the credentials against the security schemes there are.
func (c *Config) CheckSchemes(names []string) error {
	for _, name := range slices.Sorted(maps.Keys(c.Credentials)) {
		if !slices.Contains(names, name) {
			hint := "the description has none"
			if len(names) > 0 {
				hint = "there are " + strings.Join(names, ", ")
			}
			return c.tree.Fail(instance.Join("/credentials", name), hint, "the description has no security scheme %q", name)
		}
	}
	return nil
}

func (c *Config) tls(r reader, top map[string]any) error {
	v, has := top["tls"]
	if !has {
		return nil
	}
	object, err := r.object("/tls", v)
	if err != nil {
		return err
	}
	if err := r.known("/tls", object, "ca", "cert", "key"); err != nil {
		return err
	}
	for _, m := range []struct {
		key  string
		into *string
	}{{"ca", &c.Files.CA}, {"cert", &c.Files.Cert}, {"key", &c.Files.Key}} {
		if v, has := object[m.key]; has && err == nil {
			*m.into, err = r.text("/tls/"+m.key, v)
		}
	}
	if err == nil && (c.Files.Cert == "") != (c.Files.Key == "") {
		err = r.tree.Fail("/tls", "a client certificate is both: cert: and key:", "one of cert: and key: is missing")
	}
	return err
}
