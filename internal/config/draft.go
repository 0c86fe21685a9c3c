package config

import (
	_ "embed"
	"fmt"
	"slices"
	"strings"

	"obiter/internal/instance"
	"obiter/internal/oad"
)

// Draft is a commented start of a configuration for a description: its address,
// the records that its paths need, the credentials that it asks for, and its
// operations. name is how the description is to be named in it.
func Draft(doc *oad.Document, name string) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("# Configuration of Obiter for %s.", oneLine(doc.Title))
	line("# ${NAME} is a value that a fixture keeps, or an environment variable; its value is never written to a file.")
	line("description: %s", quoted(name))
	at := "http://localhost:8080"
	if len(doc.Servers) > 0 && strings.HasPrefix(doc.Servers[0], "http") {
		at = doc.Servers[0]
	}
	line("at: %s", quoted(at))
	if credentials := credentials(doc); len(credentials) > 0 {
		line("\n# The description asks for credentials. Take the # away, and set the variable.\n# headers:")
		for _, c := range credentials {
			line("#   %s", c)
		}
	}
	line("\n# Narrow the statuses that are right, where the API has one for each sort of flaw:")
	line("# statuses: { syntax: 400, type: 422, constraint: 422 }")
	if fixtures := likely(doc); len(fixtures) > 0 {
		line("\n# Records that are made before the run and taken away after it. What they keep\n# stands in for path parameters of that name, and for ${NAME} below.")
		line("fixtures:")
		for _, f := range fixtures {
			line("  - name: %s\n    send: %s", quoted(f.Name), quoted(f.Send))
			for name, expression := range f.Keep {
				line("    keep: { %s: %s }", quoted(name), quoted(expression))
			}
			if f.Undo != "" {
				line("    undo: %s", quoted(f.Undo))
			}
		}
	}
	line("\n# What is merged over the valid bodies of an operation (RFC 7396), such as references\n# to records that exist:\n# operations:")
	for _, o := range doc.Operations {
		if o.Body != nil && o.Skip == "" {
			line("#   %s: { body: {} }", quoted(o.Name()))
		}
	}
	return b.String()
}

func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// quoted is text as YAML takes it: plain where nothing in it means anything.
func quoted(s string) string {
	plain := s != "" && !strings.ContainsAny(s, "#'\"&*!|>%@`,[]{}\n\t\\") && !strings.Contains(s, ": ") && !strings.HasSuffix(s, ":") && strings.TrimSpace(s) == s && s[0] != '-' && s[0] != '?'
	if plain {
		return s
	}
	return string(instance.Encode(s))
}

// credentials are the headers that the security schemes ask for.
func credentials(doc *oad.Document) []string {
	v, _ := doc.Value("/components/securitySchemes")
	schemes, _ := v.(map[string]any)
	var out []string
	add := func(line string) {
		if !slices.Contains(out, line) {
			out = append(out, line)
		}
	}
	for _, name := range instance.Names(schemes) {
		s, _ := schemes[name].(map[string]any)
		switch s["type"] {
		case "http":
			if scheme, _ := s["scheme"].(string); strings.EqualFold(scheme, "basic") {
				add("Authorization: Basic ${API_BASIC}    # base64 of name:password")
				continue
			}
			add("Authorization: Bearer ${API_TOKEN}")
		case "oauth2", "openIdConnect":
			add("Authorization: Bearer ${API_TOKEN}")
		case "apiKey":
			if header, _ := s["name"].(string); s["in"] == "header" && header != "" {
				add(quoted(header) + ": ${API_KEY}")
			}
		}
	}
	return out
}

// likely are the fixtures that the paths suggest: a path that ends in a
// parameter and whose collection takes a POST.
func likely(doc *oad.Document) []Fixture {
	has := func(name string) bool {
		return slices.ContainsFunc(doc.Operations, func(o oad.Operation) bool { return o.Name() == name })
	}
	var out []Fixture
	seen := map[string]bool{}
	for _, o := range doc.Operations {
		collection, last, _ := cutLast(o.Path)
		names := parameters(last)
		if len(names) != 1 || last != "{"+names[0]+"}" || seen[names[0]] || !has("POST "+collection) {
			continue
		}
		seen[names[0]] = true
		i := slices.IndexFunc(doc.Operations, func(p oad.Operation) bool { return p.Name() == "POST "+collection })
		f := Fixture{Name: singular(collection), Send: "POST " + collection, Keep: map[string]string{names[0]: kept(doc, doc.Operations[i], names[0])}}
		if undo := "DELETE " + o.Path; has(undo) {
			f.Undo = undo
		}
		out = append(out, f)
	}
	return out
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

// kept is where the id of a new record stands: in the documented answer, else in
// its Location.
func kept(doc *oad.Document, create oad.Operation, parameter string) string {
	for _, r := range create.Responses {
		if !strings.HasPrefix(r.Status, "2") {
			continue
		}
		for _, m := range r.Media {
			_, v, err := doc.Resolve(m.Schema)
			object, _ := v.(map[string]any)
			properties, _ := object["properties"].(map[string]any)
			if err != nil || properties == nil {
				continue
			}
			for _, name := range []string{parameter, "id"} {
				if _, has := properties[name]; has {
					return "$response.body#" + instance.Join("", name)
				}
			}
		}
	}
	return "$response.header.Location"
}

// Schema is the JSON Schema of the configuration, for editors.
//
//go:embed schema.json
var Schema []byte
