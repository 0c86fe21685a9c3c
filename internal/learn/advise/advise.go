// Package advise tells what to write into obiter.yaml so that an operation is reached
// whose valid request was refused, or that was left out: credentials, a fixture, a new
// value for each request, the value of a member that the service blames.
package advise

import (
	"fmt"
	"net/http"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
	"obiter/internal/input/document"
	"obiter/internal/input/oad"
	"obiter/internal/input/sources"
)

// Adviser knows what a configuration and a description say.
type Adviser struct {
	Config   *sources.Sources
	Document *oad.Document
}

// Refused is advice on an operation whose valid request was refused; none where the
// service is to be fixed.
func (x Adviser) Refused(c exchange.Case, a exchange.Answer) []sources.Note {
	i := slices.IndexFunc(x.Document.Operations, func(o oad.Operation) bool { return o.Name() == c.Operation })
	if i < 0 || a.Err != "" {
		return nil
	}
	o := x.Document.Operations[i]
	if pointer, taken := judge.Taken(c, a, x.Config.Renews(c.Operation, nil)...); taken {
		return []sources.Note{note(o, "rules: [{ unique: "+pointer+" }]", "a new value each time")}
	}
	switch a.Status {
	case http.StatusUnauthorized, http.StatusForbidden, http.StatusProxyAuthRequired:
		return x.credentials(o, a)
	case http.StatusNotFound, http.StatusGone:
		if notes := x.records(o); notes != nil {
			return notes
		}
	case http.StatusUnsupportedMediaType:
		if o.Body == nil {
			return []sources.Note{note(o, "header: { Content-Type: application/json }", "")}
		}
		return nil
	}
	if a.Status >= http.StatusInternalServerError {
		return nil
	}
	return x.values(o, c, a)
}

// LeftOut is advice on an operation that was left out.
func (x Adviser) LeftOut(operation string) []sources.Note {
	i := slices.IndexFunc(x.Document.Operations, func(o oad.Operation) bool { return o.Name() == operation })
	if i < 0 {
		return nil
	}
	o := x.Document.Operations[i]
	if x.Config.Foreign(operation) != "" {
		if notes := x.records(o); notes != nil {
			return notes
		}
		return []sources.Note{note(o, "allow: true", "if it may change what others made")}
	}
	if len(o.Security) > 0 && !slices.ContainsFunc(o.Security, x.known) {
		return x.credentials(o, exchange.Answer{})
	}
	return nil
}

func note(o oad.Operation, what, why string) sources.Note {
	return sources.Note{Section: "operations", Key: o.Name(), Line: document.Scalar(o.Name()) + ": { " + what + " }", Why: why}
}

// known reports whether the file has a credential for each of some schemes.
func (x Adviser) known(schemes []string) bool {
	return !slices.ContainsFunc(schemes, func(name string) bool { return x.Config.Credentials[name] == "" })
}

// credentials are those that the file lacks, else others for the operation.
func (x Adviser) credentials(o oad.Operation, a exchange.Answer) (out []sources.Note) {
	if len(o.Security) == 0 {
		return []sources.Note{{Section: "headers", Key: "Authorization", Line: "Authorization: Bearer ${API_TOKEN}", Why: "the description asks for no credentials, and the service does"}}
	}
	way := o.Security[0]
	if slices.ContainsFunc(o.Security, x.known) || a.Status == http.StatusForbidden {
		var own []string
		for _, name := range way {
			own = append(own, document.Scalar(name)+": \"${API_"+sources.Variable(name)+"_WITH_THE_RIGHT}\"")
		}
		return []sources.Note{note(o, "credentials: { "+strings.Join(own, ", ")+" }", "of somebody who has the right")}
	}
	for _, name := range way {
		out = append(out, sources.Note{Section: "credentials", Key: name, Line: document.Scalar(name) + ": ${API_" + sources.Variable(name) + "}"})
	}
	return out
}

// records are fixtures that make what the path names, or values that name what is there.
func (x Adviser) records(o oad.Operation) (out []sources.Note) {
	var named []string
	for _, p := range o.Parameters {
		if p.In != "path" || x.Config.Owns(o.Name(), p.Name) {
			continue
		}
		if line, ok := x.Config.FixtureFor(x.Document, o, p.Name); ok {
			out = append(out, sources.Note{Section: "fixtures", Key: line, Line: "- " + line})
			continue
		}
		named = append(named, document.Scalar(p.Name)+": …")
	}
	if len(named) > 0 {
		out = append(out, note(o, "path: { "+strings.Join(named, ", ")+" }", "a record that is there"))
	}
	return out
}

// values are the members that the answer blames, with the values that were refused.
func (x Adviser) values(o oad.Operation, c exchange.Case, a exchange.Answer) []sources.Note {
	in, pointer, message, found := judge.Blamed(c, a)
	if !found {
		if o.Body == nil {
			return nil
		}
		return []sources.Note{note(o, "body: {}", "what the service takes: "+judge.Words(a))}
	}
	part := c.Parts[in]
	if in == "body" {
		part = c.Body
	}
	v, _ := instance.Get(part, pointer)
	tokens, _ := instance.Split(pointer)
	text := instance.Shorten(string(instance.Encode(v)), 60)
	for _, token := range slices.Backward(tokens) {
		text = "{ " + document.Scalar(token) + ": " + text + " }"
	}
	return []sources.Note{note(o, fmt.Sprintf("%s: %s", in, text), "another value: "+message)}
}
