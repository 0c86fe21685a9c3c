package sources

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/input/config"
	"obiter/internal/input/document"
	"obiter/internal/input/oad"
)

// Draft is a commented start of a configuration for a description: its address,
// the records that its paths need, the credentials that it needs, and its
// operations. name is how the description is to be named in it.
func Draft(doc *oad.Document, name string) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("# Configuration of Obiter for %s.", document.Comment(doc.Title))
	line("# ${NAME} is a value that a fixture keeps, or an environment variable; its value is never written to a file.")
	line("description: %s", document.Scalar(name))
	at := "http://localhost:8080"
	if len(doc.Servers) > 0 && strings.HasPrefix(doc.Servers[0], "http") {
		at = doc.Servers[0]
	}
	line("at: %s", document.Scalar(at))
	c := drafted(doc)
	draftCredentials(doc, line)
	line("\n# Narrow the statuses that are right, where the API has one for each sort of flaw:")
	line("# statuses: { syntax: 400, type: 422, constraint: 422 }")
	if ownLayout(doc) {
		line("\n# The description documents rejections as plain JSON. If that is so on purpose, remove the #:\n# errors: { media_type: application/json }")
	}
	draftFixtures(c.Fixtures, line)
	line("\n# What is merged over the valid bodies of an operation (RFC 7396), such as references\n# to records that exist; and rules that no schema says, such as\n#     rules: [{ unique: /reference }, { holds: body.ends_at > body.starts_at, blames: /ends_at }]")
	said := false
	for _, o := range doc.Operations {
		if body := withFresh(c.Operations[o.Name()].Body, c.Operations[o.Name()].Rules); body != nil {
			if !said {
				line("operations:")
			}
			said = true
			line("  %s: { body: %s }", document.Scalar(o.Name()), inFlow(body))
		}
	}
	if !said {
		line("# operations:")
	}
	for _, o := range doc.Operations {
		if o.Body != nil && o.Skip == "" && withFresh(c.Operations[o.Name()].Body, c.Operations[o.Name()].Rules) == nil {
			line("#   %s: { body: {} }", document.Scalar(o.Name()))
		}
	}
	return b.String()
}

// draftCredentials writes what the security schemes are sent with.
func draftCredentials(doc *oad.Document, line func(format string, args ...any)) {
	schemes, token := doc.Schemes(), tokenOf(doc)
	switch {
	case len(schemes) == 0:
	case token == "":
		line("\n# The description requires credentials. Remove the #, and set the variables.\n# credentials:")
		for _, s := range schemes {
			line("#   %s", credential(s))
		}
	default:
		line("\n# What the security schemes are sent with; the token is kept from a fixture below.\ncredentials:")
		for _, s := range schemes {
			if s.Kind == "bearer" {
				line("  %s: ${%s}", document.Scalar(s.Name), token)
			}
		}
	}
}

// draftFixtures writes the records that are made before the run.
func draftFixtures(fixtures []config.Fixture, line func(format string, args ...any)) {
	if len(fixtures) == 0 {
		return
	}
	line("\n# Records that are made before the run and taken away after it. What they keep\n# is used for path parameters of that name, and for ${NAME} below.")
	line("fixtures:")
	for _, f := range fixtures {
		line("  - name: %s\n    send: %s", document.Scalar(f.Name), document.Scalar(f.Send))
		var kept []string
		for _, name := range slices.Sorted(maps.Keys(f.Keep)) {
			kept = append(kept, document.Scalar(name)+": "+document.Scalar(f.Keep[name]))
		}
		if body := withFresh(f.Body, f.Rules); body != nil {
			line("    body: %s", inFlow(body))
		}
		line("    keep: { %s }", strings.Join(kept, ", "))
		switch {
		case f.Undo != "":
			line("    undo: %s", document.Scalar(f.Undo))
		case f.Reads:
			line("    undo: none # it is read, and never changed")
		case f.Stays:
			line("    undo: none # the token ends by itself")
		}
	}
}

// LeftOpen is what a draft for a description cannot know: the security schemes that no
// log-in serves, and the operations that would change what Obiter did not make.
func LeftOpen(doc *oad.Document) (credentials, foreign []string) {
	c := empty()
	c.Imply(doc)
	for _, s := range doc.Schemes() {
		if c.Credentials[s.Name] == "" {
			credentials = append(credentials, s.Name)
		}
	}
	for _, o := range doc.Operations {
		if o.Skip == "" && c.Foreign(o.Name()) != "" {
			foreign = append(foreign, o.Name())
		}
	}
	return credentials, foreign
}

// credential is a line that binds a scheme to an environment variable.
func credential(s oad.Scheme) string {
	says := map[string]string{"basic": "name:password", "bearer": "a token", "apiKey": "the key", "": "nothing that can be sent in a request"}[s.Kind]
	return fmt.Sprintf("%s: ${API_%s}    # %s", document.Scalar(s.Name), Variable(s.Name), says)
}

