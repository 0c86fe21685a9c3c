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
	r := reader{tree}
	all := []error{r.known("", top, "description", "at", "headers", "statuses", "allow_hosts", "errors", "fixtures", "operations", "messages", "credentials", "lesser", "tls", "skip", "rules", "reach", "service", "path", "query", "header", "cookie")}
	for _, part := range []func(reader, map[string]any) error{c.simple, c.layout, c.headers, c.credentials, c.statuses, c.everywhere, c.choice, c.fixtures, c.operations, c.messages, c.tls, c.service} {
		all = append(all, part(r, top))
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

func (c *Config) simple(r reader, top map[string]any) error {
	var errs [3]error
	for i, key := range []string{"description", "at"} {
		into := []*string{&c.Description, &c.At}[i]
		if v, has := top[key]; has {
			*into, errs[i] = r.text("/"+key, v)
		}
	}
	if v, has := top["reach"]; has {
		text, err := r.text("/reach", v)
		if err == nil && text != "all" {
			err = r.tree.Fail("/reach", "write reach: all, or leave it out", "reach is %q", text)
		}
		if c.ReachAll = err == nil; err != nil {
			return err
		}
	}
	if v, has := top["allow_hosts"]; has {
		c.AllowHosts, errs[2] = r.texts("/allow_hosts", v)
	}
	return document.Join(errs[:]...)
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
	all := []error{r.known("/errors", object, "list", "object", "map", "field", "message", "notation", "prefix", "first_index", "media_type")}
	c.Errors = &Errors{}
	if v, has := object["media_type"]; has {
		text, err := r.text("/errors/media_type", v)
		if err == nil && !strings.Contains(exchange.MediaTypeOf(text), "/") {
			err = r.tree.Fail("/errors/media_type", "for example media_type: application/json", "%q is not a media type", text)
		}
		all = append(all, err)
		c.Errors.MediaType = exchange.MediaTypeOf(text)
		c.Errors.Learned = len(object) == 1
	}
	if !c.Errors.Learned {
		all = append(all, c.place(r, object))
	}
	if v, has := object["notation"]; has {
		text, err := r.text("/errors/notation", v)
		if err == nil && !slices.Contains(notations, text) {
			err = r.tree.Fail("/errors/notation", "use "+strings.Join(notations, ", "), "unknown notation %q", text)
		}
		c.Errors.Notation, all = text, append(all, err)
	}
	if v, has := object["first_index"]; has {
		n, _ := v.(json.Number)
		if n != "0" && n != "1" {
			all = append(all, r.tree.Fail("/errors/first_index", "use 0 or 1", "the first entry of a list has no such number"))
		}
		c.Errors.FromOne = n == "1"
	}
	return document.Join(all...)
}

// place reads where fields are named.
func (c *Config) place(r reader, object map[string]any) error {
	for _, kind := range []string{"list", "object", "map"} {
		if _, has := object[kind]; !has {
			continue
		}
		if c.Errors.Kind != "" {
			return r.tree.Fail("/errors/"+kind, "give one of the two", "the layout has %s: and %s:", c.Errors.Kind, kind)
		}
		c.Errors.Kind = kind
	}
	if c.Errors.Kind == "" {
		return r.tree.Fail("/errors", "for example errors: { list: /errors, field: /pointer, message: /detail }; or object: with field:, or map:", "the layout has no list, no object and no map")
	}
	if _, has := object["field"]; !has && c.Errors.Kind != "map" {
		return r.tree.Fail("/errors", "for example errors: { "+c.Errors.Kind+": /errors, field: /pointer, message: /detail }", "the layout has no field")
	}
	for _, key := range []string{"field", "message"} {
		if _, has := object[key]; has && c.Errors.Kind == "map" {
			return r.tree.Fail("/errors/"+key, "leave it out: the keys of a map are the names, and its values the messages", "a map has no %s", key)
		}
	}
	for key, into := range map[string]*string{c.Errors.Kind: &c.Errors.In, "field": &c.Errors.Field, "message": &c.Errors.Message, "prefix": &c.Errors.Prefix} {
		v, has := object[key]
		if !has {
			continue
		}
		at := "/errors/" + key
		text, err := r.text(at, v)
		if err == nil && (text != "" || key != c.Errors.Kind) { // the answer itself may be the map
			err = r.pointer(at, text)
		}
		if *into = text; err != nil {
			return err
		}
	}
	return nil
}

// notations are the ways in which a field's name can be written.
var notations = []string{"pointer", "pointer-fragment", "dotted", "bracketed", "segments", "name"}

func (c *Config) headers(r reader, top map[string]any) error {
	v, has := top["headers"]
	if !has {
		return nil
	}
	object, err := r.object("/headers", v)
	if err != nil {
		return err
	}
	var all []error
	for _, name := range r.tree.Names("/headers") {
		at := instance.Join("/headers", name)
		value, err := r.text(at, object[name])
		if err == nil && (!httpguts.ValidHeaderFieldName(name) || !httpguts.ValidHeaderFieldValue(value)) {
			err = r.tree.Fail(at, "a header is a name without spaces, and one line", "%q is not a header", name)
		}
		c.Headers, all = append(c.Headers, [2]string{name, value}), append(all, err)
	}
	return document.Join(all...)
}

// classes are those whose statuses can be narrowed.
var classes = []exchange.Class{exchange.Syntax, exchange.Type, exchange.Constraint, exchange.UnknownField, exchange.EmptyBody, exchange.Parameter,
	exchange.PathParameter, exchange.MediaType, exchange.Method, exchange.NotFound, exchange.Reference, exchange.Duplicate, exchange.Unauthorized, exchange.Forbidden}

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
	all := []error{r.known("/statuses", object, names...)}
	for _, name := range r.tree.Names("/statuses") {
		at := instance.Join("/statuses", name)
		list, ok := object[name].([]any)
		if !ok {
			list = []any{object[name]}
		}
		for _, e := range list {
			code, err := r.rejection(at, e, ", or a list of them")
			all = append(all, err)
			c.Statuses[exchange.Class(name)] = append(c.Statuses[exchange.Class(name)], code)
		}
	}
	return document.Join(all...)
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
	var all []error
	for _, name := range r.tree.Names("/operations") {
		at := instance.Join("/operations", name)
		_, err := r.operation(at, name, "POST /vessels")
		o, wrong := r.said(at, object[name])
		all = append(all, err, wrong)
		c.Operations[name] = o
	}
	return document.Join(all...)
}

