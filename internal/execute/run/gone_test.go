package run_test

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/execute/run"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/harbour"
	"obiter/internal/input/oad"
	"obiter/internal/results/report"
	"obiter/internal/target/send"
)

// TestAServiceThatGoesStopsTheRun: what was cut off is told, and what would have
// come after it is not counted.
func TestAServiceThatGoesStopsTheRun(t *testing.T) {
	t.Parallel()
	office, err := harbour.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	var server *httptest.Server
	var heard atomic.Int32
	var last atomic.Value
	server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if heard.Add(1) == 40 {
			last.Store(r.Header.Get("Obiter-Case"))
			_ = server.Listener.Close()
			panic(http.ErrAbortHandler)
		}
		office.ServeHTTP(w, r)
	}))
	defer server.Close()
	p, s := harbourPlan(t, server.URL, flaw.Quick)
	rep, err := run.Do(context.Background(), p, run.Options{Parallel: 1, Send: sending(s), Alive: s.Reach})
	var gone *run.GoneError
	if !errors.As(err, &gone) || len(gone.Suspects) != 1 || gone.Suspects[0] != last.Load() {
		t.Fatalf("%v, %+v, the last case was %v", err, gone, last.Load())
	}
	codes := map[string]int{}
	for _, e := range rep.Entries() {
		codes[e.Code] += e.Count
	}
	if n := rep.Totals().Cases; n != gone.Done || n > 40 || codes["no-answer"] != 1 || len(codes) != 1 {
		t.Errorf("%d cases, %d answered, %v", n, gone.Done, codes)
	}
	var unreachable *send.UnreachableError
	if !errors.As(err, &unreachable) {
		t.Errorf("the reason is lost: %v", err)
	}
}

// soundHarbour is a quick plan of an office that is served without faults.
func soundHarbour(t *testing.T) (*plan.Plan, *send.Sender) {
	t.Helper()
	office, err := harbour.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(office)
	t.Cleanup(server.Close)
	return harbourPlan(t, server.URL, flaw.Quick)
}

// TestAServiceThatComesBackIsAskedAgain: whoever watches over it starts it anew.
func TestAServiceThatComesBackIsAskedAgain(t *testing.T) {
	t.Parallel()
	p, s := soundHarbour(t)
	sent, asked := 0, 0
	rep, err := run.Do(context.Background(), p, run.Options{Parallel: 1, Send: func(ctx context.Context, c exchange.Case) exchange.Exchange {
		if sent++; sent%10 == 0 {
			return exchange.Exchange{Case: c, Response: exchange.Answer{Refused: true, Err: "the connection is refused"}}
		}
		return sending(s)(ctx, c)
	}, Alive: func(context.Context) error {
		if asked++; asked == 1 {
			return errors.New("not yet")
		}
		return nil
	}})
	if err != nil || rep.Errors() > 0 || asked < 10 {
		t.Errorf("%v, %d errors, asked %d times", err, rep.Errors(), asked)
	}
}

// harbourPlan plans the harbour at an address, and makes a sender for it.
func harbourPlan(t testing.TB, address string, depth flaw.Depth, only ...string) (*plan.Plan, *send.Sender) {
	t.Helper()
	doc, err := oad.Read("harbour.yaml", harbour.Description)
	if err != nil {
		t.Fatal(err)
	}
	removes := func(operation string) string { // nothing is made here that could be removed
		if strings.HasPrefix(operation, "DELETE ") {
			return "it removes what is there"
		}
		return ""
	}
	p, err := plan.New(doc, plan.Options{Base: address, Selection: oad.Selection{Only: only}, Depth: depth, Authorise: true, Foreign: removes})
	if err != nil {
		t.Fatal(err)
	}
	base, err := url.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	s, err := send.New(base, send.Options{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return p, s
}

// TestABrokenServiceStopsTheRun: what an operation does to the service is not held
// against those that follow.
func TestABrokenServiceStopsTheRun(t *testing.T) {
	t.Parallel()
	office, err := harbour.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	var shut atomic.Bool
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if shut.Load() {
			w.WriteHeader(http.StatusNotFound)
			return
		}
		if r.URL.Path == "/pilot-orders" && r.Method == "POST" {
			defer shut.Store(r.Header.Get("Content-Type") == "text/plain") // the last of its requests but one
		}
		office.ServeHTTP(w, r)
	}))
	defer server.Close()
	p, s := harbourPlan(t, server.URL, flaw.Quick)
	rep, err := run.Do(context.Background(), p, run.Options{Parallel: 1, Send: sending(s), Alive: s.Reach})
	var broken *run.BrokenError
	if !errors.As(err, &broken) || broken.Operation != "POST /pilot-orders" || broken.Request != "GET /vessels" || !strings.Contains(err.Error(), "which was accepted before, is answered with 404 Not Found") || len(broken.Suspects) == 0 {
		t.Fatalf("%v", err)
	}
	for _, l := range rep.Lines {
		if l.Operation == "POST /sessions" {
			t.Errorf("it went on: %+v", l)
		}
	}
}

// TestAnOperationThatIsNeverAnsweredIsGivenUp, and told; one that is late now and then is not.
func TestAnOperationThatIsNeverAnsweredIsGivenUp(t *testing.T) {
	t.Parallel()
	p, s := soundHarbour(t)
	var never, sometimes atomic.Int32
	left := map[string]string{}
	_, err := run.Do(context.Background(), p, run.Options{Parallel: 4, Finished: func(op *plan.Operation, _ *report.Line) { left[op.Name()] = op.SkipReason },
		Send: func(ctx context.Context, c exchange.Case) exchange.Exchange {
			late := exchange.Exchange{Case: c, Response: exchange.Answer{Err: "no complete answer within 10s", Late: true}}
			switch c.Operation {
			case "POST /vessels":
				if c.Kind != exchange.Control { // those also show whether the service works
					never.Add(1)
					return late
				}
			case "POST /berth-bookings":
				if sometimes.Add(1)%12 == 0 {
					return late
				}
			}
			return exchange.Exchange{Case: c, Response: s.Send(ctx, c)}
		}})
	if err != nil {
		t.Fatal(err)
	}
	if n := never.Load(); n > 20 || !strings.HasPrefix(left["POST /vessels"], "given up: ") {
		t.Errorf("%d requests were sent, and told is %q", n, left["POST /vessels"])
	}
	if n := sometimes.Load(); n < 50 || left["POST /berth-bookings"] != "" {
		t.Errorf("%d requests were sent, and told is %q", n, left["POST /berth-bookings"])
	}
}
