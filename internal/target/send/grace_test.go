package send

import (
	"context"
	"fmt"
	"net/url"
	"testing"
	"time"
)

// Exchanges under one context share what lets them end, and it goes with the last of them
// once others have taken its place.
func TestGraces(t *testing.T) {
	var g graces
	one, cancel := context.WithCancel(context.Background())
	type key struct{}
	two := context.WithValue(context.Background(), key{}, 2)
	a, b := g.enter(one), g.enter(one)
	if a != b {
		t.Error("two exchanges share nothing")
	}
	other := g.enter(two)
	if other == a || other.flight.Value(key{}) != 2 {
		t.Error("another context is not another one")
	}
	g.leave(a)
	if a.flight.Err() != nil {
		t.Error("what is still used has ended")
	}
	cancel()
	if time.Sleep(20 * time.Millisecond); a.flight.Err() != nil {
		t.Error("an interrupt ends an exchange at once")
	}
	g.leave(b)
	if a.flight.Err() == nil {
		t.Error("what nobody uses has not ended")
	}
	g.leave(other)
	if again := g.enter(two); again != other || again.flight.Err() != nil {
		t.Error("what was used last is not used again")
	}
}

// An address is known by all of its text.
func TestAddresses(t *testing.T) {
	known := newAddresses()
	for range 2 {
		for i := range 500 { // more than there is room for
			text := fmt.Sprintf("http://localhost/berths/%d", i)
			if u := known.of(text); u != nil && u.String() != text {
				t.Fatalf("%s is taken for %s", text, u)
			}
			u, err := url.Parse(text)
			if err != nil {
				t.Fatal(err)
			}
			known.keep(text, u)
			if known.of(text) != u {
				t.Fatalf("%s is not kept", text)
			}
		}
	}
}
