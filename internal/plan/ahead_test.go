package plan

import (
	"testing"
	"time"

	"obiter/internal/exchange"
	"obiter/internal/flaw"
	"obiter/internal/oad"
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
		for c := range planned(t, budget).Split(1, 1)[0].Turn(0).Cases() {
			want[c.ID] = c.Number
		}
		parted, edges := 0, 0
		for c := range planned(t, budget).Split(1, 1)[0].Turn(0).Ahead() {
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
	p := planned(t, 1000).Split(1, 1)[0]
	large := []*exchange.Case{{ID: "a", Request: exchange.Request{Body: make([]byte, ofOperation)}}}
	p.room.enter(large)
	op, began, ended := p.Turn(0), make(chan int), make(chan bool)
	go func() {
		defer close(ended)
		for range op.Ahead() {
			began <- p.room.taken
			return
		}
	}()
	select {
	case <-began:
		t.Fatal("it is planned without room")
	case <-time.After(20 * time.Millisecond):
	}
	p.room.leave(large)
	if taken := <-began; taken == 0 {
		t.Error("what waits to be given out takes no room")
	}
	if <-ended; p.room.taken != 0 {
		t.Errorf("%d bytes are taken in the end", p.room.taken)
	}
}
