// Package config reads obiter.yaml: what the command line leaves out, the
// records that must exist first, and what the description does not say. It is
// strict: an unknown key, a wrong type or a reference to nothing is an error
// with file, line and column, before anything is sent.
package config

import (
	"encoding/json"
	"fmt"
	"maps"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/http/httpguts"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/input/document"
)

// Config is what the file says. Texts may hold ${NAME}: a value that a fixture
// keeps, or an environment variable.
type Config struct {
	Description string // a file
	At          string
	Headers     [][2]string
	Statuses    map[exchange.Class][]int
	AllowHosts  []string
	Service     *Service  // how the service is started; nil: it runs by itself
	ReachAll    bool      // an operation that was not reached makes a run fail
	Errors      *Errors   // nil: the layout is learned
	Fixtures    []Fixture // each after those whose values it needs
	Operations  map[string]Operation
	Messages    []Message
	Credentials map[string]string // by security scheme: what it is sent with
	// Lesser are credentials that are valid and lack the right, by security scheme.
	Lesser     map[string]string
	Parameters Parameters // of all operations that have one of the name
	Skip       []string   // operations that are left out, as globs
	Break      []string   // names of rules and families that are broken; empty: all
	Spare      []string   // those that are not
	Files      TLS

	// Env looks an environment variable up.
	Env  func(string) (string, bool)
	tree *document.File
}

// Errors is how the API names fields. In, a JSON Pointer into an answer, is where
// what Kind says is: a list of entries, one object, or a map with names for keys.
// Field and Message are pointers into an entry or the object.
type Errors struct {
	Kind, In, Field, Message string
	Notation                 string
	Prefix                   string // JSON Pointer that names begin with and that is not in the request
	FromOne                  bool   // entries of lists are counted from 1
	MediaType                string // of rejections that are no problem documents on purpose; may be empty
	Learned                  bool   // only the media type is given
}

// Operation is what the file says of one operation.
type Operation struct {
	Body       any // merged over each control (RFC 7396); nil: nothing
	Rules      []Rule
	Parameters Parameters // in place of what the description gives
	Allow      bool       // it may change what Obiter did not make
	// Credentials are its own, by security scheme; Anonymous: it is sent without any.
	Credentials map[string]string
	Anonymous   bool
	Permits     bool // the lesser credentials are enough
}

// Service says how the service is started that is tried.
type Service struct {
	Start  string        // a command line for the shell; empty: it runs by itself
	Log    string        // the file that it writes, where Obiter does not start it
	Folder string        // of the configuration, in which it is run
	Ready  string        // a path that is answered below 500 when it is ready; empty: its port takes connections
	Within time.Duration // the longest time until it is; 0: the usual one
	// Daemons says that what it leaves running in a session of its own may live on.
	Daemons bool
}

// TLS names PEM files, relative to the configuration's folder.
type TLS struct {
	CA        string // certificates that are trusted in addition to the machine's own
	Cert, Key string // what Obiter shows of itself
}

// maxValues bounds what the aliases of a configuration come to when each is written out:
// all of it is gone through for each request.
const maxValues = 100_000

// Digest tells one version of the configuration from another.
func (c *Config) Digest() string { return c.tree.Digest() }

// Written is the file as a value, with each ${NAME} as it is written.
func (c *Config) Written() map[string]any {
	top, _ := c.tree.Value.(map[string]any)
	return top
}