// Variable is a name as the environment has it: capital letters, digits and _.
func Variable(name string) string {
	return strings.ToUpper(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
			return r
		}
		return '_'
	}, name))
}

// tokenNames are what answers call a token that opens the door.
var tokenNames = []string{"token", "access_token", "accessToken"}

// tokenOf is what the token of the log-in is kept as; "" where there is no log-in.
func tokenOf(doc *oad.Document) string {
	door, ok := signIn(doc)
	if !ok {
		return ""
	}
	return instance.Names(anyOf(door.Keep))[0]
}

// drafted is the configuration that the description suggests: fixtures by its links,
// then those that try makes by itself, and for what is left those of a collection
// that takes a POST, whose records nothing deletes.
func drafted(doc *oad.Document) *Sources {
	c := empty()
	has := func(name string) bool {
		return slices.ContainsFunc(doc.Operations, func(o oad.Operation) bool { return o.Name() == name })
	}
	c.Fixtures, _ = linked(doc, has)
	c.implyRecords(doc)
	c.implyReads(doc)
	if door, ok := signIn(doc); ok && len(doc.Schemes()) > 0 {
		i := slices.IndexFunc(c.Fixtures, func(f config.Fixture) bool { return f.Send == door.Send })
		if i < 0 {
			c.Fixtures = append([]config.Fixture{door}, c.Fixtures...)
		} else {
			c.Fixtures[i].Keep = maps.Clone(c.Fixtures[i].Keep)
			maps.Copy(c.Fixtures[i].Keep, door.Keep)
		}
	}
	c.Fixtures = slices.DeleteFunc(c.Fixtures, func(f config.Fixture) bool { return !shown(doc, f) })
	c.refer(doc)
	c.arrange()
	return c
}

// shown reports whether the description documents where a fixture finds what it keeps. What it
// does not is found out by each run.
func shown(doc *oad.Document, f config.Fixture) bool {
	i := slices.IndexFunc(doc.Operations, func(o oad.Operation) bool { return o.Name() == f.Send })
	if i < 0 || f.Guessed || f.Within != "" || f.Names != "" {
		return false
	}
	for _, expression := range f.Keep {
		if expression == AtLocation && !locates(doc.Operations[i]) {
			return false
		}
	}
	return true
}

// withFresh is a body with ${fresh} in the fields that are new each time; nil where
// there is nothing to write.
func withFresh(body any, rules []config.Rule) map[string]any {
	object, _ := body.(map[string]any)
	out := maps.Clone(object)
	for _, r := range rules {
		if name := strings.TrimPrefix(r.Unique, "/"); r.Fresh && !strings.Contains(name, "/") {
			if out == nil {
				out = map[string]any{}
			}
			out[name] = "${" + config.Fresh + "}"
		}
	}
	return out
}

// inFlow is an object of texts and lists of them, as YAML writes it in one line.
func inFlow(object map[string]any) string {
	var members []string
	for _, name := range instance.Names(object) {
		v := object[name]
		list, isList := v.([]any)
		if isList {
			v = list[0]
		}
		text := fmt.Sprintf("%q", v)
		if isList {
			text = "[" + text + "]"
		}
		members = append(members, document.Scalar(name)+": "+text)
	}
	return "{ " + strings.Join(members, ", ") + " }"
}

// signIn is the fixture that logs in: an operation that needs no
// credentials and answers with a token; false if there is none.
func signIn(doc *oad.Document) (config.Fixture, bool) {
	for _, o := range doc.Operations {
		for _, name := range tokenNames {
			if o.Method != "POST" || o.Security != nil || len(config.PathParameters(o.Path)) > 0 {
				continue
			}
			if expression := keptAt(doc, o, name); strings.HasSuffix(expression, "/"+name) {
				return config.Fixture{Name: singular(o.Path), Send: o.Name(), Keep: map[string]string{name: expression}, Stays: true}, true
			}
		}
	}
	return config.Fixture{}, false
}

// linked are the fixtures of the description's links (OpenAPI 3.1.1, section
// 4.8.20): what an answer gives that another operation takes in its path.
func linked(doc *oad.Document, has func(string) bool) (out []config.Fixture, seen map[string]bool) {
	seen = map[string]bool{}
	for _, o := range doc.Operations {
		if o.Method != "POST" {
			continue
		}
		f := config.Fixture{Name: singular(o.Path), Send: o.Name(), Keep: map[string]string{}}
		for _, link := range doc.Links(o) {
			i := slices.IndexFunc(doc.Operations, func(t oad.Operation) bool { return t.ID == link.OperationID && t.ID != "" })
			if i < 0 {
				continue
			}
			for _, name := range config.PathParameters(doc.Operations[i].Path) {
				text := link.Parameters[name]
				if config.Expression.MatchString(text) && !seen[name] {
					seen[name], f.Keep[name] = true, text
				}
			}
			if undo := "DELETE " + doc.Operations[i].Path; has(undo) {
				f.Undo = undo
			}
		}
		if len(f.Keep) > 0 {
			out = append(out, f)
		}
	}
	return out, seen
}

