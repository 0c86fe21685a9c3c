package trial_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"

	"obiter/internal/core/instance"
	"obiter/internal/execute/trial"
	"obiter/internal/harbour"
)

// shuffler is a service in front of another that answers every list in random order.
type shuffler struct{ service http.Handler }

func (s shuffler) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	inner := httptest.NewRecorder()
	s.service.ServeHTTP(inner, r)
	for k, v := range inner.Header() {
		w.Header()[k] = v
	}
	text := inner.Body.Bytes()
	if v, err := instance.Decode(text); err == nil {
		text = instance.Encode(shuffled(v))
	}
	w.WriteHeader(inner.Code)
	_, _ = w.Write(text)
}

func shuffled(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for name, inner := range v {
			v[name] = shuffled(inner)
		}
	case []any:
		for i := range v {
			v[i] = shuffled(v[i])
		}
		rand.Shuffle(len(v), func(i, j int) { v[i], v[j] = v[j], v[i] })
	}
	return v
}

// TestListsInRandomOrder: ten runs of a service that answers lists in random order
// find the same.
func TestListsInRandomOrder(t *testing.T) {
	t.Parallel()
	var first []string
	for range 10 {
		o := open(t, nil, "each: operation", "each: operation")
		inner, err := harbour.New(append([]string{"half-written"}, layoutFaults...))
		if err != nil {
			t.Fatal(err)
		}
		server := httptest.NewServer(shuffler{inner})
		if o.opt.Base, err = url.Parse(server.URL); err != nil {
			t.Fatal(err)
		}
		o.opt.Plan.Base = server.URL
		o.opt.Plan.Only = []string{"* /vessels", "PATCH /vessels/*", "POST /berth-bookings", "POST /pilot-orders"}
		out, err := trial.Run(context.Background(), o.opt, o.events)
		server.Close()
		if err != nil {
			t.Fatal(err)
		}
		found := []string{}
		for _, e := range out.Report.Entries() {
			found = append(found, fmt.Sprint(e.Code, e.Operations, e.Fields, e.Count))
		}
		if first == nil {
			first = found
		}
		if !slices.Equal(found, first) || !slices.ContainsFunc(found, func(s string) bool { return strings.HasPrefix(s, "changed-state[PATCH") }) {
			t.Fatalf("found %q, and the first time %q", found, first)
		}
	}
}