// Read reads a configuration. The name serves messages; env looks an
// environment variable up. Errors are *document.Error.
func Read(name string, src []byte, env func(string) (string, bool)) (*Config, error) {
	tree, err := document.ReadWithin(name, src, maxValues)
	if err != nil {
		return nil, err
	}
	c := &Config{Statuses: map[exchange.Class][]int{}, Operations: map[string]Operation{}, tree: tree, Env: env}
	top, ok := tree.Value.(map[string]any)
	if !ok {
		return nil, tree.Fail("", "it should hold keys such as description: and at:", "the configuration is not an object")
	}
	r, f := reader{tree}, file{}
	all := []error{r.into("", top, &f)}
	for _, part := range []func(reader, file) error{c.simple, c.layout, c.headers, c.statuses, c.fixtures, c.operations, c.messages, c.service} {
		all = append(all, part(r, f))
	}
	if err := document.Join(append(all, c.references(r, top))...); err != nil {
		return nil, err
	}
	c.At = c.ExpandText(c.At, nil)
	for _, file := range []*string{&c.Description, &c.Files.CA, &c.Files.Cert, &c.Files.Key} {
		if *file != "" && !filepath.IsAbs(*file) {
			*file = filepath.Join(filepath.Dir(name), *file)
		}
	}
	return c, nil
}

// file has a field for each key of the configuration; the same in schema.json is for
// editors.
type file struct {
	Description, At     string
	Headers             map[string]string
	AllowHosts          []string `key:"allow_hosts"`
	Statuses            map[string]any
	Errors              *errorKeys
	Fixtures            []fixtureKeys
	Operations          map[string]operationKeys
	Messages            map[string]map[string]string
	Credentials, Lesser map[string]string
	TLS                 *TLS
	Skip                []string
	Rules               struct{ Only, Without []string }
	Reach               string
	Service             *serviceKeys
	values
}

type errorKeys struct {
	List, Object, Map, Field, Message, Prefix *string
	Notation                                  string
	FirstIndex                                any    `key:"first_index"`
	MediaType                                 string `key:"media_type"`
}

type operationKeys struct {
	Body        any
	Rules       []ruleKeys
	Allow       bool
	Credentials any
	Lesser      any
	values
}

// simple takes over what needs little reading.
func (c *Config) simple(r reader, f file) error {
	c.Description, c.At, c.AllowHosts, c.Skip, c.Break, c.Spare = f.Description, f.At, f.AllowHosts, f.Skip, f.Rules.Only, f.Rules.Without
	c.Credentials, c.Lesser = f.Credentials, f.Lesser
	all := []error{r.schemes("/credentials", f.Credentials), r.schemes("/lesser", f.Lesser)}
	if c.ReachAll = f.Reach == "all"; f.Reach != "" && !c.ReachAll {
		all = append(all, r.tree.Fail("/reach", "write reach: all, or leave it out", "reach is %q", f.Reach))
	}
	var err error
	c.Parameters, err = r.parameters("", f.values)
	if all = append(all, err); f.TLS != nil {
		if c.Files = *f.TLS; (f.TLS.Cert == "") != (f.TLS.Key == "") {
			all = append(all, r.tree.Fail("/tls", "a client certificate is both: cert: and key:", "one of cert: and key: is missing"))
		}
	}
	return document.Join(all...)
}

func (c *Config) layout(r reader, f file) error {
	e := f.Errors
	if e == nil {
		return nil
	}
	fail := func(key, hint, problem string, args ...any) error {
		return r.tree.Fail("/errors"+key, hint, problem, args...)
	}
	var all []error
	c.Errors = &Errors{MediaType: exchange.MediaTypeOf(e.MediaType), Notation: e.Notation, FromOne: e.FirstIndex == json.Number("1")}
	if e.MediaType != "" && !strings.Contains(c.Errors.MediaType, "/") {
		all = append(all, fail("/media_type", "for example media_type: application/json", "%q is not a media type", e.MediaType))
	}
	if c.Errors.Learned = *e == (errorKeys{MediaType: e.MediaType}) && e.MediaType != ""; !c.Errors.Learned {
		all = append(all, c.place(r, e, fail))
	}
	if e.Notation != "" && !slices.Contains(notations, e.Notation) {
		all = append(all, fail("/notation", "use "+strings.Join(notations, ", "), "unknown notation %q", e.Notation))
	}
	if e.FirstIndex != nil && e.FirstIndex != json.Number("0") && !c.Errors.FromOne {
		all = append(all, fail("/first_index", "use 0 or 1", "the first entry of a list has no such number"))
	}
	return document.Join(all...)
}

