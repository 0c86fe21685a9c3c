package plan_test

import (
	"bytes"
	"fmt"
	"slices"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/input/oad"
)

// wide has many small operations, of which the first and every third have no
// body, so that what a plan has once is found at different ones.
func wide(t *testing.T) *oad.Document {
	t.Helper()
	var paths bytes.Buffer
	for i := range 40 {
		fmt.Fprintf(&paths, `"/moorings/%d":{"get":{"parameters":[{"name":"limit","in":"query","schema":{"type":"integer","maximum":9}}]}`, i)
		if i%3 != 0 {
			fmt.Fprintf(&paths, `,"post":{"requestBody":{"content":{"application/json":{"schema":{"type":"object","properties":{"line":{"type":"string","maxLength":%d}}}}}}}`, 3+i)
		}
		paths.WriteString("},")
	}
	doc, err := oad.Read("wide.json", []byte(`{"openapi":"3.1.0","info":{"title":"t","version":"1"},"paths":{`+string(bytes.TrimSuffix(paths.Bytes(), []byte(",")))+`}}`))
	if err != nil {
		t.Fatal(err)
	}
	return doc
}

func TestPlanningSideBySideChangesNothing(t *testing.T) {
	for name, doc := range map[string]*oad.Document{"harbour": office(t), "wide": wide(t)} {
		for _, opt := range []plan.Options{{Depth: flaw.Quick}, {Depth: flaw.Usual}, {Depth: flaw.Deep, Seed: 7}, {Depth: flaw.Deep, Budget: 5}} {
			if name == "harbour" && opt.Depth == flaw.Deep {
				continue // the same again, and long
			}
			want := cases(t, doc, opt)
			for _, workers := range []int{1, 2, 7} {
				p, err := plan.New(doc, opt)
				if err != nil {
					t.Fatal(err)
				}
				var got []exchange.Case
				for list := range plan.Map(p, workers, func(op *plan.Operation) []exchange.Case { return slices.Collect(op.Cases()) }) {
					got = append(got, list...)
				}
				if !bytes.Equal(encode(t, got), encode(t, want)) {
					t.Errorf("%s, depth %d, budget %d: %d cases of %d workers are not the %d of one after another", name, opt.Depth, opt.Budget, len(got), workers, len(want))
				}
			}
		}
	}
}

// TestWhatAPlanHasOnce is in an operation of its own, and each path has one wrong
// method.
func TestWhatAPlanHasOnce(t *testing.T) {
	p, err := plan.New(wide(t), plan.Options{Depth: flaw.Usual})
	if err != nil {
		t.Fatal(err)
	}
	found := map[string][]string{}
	for list := range plan.Map(p, 4, func(op *plan.Operation) []exchange.Case { return slices.Collect(op.Cases()) }) {
		for _, c := range list {
			if len(c.Flaws) > 0 && c.Flaws[0].In == "request" {
				found[c.Flaws[0].Rule] = append(found[c.Flaws[0].Rule], c.Operation+" by "+c.ProvenBy)
			}
		}
	}
	for rule, want := range map[string]string{"unknown-path": "[the API as a whole by GET /moorings/0 the API as a whole by GET /moorings/0]", "deep-nesting": "[the API as a whole by POST /moorings/1]"} {
		if got := fmt.Sprint(found[rule]); got != want {
			t.Errorf("%s is planned with %s, want %s", rule, got, want)
		}
	}
	if n := len(found["wrong-method"]); n != 40 {
		t.Errorf("%d paths have a wrong method, want all 40", n)
	}
	only, err := plan.New(wide(t), plan.Options{Depth: flaw.Usual, Selection: oad.Selection{Only: []string{"GET *"}}})
	if err != nil {
		t.Fatal(err)
	}
	for op := range only.Operations() {
		if op.IsWholeAPI() {
			t.Error("the API as a whole is tried where single operations are selected")
		}
	}
}

func TestMapEndsWhenNobodyListens(t *testing.T) {
	p, err := plan.New(wide(t), plan.Options{Depth: flaw.Usual})
	if err != nil {
		t.Fatal(err)
	}
	for stopAt := range 12 {
		n := 0
		for range plan.Map(p, 3, count) {
			if n++; n > stopAt {
				break
			}
		}
		if n != stopAt+1 {
			t.Errorf("%d results, want %d", n, stopAt+1)
		}
	}
}
