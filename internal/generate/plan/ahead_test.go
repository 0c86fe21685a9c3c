package plan

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"obiter/internal/core/exchange"
	"obiter/internal/generate/flaw"
	"obiter/internal/input/oad"
)

const ofEdges = `{"openapi":"3.1.0","info":{"title":"Berths","version":"1"},"paths":{"/berths":{"post":{"requestBody":{"required":true,"content":{"application/json":{"schema":
{"type":"object","required":["name"],"properties":{"name":{"type":"string","minLength":2,"maxLength":40},"depth_m":{"type":"number","minimum":0,"maximum":40}}}}}},"responses":{"201":{"description":"noted"}}}}}}`

func planned(t *testing.T, budget int) *Plan {
	t.Helper()
	doc, err := oad.Read("berths.json", []byte(ofEdges))
	if err != nil {
		t.Fatal(err)
	}
	p, err := New(doc, Options{Depth: flaw.Usual, Budget: budget})
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// What is planned ahead are the operation's cases, with the edges behind all others and a nil
// between, if they are held at all.
func TestEdgesComeLast(t *testing.T) {
	for _, budget := range []int{1000, 12, 0} {
		want := map[string]int{}
		for c := range planned(t, budget).SideBySide(1).Turn(0).Cases() {
			want[c.ID] = c.Number
		}
		parted, edges := 0, 0
		for c := range planned(t, budget).SideBySide(1).Turn(0).Stream() {
			if c == nil {
				parted++
				continue
			}
			if number, has := want[c.ID]; !has || number != c.Number {
				t.Errorf("budget %d: %s is number %d ahead, and %d else", budget, c.Name, c.Number, number)
			}
			delete(want, c.ID)
			if c.Kind == exchange.Edge {
				edges++
			}
			if budget > 0 && (c.Kind == exchange.Edge) != (parted > 0) {
				t.Errorf("budget %d: %s comes after %d partings", budget, c.Name, parted)
			}
		}
		if len(want) > 0 || edges == 0 {
			t.Errorf("budget %d: %d cases are missing ahead, %d edges came", budget, len(want), edges)
		}
		if budget > 0 != (parted == 1) {
			t.Errorf("budget %d: %d partings", budget, parted)
		}
	}
}

// Who finds the room full waits until the others have given enough out; who ends early gives
// up what it took.
func TestRoomIsBounded(t *testing.T) {
	p := planned(t, 1000).SideBySide(1)
	large := []*exchange.Case{{ID: "a", Request: exchange.Request{Body: make([]byte, ofOperation)}}}
	p.budget.enter(large)
	op, began, ended := p.Turn(0), make(chan int), make(chan bool)
	go func() {
		defer close(ended)
		for range op.Stream() {
			began <- p.budget.taken
			return
		}
	}()
	select {
	case <-began:
		t.Fatal("it is planned without room")
	case <-time.After(20 * time.Millisecond):
	}
	p.budget.leave(large)
	if taken := <-began; taken == 0 {
		t.Error("what waits to be given out takes no room")
	}
	if <-ended; p.budget.taken != 0 {
		t.Errorf("%d bytes are taken in the end", p.budget.taken)
	}
}

// TestOperationsOfOnePlannerGoSideBySide: each is prepared, described and planned while others
// are, with what was compiled for several of them.
func TestOperationsOfOnePlannerGoSideBySide(t *testing.T) {
	paths := ""
	for i := range 40 {
		paths += fmt.Sprintf(`"/berths-%d":{"post":{"parameters":[{"name":"tide","in":"query","schema":{"type":"integer","minimum":%d}},{"name":"pier","in":"query","schema":{"type":"string","enum":["a","b"]}}],
			"requestBody":{"required":true,"content":{"application/json":{"schema":{"type":"object","required":["name"],"properties":{"name":{"type":"string","minLength":%d}}}}}},"responses":{"201":{"description":"noted"}}}},`, i, i, i+1)
	}
	doc, err := oad.Read("berths.json", []byte(`{"openapi":"3.1.0","info":{"title":"Berths","version":"1"},"servers":[{"url":"http://127.0.0.1:1"}],"paths":{`+strings.TrimSuffix(paths, ",")+`}}`))
	if err != nil {
		t.Fatal(err)
	}
	p, err := New(doc, Options{Depth: flaw.Quick, Budget: 1000})
	if err != nil {
		t.Fatal(err)
	}
	planner := p.SideBySide(len(doc.Operations))
	planned := make([]string, len(doc.Operations))
	var g sync.WaitGroup
	for i := range planned {
		g.Go(func() {
			op := planner.Turn(i)
			planned[i] = fmt.Sprintf("%+v %d", op.Described(), len(op.Controls()))
			if narrowed, _, ok := op.Narrow(false, func(*Operation, exchange.Case) bool { return true }); !ok || narrowed.Fresh("/name").SkipReason != "" {
				t.Errorf("%s cannot be narrowed", op.Name())
			}
			for c := range op.Stream() {
				if c != nil {
					planned[i] += " " + c.ID
				}
			}
		})
	}
	g.Wait()
	alone := p.SideBySide(1)
	for i := range planned {
		op := alone.Turn(i)
		want := fmt.Sprintf("%+v %d", op.Described(), len(op.Controls()))
		for c := range op.Stream() {
			if c != nil {
				want += " " + c.ID
			}
		}
		if planned[i] != want {
			t.Errorf("%s is\n%s\nbut by itself\n%s", op.Name(), planned[i], want)
		}
	}
}