// place reads where fields are named.
func (c *Config) place(r reader, e *errorKeys, fail func(key, hint, problem string, args ...any) error) error {
	var in *string
	for i, kind := range []string{"list", "object", "map"} {
		given := []*string{e.List, e.Object, e.Map}[i]
		switch {
		case given == nil:
		case in != nil:
			return fail("/"+kind, "give one of the two", "the layout has %s: and %s:", c.Errors.Kind, kind)
		default:
			c.Errors.Kind, in = kind, given
		}
	}
	switch {
	case in == nil:
		return fail("", "for example errors: { list: /errors, field: /pointer, message: /detail }; or object: with field:, or map:", "the layout has no list, no object and no map")
	case e.Map == nil && e.Field == nil:
		return fail("", "for example errors: { "+c.Errors.Kind+": /errors, field: /pointer, message: /detail }", "the layout has no field")
	}
	for _, m := range []struct {
		key   string
		given *string
		into  *string
	}{{c.Errors.Kind, in, &c.Errors.In}, {"field", e.Field, &c.Errors.Field}, {"message", e.Message, &c.Errors.Message}, {"prefix", e.Prefix, &c.Errors.Prefix}} {
		if m.given == nil {
			continue
		}
		if e.Map != nil && (m.key == "field" || m.key == "message") {
			return fail("/"+m.key, "leave it out: the keys of a map are the names, and its values the messages", "a map has no %s", m.key)
		}
		if *m.into = *m.given; *m.given != "" || m.given != in { // the answer itself may be the map
			if err := r.pointer("/errors/"+m.key, *m.given); err != nil {
				return err
			}
		}
	}
	return nil
}

// notations are the ways in which a field's name can be written.
var notations = []string{"pointer", "pointer-fragment", "dotted", "bracketed", "segments", "name"}

func (c *Config) headers(r reader, f file) error {
	var all []error
	for _, name := range r.tree.Names("/headers") {
		value := f.Headers[name]
		if !httpguts.ValidHeaderFieldName(name) || !httpguts.ValidHeaderFieldValue(value) {
			all = append(all, r.tree.Fail(instance.Join("/headers", name), "a header is a name without spaces, and one line", "%q is not a header", name))
		}
		c.Headers = append(c.Headers, [2]string{name, value})
	}
	return document.Join(all...)
}

// classes are those whose statuses can be narrowed.
var classes = []string{string(exchange.Syntax), string(exchange.Type), string(exchange.Constraint), string(exchange.UnknownField), string(exchange.EmptyBody), string(exchange.Parameter),
	string(exchange.PathParameter), string(exchange.MediaType), string(exchange.Method), string(exchange.NotFound), string(exchange.Reference), string(exchange.Duplicate), string(exchange.Unauthorized), string(exchange.Forbidden)}

func (c *Config) statuses(r reader, f file) error {
	if f.Statuses == nil {
		return nil
	}
	all := []error{r.known("/statuses", f.Statuses, classes...)}
	for _, name := range r.tree.Names("/statuses") {
		list, ok := f.Statuses[name].([]any)
		if !ok {
			list = []any{f.Statuses[name]}
		}
		for _, e := range list {
			code, err := r.rejection(instance.Join("/statuses", name), e, ", or a list of them")
			all = append(all, err)
			c.Statuses[exchange.Class(name)] = append(c.Statuses[exchange.Class(name)], code)
		}
	}
	return document.Join(all...)
}

func (c *Config) operations(r reader, f file) error {
	var all []error
	for _, name := range r.tree.Names("/operations") {
		at := instance.Join("/operations", name)
		o, err := r.fromFile(at, f.Operations[name])
		all = append(all, r.operation(at, name, "POST /vessels"), err)
		c.Operations[name] = o
	}
	return document.Join(all...)
}

