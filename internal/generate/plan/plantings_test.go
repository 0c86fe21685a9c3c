package plan_test

import (
	"encoding/json"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/input/oad"
)

const sameParameters = `openapi: 3.1.0
info: {title: Harbour, version: "1"}
components:
  parameters:
    quay: {name: quay, in: path, required: true, schema: {type: integer, minimum: 1, maximum: 40}}
    page: {name: page, in: query, schema: {type: integer, minimum: 1}}
    sort: {name: sort, in: query, schema: {enum: [name, length]}}
paths:
  /quays/{quay}/berths:
    parameters: [{$ref: "#/components/parameters/quay"}]
    get:
      parameters: [{$ref: "#/components/parameters/page"}, {$ref: "#/components/parameters/sort"}]
      responses: {"200": {description: ok}}
  /quays/{quay}/cranes:
    parameters: [{$ref: "#/components/parameters/quay"}]
    get:
      parameters: [{$ref: "#/components/parameters/page"}, {$ref: "#/components/parameters/sort"}]
      responses: {"200": {description: ok}}
  /quays/{quay}/moorings:
    parameters: [{$ref: "#/components/parameters/quay"}]
    delete: # whose path is not to name what others made
      responses: {"204": {description: gone}}
  /quays/{quay}/tides:
    parameters: [{$ref: "#/components/parameters/quay"}]
    get:
      parameters: [{$ref: "#/components/parameters/page"}, {name: sort, in: query, required: true, schema: {enum: [name, length]}}]
      responses: {"200": {description: ok}}
`

// What operations with the same parameters are sent does not depend on which of them is
// planned first, nor on whether others are planned at all.
func TestSameParametersAreBrokenAlike(t *testing.T) {
	doc, err := oad.Read("harbour.yaml", []byte(sameParameters))
	if err != nil {
		t.Fatal(err)
	}
	together := map[string][]string{}
	drops := map[string]string{}
	opt := plan.Options{Depth: flaw.Deep, PerCase: map[string]bool{"DELETE /quays/{quay}/moorings": true}}
	p, err := plan.New(doc, opt)
	if err != nil {
		t.Fatal(err)
	}
	written := func(op *plan.Operation) (out []string) {
		for c := range op.Cases() {
			text, err := json.Marshal(struct {
				exchange.Case
				Body, Control any
			}{c, c.Body, c.Control})
			if err != nil {
				t.Fatal(err)
			}
			out = append(out, string(text))
		}
		text, _ := json.Marshal(op.Dropped)
		drops[op.Name()] = string(text)
		return out
	}
	for op := range p.Operations() {
		together[op.Name()] = written(op)
	}
	for _, o := range doc.Operations {
		opt.Only = []string{o.Name()}
		alone, err := plan.New(doc, opt)
		if err != nil {
			t.Fatal(err)
		}
		for op := range alone.Operations() {
			if op.Name() != o.Name() {
				continue
			}
			before := drops[op.Name()]
			list := written(op)
			if len(list) < 3 || len(list) != len(together[op.Name()]) || before != drops[op.Name()] {
				t.Fatalf("%s has %d cases alone, and %d among others; dropped are\n%s\n%s", op.Name(), len(list), len(together[op.Name()]), drops[op.Name()], before)
			}
			for i := range list {
				if list[i] != together[op.Name()][i] {
					t.Errorf("%s alone:\n%s\namong others:\n%s", op.Name(), list[i], together[op.Name()][i])
				}
			}
		}
	}
}