// said reads what the file says of one operation.
func (r reader) said(at string, v any) (o Operation, err error) {
	said, err := r.object(at, v)
	if err != nil {
		return o, err
	}
	var errs [6]error
	errs[0] = r.known(at, said, append([]string{"body", "rules", "allow", "credentials", "lesser"}, Places...)...)
	o.Rules, errs[1] = r.rules(at+"/rules", said["rules"])
	o.Parameters, errs[2] = r.parameters(at, said)
	allow, is := said["allow"].(bool)
	if _, has := said["allow"]; has && !is {
		errs[3] = r.tree.Fail(at+"/allow", "write allow: true", "allow is %s where true or false is expected", article(said["allow"]))
	}
	if v, has := said["lesser"]; has {
		if o.Permits = v == "allowed"; !o.Permits {
			errs[5] = r.tree.Fail(at+"/lesser", "write lesser: allowed where the lesser credentials are enough, or leave it out", "lesser is %s where allowed is expected", instance.Encode(v))
		}
	}
	var renewed []Rule
	o.Body, renewed = renewing(said["body"])
	o.Rules, o.Allow = append(o.Rules, renewed...), allow
	if v, has := said["credentials"]; has {
		if o.Anonymous = v == "none"; !o.Anonymous {
			o.Credentials, errs[4] = r.schemes(at+"/credentials", v)
		}
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

// credentials reads what security schemes are sent with.
func (c *Config) credentials(r reader, top map[string]any) error {
	var errs [2]error
	for i, key := range []string{"credentials", "lesser"} {
		into := []*map[string]string{&c.Credentials, &c.Lesser}[i]
		if v, has := top[key]; has {
			*into, errs[i] = r.schemes("/"+key, v)
		}
	}
	return document.Join(errs[:]...)
}

// everywhere reads the values of parameters wherever there is one of the name.
func (c *Config) everywhere(r reader, top map[string]any) (err error) {
	c.Parameters, err = r.parameters("", top)
	return err
}

// choice reads which operations are left out, and which rules are broken.
func (c *Config) choice(r reader, top map[string]any) error {
	var errs [4]error
	if v, has := top["skip"]; has {
		c.Skip, errs[0] = r.texts("/skip", v)
	}
	v, has := top["rules"]
	if !has {
		return errs[0]
	}
	object, err := r.object("/rules", v)
	errs[1] = document.Join(err, r.known("/rules", object, "only", "without"))
	for i, key := range []string{"only", "without"} {
		if v, has := object[key]; has {
			*[]*[]string{&c.Break, &c.Spare}[i], errs[2+i] = r.texts("/rules/"+key, v)
		}
	}
	return document.Join(errs[:]...)
}

// FailChoice is an error at the place of a rule or family that is chosen.
func (c *Config) FailChoice(key string, i int, hint, problem string, args ...any) error {
	return c.tree.Fail(fmt.Sprintf("/rules/%s/%d", key, i), hint, problem, args...)
}

// schemes reads the values of security schemes.
func (r reader) schemes(at string, v any) (map[string]string, error) {
	object, err := r.object(at, v)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	var all []error
	for _, name := range r.tree.Names(at) {
		here := instance.Join(at, name)
		out[name], err = r.text(here, object[name])
		if err == nil && !Reference.MatchString(out[name]) {
			err = r.tree.Fail(here, "write ${NAME}: a value that a fixture keeps, or an environment variable", "the credential %q is written in the file itself", name)
		}
		all = append(all, err)
	}
	return out, document.Join(all...)
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

func (c *Config) tls(r reader, top map[string]any) error {
	v, has := top["tls"]
	if !has {
		return nil
	}
	object, err := r.object("/tls", v)
	if err != nil {
		return err
	}
	all := []error{r.known("/tls", object, "ca", "cert", "key")}
	for _, m := range []struct {
		key  string
		into *string
	}{{"ca", &c.Files.CA}, {"cert", &c.Files.Cert}, {"key", &c.Files.Key}} {
		if v, has := object[m.key]; has {
			*m.into, err = r.text("/tls/"+m.key, v)
			all = append(all, err)
		}
	}
	_, cert := object["cert"]
	if _, key := object["key"]; cert != key {
		all = append(all, r.tree.Fail("/tls", "a client certificate is both: cert: and key:", "one of cert: and key: is missing"))
	}
	return document.Join(all...)
}
