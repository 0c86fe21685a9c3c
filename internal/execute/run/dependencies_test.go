package run

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"obiter/internal/generate/plan"
	"obiter/internal/input/oad"
)

// TestWhatWaitsForWhat: what changes records of a collection goes by itself there, and in the
// order of the description; everything else goes side by side.
func TestWhatWaitsForWhat(t *testing.T) {
	t.Parallel()
	for _, x := range []struct {
		name       string
		operations string
		makers     map[string][]string
		want       string // who waits for whom, by their places
	}{
		{"collections of their own", "post /quays, post /buoys, get /tides", nil, "0: 1: 2:"},
		{"one collection", "post /quays, get /quays, get /quays/{id}, put /quays/{id}, get /quays/{id}/soundings", nil, "0: 1:[0] 2:[0] 3:[0 1 2] 4:[3]"},
		{"reading bothers nobody", "get /quays, get /quays/{id}", nil, "0: 1:"},
		{"an action on a record", "get /quays/{id}, post /quays/{id}/closing, post /quays/{id}/opening", nil, "0: 1:[0] 2:[1]"},
		{"a collection in a record", "post /quays/{id}/bollards, get /quays/{id}/bollards/{no}, post /quays/{id}/cranes, get /quays/{id}/cranes/{no}, get /quays/{id}, patch /quays/{id}", nil,
			"0: 1:[0] 2: 3:[2] 4: 5:[0 1 2 3 4]"},
		{"records that are made for it", "post /quays, get /quays/{id}, post /stays, post /calls", map[string][]string{"POST /stays": {"POST /quays", "DELETE /quays/{id}"}, "POST /calls": {"POST /quays"}},
			"0: 1:[0] 2:[0] 3:[0]"},
		{"what others need is changed after them", "post /stays, put /quays/{id}, post /calls", map[string][]string{"POST /stays": {"POST /quays"}, "POST /calls": {"POST /quays"}}, "0: 1:[0] 2:[1]"},
		{"what closes the service", "get /tides, post /closure, delete /closure, get /moons, get /stars", nil, "0: 1:[0] 2:[0 1] 3:[2] 4:[2]"},
		{"the credentials of others", "get /tides, delete /sessions/{id}, get /moons", map[string][]string{"GET /tides": {"POST /sessions"}, "GET /moons": {"POST /sessions"}}, "0: 1:[0] 2:[1]"},
	} {
		t.Run(x.name, func(t *testing.T) {
			var got []string
			p := planned(t, x.operations)
			for i, after := range dependencies(p, func(operation string) []string { return x.makers[operation] }, func(operation string) bool { return strings.HasSuffix(operation, "/closure") })[:p.Len()] {
				text := fmt.Sprintf("%d:", i)
				if len(after) > 0 {
					text += fmt.Sprint(after)
				}
				got = append(got, text)
			}
			if text := strings.Join(got, " "); text != x.want {
				t.Errorf("who waits for whom is %s, want %s", text, x.want)
			}
		})
	}
}

// planned is a plan of some operations, as "post /quays, get /quays/{id}".
func planned(t *testing.T, operations string) *plan.Plan {
	t.Helper()
	var paths []string
	byPath := map[string][]string{}
	for o := range strings.SplitSeq(operations, ", ") {
		method, path, _ := strings.Cut(o, " ")
		if byPath[path] == nil {
			paths = append(paths, path)
		}
		byPath[path] = append(byPath[path], method)
	}
	var src strings.Builder
	src.WriteString(`{"openapi":"3.1.0","info":{"title":"t","version":"1"},"paths":{`)
	for i, path := range paths {
		if i > 0 {
			src.WriteString(",")
		}
		fmt.Fprintf(&src, "%q:{", path)
		for j, method := range byPath[path] {
			if j > 0 {
				src.WriteString(",")
			}
			fmt.Fprintf(&src, `%q:{"responses":{"200":{"description":"d"}}}`, method)
		}
		src.WriteString("}")
	}
	src.WriteString("}}")
	doc, err := oad.Read("t.json", []byte(src.String()))
	if err != nil {
		t.Fatal(err)
	}
	p, err := plan.New(doc, plan.Options{})
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// TestTheWholeComesLast, when everything else is done; and each place has its turn once.
func TestTheWholeComesLast(t *testing.T) {
	t.Parallel()
	p := planned(t, "post /quays, put /quays/{id}, get /quays, post /buoys, get /tides")
	after := dependencies(p, nil, nil)
	if last := after[len(after)-1]; len(after) != p.Turns() || !slices.Equal(last, []int{0, 1, 2, 3, 4}) {
		t.Fatalf("who waits for whom is %v", after)
	}
	turns := newTurns(after)
	done := map[int]bool{}
	var running []int
	for {
		for {
			place, ok := turns.next()
			if !ok {
				break
			}
			for _, before := range after[place] {
				if !done[before] {
					t.Errorf("%d begins before %d is done", place, before)
				}
			}
			running = append(running, place)
		}
		if len(running) == 0 {
			break
		}
		last := running[len(running)-1] // the last that began is done first
		running = running[:len(running)-1]
		done[last] = true
		turns.done(last)
	}
	if len(done) != len(after) {
		t.Errorf("of %d places %d had their turn", len(after), len(done))
	}
}
