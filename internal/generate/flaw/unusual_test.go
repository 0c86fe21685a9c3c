package flaw_test

import (
	"slices"
	"strings"
	"testing"

	"obiter/internal/core/instance"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/sample"
	"obiter/internal/input/schema"
	"obiter/internal/testing/schematest"
)

// forms lists what is planted in a field of a format, with the rare ones marked.
func forms(t *testing.T, text string, depth flaw.Depth) []string {
	t.Helper()
	s := schematest.Compile(t, text)
	maker := sample.New(1)
	res, err := maker.Controls(s, nil)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	flaw.Plant(s, res.Controls[0].Value, flaw.Options{Depth: depth, Maker: maker}, func(p flaw.Planted) bool {
		switch {
		case p.Edge != nil && p.Edge.Rule == "format":
			mark := ""
			if p.Rare {
				mark = " rare"
			}
			out = append(out, p.Edge.Variant+mark+" "+string(instance.Encode(p.Value)))
			if !s.Valid(p.Value) {
				t.Errorf("%s is not valid", instance.Encode(p.Value))
			}
		case p.Undecided:
			out = append(out, p.Flaws[0].Rule+" "+p.Flaws[0].Variant+" "+string(instance.Encode(p.Value)))
		}
		return true
	})
	return out
}

// TestUnusualForms: values of formats that are right, of the present value where they can
// be, the seldom ones marked and in deep runs only; and what no standard settles.
func TestUnusualForms(t *testing.T) {
	for _, c := range []struct {
		schema    string
		depth     flaw.Depth
		want, not []string
	}{
		{"{type: string, format: date-time, examples: ['2031-05-04T06:00:00Z']}", flaw.Deep,
			[]string{`with-offset "2031-05-04T08:00:00+02:00"`, `with-fraction "2031-05-04T06:00:00.250Z"`, `small-letters rare "2031-05-04t06:00:00z"`, `leap-second rare "2016-12-31T23:59:60Z"`}, nil},
		{"{type: string, format: date-time, examples: ['2031-05-04T06:00:00Z']}", flaw.Usual, []string{`with-offset "`}, []string{"small-letters", "leap-second"}},
		{"{type: string, format: date-time}", flaw.Quick, nil, []string{"with-offset"}},
		{"{type: string, format: email, examples: [clerk@quay.example]}", flaw.Deep, []string{`plus "clerk+tide@quay.example"`, `no-dot rare "a@b"`}, nil},
		{"{type: string, format: email, maxLength: 20, examples: [clerk@quay.example]}", flaw.Usual, nil, []string{"plus "}},
		{"{type: string, format: uuid, examples: [3f2b8a1e-5c4d-4e6f-8a7b-9c0d1e2f3a4b]}", flaw.Deep, []string{`upper-case "3F2B8A1E-5C4D-4E6F-8A7B-9C0D1E2F3A4B"`, `version-7 rare "`}, nil},
		{"{type: object, properties: {vessel_id: {type: string, format: uuid, examples: [3f2b8a1e-5c4d-4e6f-8a7b-9c0d1e2f3a4b]}}}", flaw.Deep, []string{`upper-case {"vessel_id":"3F`}, []string{"version-7"}},
		{"{type: string, format: uri, examples: ['https://harbour.example/7']}", flaw.Deep, []string{`port "https://harbour.example:8443/7"`, `urn rare "urn:`}, nil},
		{"{type: string, format: ipv6}", flaw.Usual, []string{`loopback "::1"`}, nil},
		{"{type: string, minLength: 2, maxLength: 9}", flaw.Usual, []string{`blank spaces "   "`}, nil},
		{"{type: object, required: [a], properties: {a: {type: string}, b: {type: string}}}", flaw.Usual, []string{`blank spaces {"a":"   ",`}, []string{`blank spaces {"a":"Calypso","b":"   "`}},
		{"{type: string, minLength: 2, pattern: '[a-z]'}", flaw.Usual, nil, []string{"blank"}},
		{"{type: array, items: {type: string}}", flaw.Usual, []string{`blank empty-element ["",`}, nil},
		{"{type: array, items: {type: string, minLength: 1}}", flaw.Usual, nil, []string{"blank empty-element"}},
		{"{type: string, format: date}", flaw.Deep, []string{`unusual-date year-1 "0001-01-01"`, `unusual-date year-9999 "9999-12-31"`}, nil},
		{"{type: number}", flaw.Deep, []string{"unusual-number huge-exponent 1e400"}, nil},
		{"{type: number, maximum: 9}", flaw.Deep, nil, []string{"unusual-number"}},
	} {
		got := forms(t, c.schema, c.depth)
		has := func(want string) bool {
			return slices.ContainsFunc(got, func(g string) bool { return strings.HasPrefix(g, want) })
		}
		for _, w := range c.want {
			if !has(w) {
				t.Errorf("%s: %q is not planted; planted are %q", c.schema, w, got)
			}
		}
		for _, n := range c.not {
			if has(n) {
				t.Errorf("%s: %q is planted: %q", c.schema, n, got)
			}
		}
	}
}

// TestWhatCannotBeCheckedHasNoEdges: a pattern that cannot be read may forbid any value.
func TestWhatCannotBeCheckedHasNoEdges(t *testing.T) {
	for text, want := range map[string]bool{
		"{type: string, maxLength: 4, pattern: '(?<name', examples: [abcd]}": true, // the description's own value
		"{type: string, maxLength: 4, pattern: '(?<name'}":                   false,
		"{type: string, maxLength: 4, format: tide-code}":                    false,
		"{type: string, maxLength: 4, format: password}":                     true,
	} {
		s := schematest.Compile(t, text)
		got := planted(t, s, flaw.Options{Depth: flaw.Usual})
		if _, has := got["edge  maxLength exactly"]; has != want {
			t.Errorf("%s: an edge is planted: %v", text, has)
		}
		v, _ := sample.New(1).Value(s, nil)
		if sh := schema.Merge([]schema.Schema{s}); sh.Guesses(v) == want {
			t.Errorf("%s: the value is a guess: %v", text, !want)
		}
	}
}

// TestTwoStages: a wrong type and a broken limit in one request, at deep.
func TestTwoStages(t *testing.T) {
	s := schematest.Compile(t, "{type: object, properties: {a: {type: integer}, b: {type: string, maxLength: 2}, l: {type: array, items: {type: integer, maximum: 200}}}}")
	maker := sample.New(1)
	res, err := maker.Controls(s, nil)
	if err != nil {
		t.Fatal(err)
	}
	two, many := false, false
	flaw.Plant(s, res.Controls[0].Value, flaw.Options{Depth: flaw.Deep, Maker: maker}, func(p flaw.Planted) bool {
		two = two || len(p.Flaws) == 2 && p.Flaws[0].Rule == "type" && p.Flaws[1].Rule == "maxLength"
		many = many || len(p.Flaws) == 1 && p.Flaws[0].Variant == "one-in-a-hundred" && p.Flaws[0].Pointer == "/l/57"
		return true
	})
	if !two || !many {
		t.Errorf("two stages at once: %v; one wrong element of a hundred: %v", two, many)
	}
}
