package plan

import (
	"fmt"
	"strings"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/generate/flaw"
	"obiter/internal/input/oad"
)

// TestWhatIsHeldIsWhatIsPicked: the cases that are held of an operation are those that are picked
// where it is planned twice, however many there are, and no more.
func TestWhatIsHeldIsWhatIsPicked(t *testing.T) {
	var b strings.Builder
	b.WriteString("openapi: 3.1.0\ninfo: {title: t, version: '1'}\npaths:\n  /berths:\n    get:\n      responses: {'200': {description: all}}\n      parameters:\n")
	for i := range 60 {
		fmt.Fprintf(&b, "        - {name: p%d, in: query, schema: {%s}}\n", i, []string{"type: integer, minimum: 1, maximum: 9", "type: string, minLength: 2, maxLength: 5", "type: array, items: {type: string, enum: [a, b]}"}[i%3])
	}
	doc, err := oad.Read("openapi.yaml", []byte(b.String()))
	if err != nil {
		t.Fatal(err)
	}
	for _, budget := range []int{1, 7, 40, 300, 100_000} {
		p, err := New(doc, Options{Base: "http://127.0.0.1:1", Budget: budget})
		if err != nil {
			t.Fatal(err)
		}
		op, err := p.Operation("GET /berths")
		if err != nil {
			t.Fatal(err)
		}
		held, picked, _ := op.withinBudget()
		op.emit(func(i int, c exchange.Case) bool {
			if is := held[i-1] != nil; is != picked[i] || is && held[i-1].ID != c.ID {
				t.Fatalf("budget %d: case %d is held: %v, picked: %v", budget, i, is, picked[i])
			}
			return true
		})
	}
}

// TestLastTurn is the turn in which a budget is used up.
func TestLastTurn(t *testing.T) {
	for _, c := range []struct {
		count  []int
		budget int
		want   int
	}{{[]int{10, 10}, 4, 2}, {[]int{10, 10}, 5, 3}, {[]int{1, 10}, 5, 4}, {[]int{1, 2}, 5, 2}, {nil, 5, 0}} {
		count := map[group]int{}
		for i, n := range c.count {
			count[group{"body", fmt.Sprint(i), ""}] = n
		}
		if got := lastTurn(count, c.budget); got != c.want {
			t.Errorf("of %v within %d it is %d, want %d", c.count, c.budget, got, c.want)
		}
	}
}

// TestTheBudgetIsFair: each rule of each field comes once before any comes twice, and where it is
// too small for that, each field and each rule has its share, and what is not tried is told.
func TestTheBudgetIsFair(t *testing.T) {
	const fields = 30
	var b strings.Builder
	b.WriteString("openapi: 3.1.0\ninfo: {title: Berths, version: '1'}\npaths:\n  /berths:\n    post:\n      requestBody:\n        required: true\n        content:\n          application/json:\n            schema:\n              type: object\n              additionalProperties: false\n              properties:\n")
	for i := range fields {
		fmt.Fprintf(&b, "                f%02d: {type: string, minLength: 7, maxLength: 20, pattern: '^[A-Z]{2}-[0-9]{4}$'}\n", i)
	}
	doc, err := oad.Read("openapi.yaml", []byte(b.String()))
	if err != nil {
		t.Fatal(err)
	}
	for budget, want := range map[int]struct{ least, most, beyond int }{1000: {1, 100, 0}, 300: {1, 5, 0}, 60: {0, 1, 1}} {
		p, err := New(doc, Options{Base: "http://127.0.0.1:1", Budget: budget, Depth: flaw.Usual})
		if err != nil {
			t.Fatal(err)
		}
		op, err := p.Operation("POST /berths")
		if err != nil {
			t.Fatal(err)
		}
		pairs, ofField, ofRule := map[string]int{}, map[string]int{}, map[string]int{}
		for c := range op.Cases() {
			if c.Kind == exchange.Flawed && len(c.Flaws) == 1 && len(c.Flaws[0].Pointer) == 4 {
				f := c.Flaws[0]
				pairs[f.Pointer+" "+f.Rule]++
				ofField[f.Pointer]++
				ofRule[f.Rule]++
			}
		}
		beyond := op.Drops[BeyondBudget]
		if len(ofField) != fields || len(ofRule) < 4 || (beyond > 0) != (want.beyond > 0) || want.least > 0 && len(pairs) != 4*fields {
			t.Errorf("budget %d: %d fields, rules %v, %d pairs, %d beyond", budget, len(ofField), ofRule, len(pairs), beyond)
		}
		if want.beyond > 0 && len(pairs)+beyond < 4*fields {
			t.Errorf("budget %d: %d pairs are tried and %d are beyond it, of %d", budget, len(pairs), beyond, 4*fields)
		}
		for pair, n := range pairs {
			if n < want.least || n > want.most {
				t.Errorf("budget %d: %s is broken %d times", budget, pair, n)
			}
		}
	}
}
