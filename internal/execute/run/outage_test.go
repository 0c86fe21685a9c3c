package run

import (
	"context"
	"fmt"
	"slices"
	"testing"

	"obiter/internal/generate/plan"
	"obiter/internal/input/oad"
	"obiter/internal/results/report"
)

// TestWhoBrokeTheServiceIsKept, although its operation was disturbed and is forgotten.
func TestWhoBrokeTheServiceIsKept(t *testing.T) {
	t.Parallel()
	doc, err := oad.Read("office.json", []byte(`{"openapi":"3.1.0","info":{"title":"Office","version":"1"},"paths":{"/closure":{"post":{"responses":{"204":{"description":"shut"}}}},"/berths":{"get":{"responses":{"200":{"description":"all"}}}}}}`))
	if err != nil {
		t.Fatal(err)
	}
	p, err := plan.New(doc, plan.Options{})
	if err != nil {
		t.Fatal(err)
	}
	lines := [][3]string{{"operation", "POST /closure", ""}, {"case", "POST /closure", "a"}, {"case", "POST /closure", "b"}, {"repeat", "POST /closure", "a"}, {"case", "GET /berths", "c"}}
	for _, x := range []struct {
		lost *lost
		want string
	}{
		{nil, "[[case GET /berths c]]"},
		{&lost{suspects: map[string]bool{"a": true}}, "[[case POST /closure a] [case GET /berths c]]"},
	} {
		r := &scheduler{collector: newCollector(nil, nil, Known{}, report.New()), health: health{lost: x.lost}}
		kept := slices.Clone(lines)
		r.opt.Drop = func(gone func(kind, operation, id string) bool) error {
			kept = slices.DeleteFunc(kept, func(l [3]string) bool { return gone(l[0], l[1], l[2]) })
			return nil
		}
		place := slices.IndexFunc(p.Selected(), func(o oad.Operation) bool { return o.Name() == "POST /closure" })
		if err := r.forgetAll(p, []int{place}); err != nil || fmt.Sprint(kept) != x.want {
			t.Errorf("%v, kept are %v, not %s", err, kept, x.want)
		}
	}
}

// TestOutagesAreCountedWhereOthersSuffer: an operation that was tried alone disturbed nobody.
func TestOutagesAreCountedWhereOthersSuffer(t *testing.T) {
	t.Parallel()
	for others, want := range map[int]int{0: 0, 1: 1, 3: 1} {
		s := newScheduler(Options{Parallel: 4, SideBySide: true}, nil)
		o := &operation{scheduler: s}
		o.enter()
		for range others {
			(&operation{scheduler: s}).enter()
		}
		suffer, ok := o.beginConfirming()
		if _, second := o.beginConfirming(); !ok || second {
			t.Error("two look at a time whether the service works")
		}
		if o.endConfirming(suffer); s.outages != want {
			t.Errorf("with %d others, %d outages are counted, not %d", others, s.outages, want)
		}
	}
}

// TestTheTrailOfALostService stays: it tells which cases were answered since.
func TestTheTrailOfALostService(t *testing.T) {
	t.Parallel()
	for _, x := range []struct {
		lost *lost
		want int
	}{{nil, 1}, {&lost{}, 3}} {
		r := &scheduler{health: health{lost: x.lost}, trail: []step{{id: "a"}, {id: "b"}, {id: "c"}}}
		if r.forget(2); len(r.trail) != x.want {
			t.Errorf("lost %v: %d are remembered, not %d", x.lost != nil, len(r.trail), x.want)
		}
	}
}

// TestNothingIsForgottenUnseen: where no request shows yet whether the service works, what was
// answered may have broken it all the same.
func TestNothingIsForgottenUnseen(t *testing.T) {
	t.Parallel()
	s := &scheduler{trail: []step{{id: "a", changes: true}}}
	o := &operation{scheduler: s}
	if failed, checked := o.checkHealth(context.Background()); failed || checked || len(s.trail) != 1 {
		t.Errorf("failed %v, checked %v, %d are remembered", failed, checked, len(s.trail))
	}
}