// fromFile reads what the file says of one operation.
func (r reader) fromFile(at string, keys operationKeys) (o Operation, err error) {
	var errs [4]error
	o.Allow = keys.Allow
	o.Rules, errs[0] = r.rules(at+"/rules", keys.Rules)
	o.Parameters, errs[1] = r.parameters(at, keys.values)
	if o.Permits = keys.Lesser == "allowed"; !o.Permits && keys.Lesser != nil {
		errs[2] = r.tree.Fail(at+"/lesser", "write lesser: allowed where the lesser credentials are enough, or leave it out", "lesser is %s where allowed is expected", instance.Encode(keys.Lesser))
	}
	var renewed []Rule
	o.Body, renewed = renewing(keys.Body)
	o.Rules = append(o.Rules, renewed...)
	if o.Anonymous = keys.Credentials == "none"; !o.Anonymous && keys.Credentials != nil {
		errs[3] = r.set(at+"/credentials", keys.Credentials, reflect.ValueOf(&o.Credentials).Elem())
		errs[3] = document.Join(errs[3], r.schemes(at+"/credentials", o.Credentials))
	}
	return o, document.Join(errs[:]...)
}

// Fail is an error at the place of a fixture.
func (c *Config) Fail(f Fixture, hint, problem string, args ...any) error {
	if f.Implied {
		return fmt.Errorf(problem, args...)
	}
	return c.tree.Fail(f.at, hint, problem, args...)
}

// CheckOperations holds the operations that are named against those there are.
func (c *Config) CheckOperations(names []string) error {
	check := func(at, name string) error {
		if slices.Contains(names, name) {
			return nil
		}
		return c.tree.Fail(at, "obiter survey lists them", "the description has no operation %q", name)
	}
	var all []error
	for _, name := range slices.Sorted(maps.Keys(c.Operations)) {
		all = append(all, check(instance.Join("/operations", name), name))
	}
	for _, f := range c.Fixtures {
		if f.Implied {
			continue
		}
		all = append(all, check(f.at+"/send", f.Send))
		if f.Undo != "" {
			all = append(all, check(f.at+"/undo", f.Undo))
		}
	}
	return document.Join(all...)
}

// FailChoice is an error at the place of a rule or family that is chosen.
func (c *Config) FailChoice(key string, i int, hint, problem string, args ...any) error {
	return c.tree.Fail(fmt.Sprintf("/rules/%s/%d", key, i), hint, problem, args...)
}

// schemes refuses credentials that are written in the file.
func (r reader) schemes(at string, values map[string]string) error {
	var all []error
	for _, name := range slices.Sorted(maps.Keys(values)) {
		if !Reference.MatchString(values[name]) {
			all = append(all, r.tree.Fail(instance.Join(at, name), "write ${NAME}: a value that a fixture keeps, or an environment variable", "the credential %q is written in the file itself", name))
		}
	}
	return document.Join(all...)
}

// CheckSchemes holds the credentials against the security schemes there are.
func (c *Config) CheckSchemes(names []string) error {
	var all []error
	check := func(at string, credentials map[string]string) {
		for _, name := range slices.Sorted(maps.Keys(credentials)) {
			if slices.Contains(names, name) {
				continue
			}
			hint := "the description has none"
			if len(names) > 0 {
				hint = "there are " + strings.Join(names, ", ")
			}
			all = append(all, c.tree.Fail(instance.Join(at, name), hint, "the description has no security scheme %q", name))
		}
	}
	check("/credentials", c.Credentials)
	check("/lesser", c.Lesser)
	for _, operation := range slices.Sorted(maps.Keys(c.Operations)) {
		check(instance.Join("/operations", operation, "credentials"), c.Operations[operation].Credentials)
	}
	return document.Join(all...)
}