func cutLast(path string) (before, last string, ok bool) {
	i := strings.LastIndexByte(path, '/')
	if i < 0 {
		return "", path, false
	}
	return path[:i], path[i+1:], true
}

// singular names one record of a collection.
func singular(collection string) string {
	_, last, _ := cutLast(collection)
	switch {
	case strings.HasSuffix(last, "ies"):
		return strings.TrimSuffix(last, "ies") + "y"
	case strings.HasSuffix(last, "s") && !strings.HasSuffix(last, "ss"):
		return strings.TrimSuffix(last, "s")
	case last == "":
		return "record"
	}
	return last
}

// AtLocation is where an answer has a new record's address.
const AtLocation = "$response.header.Location"

// keptAt is where the id of a new record is: in the documented answer, else in
// its Location.
func keptAt(doc *oad.Document, create oad.Operation, parameter string) string {
	for _, properties := range answered(doc, create) {
		for _, name := range []string{parameter, "id"} {
			if _, has := properties[name]; has {
				return "$response.body#" + instance.Join("", name)
			}
		}
		if field, _, natural := naturalKey(doc, create, parameter, true); natural && !locates(create) {
			if _, has := instance.Get(properties, field); has {
				return "$response.body#" + field
			}
		}
	}
	return AtLocation
}

// locates reports whether an operation documents that a success has a Location.
func locates(o oad.Operation) bool {
	return slices.ContainsFunc(o.Responses, func(r oad.Response) bool { return strings.HasPrefix(r.Status, "2") && r.Locates })
}

// listedAt is where the first id of a list is: in a list that the documented answer
// is, or has as a member.
func listedAt(doc *oad.Document, list oad.Operation, parameter string) string {
	for _, m := range successes(list) {
		at, v, err := doc.Resolve(m.Schema)
		object, _ := v.(map[string]any)
		if err != nil || object == nil {
			continue
		}
		if pointer, is := firstOf(doc, at, object, parameter); is {
			return "$response.body#" + pointer
		}
		properties, _ := object["properties"].(map[string]any)
		for _, name := range instance.Names(properties) {
			inner := document.Location{File: at.File, Pointer: at.Pointer + instance.Join("/properties", name)}
			to, v, err := doc.Resolve(inner)
			member, _ := v.(map[string]any)
			if pointer, is := firstOf(doc, to, member, parameter); err == nil && is {
				return "$response.body#" + instance.Join("", name) + pointer
			}
		}
	}
	return "$response.body#/0/" + parameter
}

// firstOf is the id of the first element of a list's schema.
func firstOf(doc *oad.Document, at document.Location, object map[string]any, parameter string) (string, bool) {
	if object["items"] == nil {
		return "", false
	}
	_, v, err := doc.Resolve(document.Location{File: at.File, Pointer: at.Pointer + "/items"})
	element, _ := v.(map[string]any)
	if properties, is := element["properties"].(map[string]any); is && err == nil {
		if name, has := keyOf(properties, parameter); has {
			return instance.Join("/0", name), true
		}
	}
	if element["type"] == "string" || element["type"] == "integer" {
		return "/0", err == nil
	}
	return "", false
}

// keyOf is the member that a record is known by, of those that it has.
func keyOf(properties map[string]any, parameter string) (string, bool) {
	candidates := []string{parameter, "id"}
	if l := instance.Level(parameter); !strings.HasSuffix(l, "id") {
		candidates = append(candidates, "name", "key", "slug", "code")
	}
	for _, name := range candidates {
		if _, has := properties[name]; has {
			return name, true
		}
	}
	return "", false
}

// answered are the properties of an operation's documented successes.
func answered(doc *oad.Document, o oad.Operation) (out []map[string]any) {
	for _, m := range successes(o) {
		_, v, err := doc.Resolve(m.Schema)
		object, _ := v.(map[string]any)
		if properties, is := object["properties"].(map[string]any); is && err == nil {
			out = append(out, properties)
		}
	}
	return out
}

// successes are the bodies of an operation's documented successes.
func successes(o oad.Operation) (out []oad.Media) {
	for _, r := range o.Responses {
		if strings.HasPrefix(r.Status, "2") {
			out = append(out, r.Media...)
		}
	}
	return out
}

// ownLayout reports whether rejections are documented as JSON, and none as a
// problem document.
func ownLayout(doc *oad.Document) bool {
	plain := false
	for _, o := range doc.Operations {
		for _, r := range o.Responses {
			if !strings.HasPrefix(r.Status, "4") && r.Status != "default" {
				continue
			}
			for _, m := range r.Media {
				switch exchange.MediaTypeOf(m.Type) {
				case "application/problem+json", "application/problem+xml":
					return false
				case "application/json":
					plain = true
				}
			}
		}
	}
	return plain
}
