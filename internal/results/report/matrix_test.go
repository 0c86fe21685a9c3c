package report

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/evaluate/judge"
	"obiter/internal/input/config"
	"obiter/internal/results/record"
)

// TestMatrix: a mark for each way to fare, the most serious of a cell; what nothing tried; and
// what differs between operations of one collection.
func TestMatrix(t *testing.T) {
	r := New()
	n := 0
	add := func(operation, pointer, rule string, verdict judge.Verdict, codes ...string) {
		n++
		f := exchange.Flaw{In: "body", Pointer: pointer, Rule: rule}
		c := exchange.Case{ID: fmt.Sprintf("%010d", n), Number: n, Operation: operation, Kind: exchange.Flawed, Flaws: []exchange.Flaw{f}}
		if slices.Contains(codes, "edge-rejected") {
			c.Kind, c.Flaws, c.Edge = exchange.Edge, nil, &f
		}
		if rule == "blank" { // a success is right too, and keeps nothing
			c.Expect.Class = exchange.Either
		}
		if rule == "wrong-method" {
			c.Flaws[0].In, c.Flaws[0].Pointer = "request", ""
		}
		var found []judge.Finding
		for _, code := range codes {
			found = append(found, judge.Finding{Code: code, Severity: judge.Error})
		}
		r.Add(&record.Result{Exchange: exchange.Exchange{Case: c}, Verdict: verdict, Findings: found})
	}
	const post, put = "POST /vessels", "PUT /vessels/{id}"
	r.AddOperation(exchange.Described{Operation: post, Fields: []exchange.DescribedField{{In: "body", Pointer: "/name", Rules: map[string]exchange.Place{"type": "", "maxLength": "", "pattern": ""}}, {In: "body", Pointer: "/flag", Rules: map[string]exchange.Place{"enum": ""}}, {In: "query", Pointer: "/q", Rules: map[string]exchange.Place{"type": ""}}}})
	r.AddOperation(exchange.Described{Operation: put})
	add(post, "/crew/0/name", "required", judge.Pass)
	add(post, "/crew/1/name", "required", judge.Form, "not-problem")
	add(post, "/name", "maxLength", judge.Pass)
	add(put, "/name", "maxLength", judge.Fail, "accepted")
	add(put, "/name", "maxLength", judge.Pass)
	add(put, "/name", "type", judge.Fail, "crashed")
	add(post, "/name", "minLength", judge.Fail, "edge-rejected")
	add(put, "/name", "pattern", judge.Unproven)
	add(put, "", "wrong-method", judge.Fail, "missing-header")
	add(put, "/name", "blank", judge.Pass)
	var got []string
	for _, res := range r.Matrix() {
		for _, row := range res.Rows {
			for _, column := range append(slices.Clone(Columns), "method") {
				if c := row.Cells[column]; c != nil {
					got = append(got, fmt.Sprintf("%s %s %s%s %s: %s %d %v %v", res.Name, row.Operation[:4], row.In, row.Field, column, c.Mark, c.Cases, c.Shows, c.Differs))
				}
			}
		}
	}
	want := []string{
		"/vessels POST body/name wrong type: not tried 0 [] false",
		"/vessels POST body/name size: too strict 2 [0000000007 0000000003] true",
		"/vessels POST body/name pattern or format: not tried 0 [] false",
		"/vessels PUT  body/name wrong type: crash 1 [0000000006] false",
		"/vessels PUT  body/name size: not kept 2 [0000000004 0000000005] true",
		"/vessels PUT  body/name pattern or format: unproven 1 [0000000008] false",
		"/vessels POST body/flag not listed: not tried 0 [] false",
		"/vessels POST body/crew/*/name left out: wrongly told 2 [0000000002 0000000001] false",
		"/vessels PUT  request method: wrongly told 1 [0000000009] false",
	}
	if !slices.Equal(got, want) {
		t.Errorf("\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	for operation, want := range map[string]string{"GET /vessels/{id}": "/vessels", "GET /a/{b}/c": "/a/{b}/c", "GET /{a}": "/{a}", "GET /a/{b}/{c}": "/a", "the API as a whole": "the API as a whole"} {
		if got := resourceOf(operation); got != want {
			t.Errorf("%s is of %s, want %s", operation, got, want)
		}
	}
}

// TestLayouts: by layer, the usual one, and what departs from it.
func TestLayouts(t *testing.T) {
	r := New()
	add := func(n int, operation string, class exchange.Class, times int, media string, members ...string) {
		for i := range times {
			e := exchange.Exchange{Case: exchange.Case{ID: fmt.Sprintf("%010d", n+i), Number: n + i, Operation: operation, Expect: exchange.Expect{Class: class}}, Response: exchange.Answer{Status: 422, Header: http.Header{}, Body: []byte(fmt.Sprint(n + i))}}
			f := &judge.Fingerprint{Form: media, All: members}
			if media != "application/problem+json" {
				f.Members, f.Kinds = members, make([]string, len(members))
			}
			r.AddAnswer(&e, &judge.Judgement{Fingerprint: f})
		}
	}
	const problem = "application/problem+json"
	add(20, "POST /b", exchange.Constraint, 5, problem, "errors", "title")
	add(10, "POST /a", exchange.Constraint, 2, problem, "errors", "title")
	add(30, "POST /a", exchange.Syntax, 1, problem, "title")
	add(40, "POST /a", exchange.Syntax, 3, "application/json", "error", "path")
	add(50, "POST /a", exchange.Method, 1, problem)
	add(60, "POST /a", exchange.Either, 9, "text/html")
	var got []string
	for _, l := range r.Layouts() {
		got = append(got, fmt.Sprintf("%s %s %v %d %v usual %v departs %v %s", l.Layer, l.Media, l.Members, l.Answers, l.Operations, l.Usual, l.Departs, l.Body))
	}
	want := []string{
		"router application/problem+json [] 1 [POST /a] usual false departs true 50",
		"decoder application/json [error path] 3 [POST /a] usual false departs true 40",
		"decoder application/problem+json [title] 1 [POST /a] usual false departs false 30",
		"validator application/problem+json [errors title] 7 [POST /b POST /a] usual true departs false 10",
	}
	if !slices.Equal(got, want) {
		t.Errorf("\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

// TestStaleIsWhatWasTried: what a run did not try may still be there.
func TestStaleIsWhatWasTried(t *testing.T) {
	known := []config.Known{{Code: "accepted", Line: 2, Families: []string{"length"}, Operations: []string{"POST /a"}, Fields: []string{"/m", "/n"}}}
	tried := func(fields ...string) []string {
		r := New()
		r.Accept(known, "2026-11-26")
		for i, field := range fields {
			f := exchange.Flaw{In: "body", Pointer: field, Rule: "maxLength"}
			r.Add(&record.Result{Exchange: exchange.Exchange{Case: exchange.Case{ID: fmt.Sprint(i), Number: i, Operation: "POST /a", Kind: exchange.Flawed, Flaws: []exchange.Flaw{f}}}, Verdict: judge.Pass})
		}
		return r.Stale()
	}
	if got := tried("/m", "/n"); len(got) != 1 || !strings.Contains(got[0], "it no longer occurs") {
		t.Errorf("all was tried: %q", got)
	}
	if got := tried("/m"); len(got) > 0 {
		t.Errorf("/n was not tried: %q", got)
	}
}
