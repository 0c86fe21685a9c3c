package plan

import (
	"fmt"
	"strings"
	"testing"

	"obiter/internal/core/exchange"
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
		held, picked := op.withinBudget()
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
			count[group{"body", fmt.Sprint(i)}] = n
		}
		if got := lastTurn(count, c.budget); got != c.want {
			t.Errorf("of %v within %d it is %d, want %d", c.count, c.budget, got, c.want)
		}
	}
}
