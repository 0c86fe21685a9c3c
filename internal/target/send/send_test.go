package send

import (
	"compress/gzip"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"obiter/internal/core/exchange"
)

func sender(t *testing.T, h http.HandlerFunc, opt Options) (*Sender, exchange.Case) {
	t.Helper()
	server := httptest.NewServer(h)
	t.Cleanup(server.Close)
	base, err := url.Parse(server.URL)
	if err != nil {
		t.Fatal(err)
	}
	s, err := New(base, opt)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s, exchange.Case{ID: "0123abcdef", Request: exchange.Request{Method: "POST", URL: server.URL + "/berths", Headers: [][2]string{{"Content-Type", "application/json"}}, Body: []byte(`{"a":1}`)}}
}

func TestRequestsCarryTheirMarks(t *testing.T) {
	s, c := sender(t, func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		trace := r.Header.Get("Traceparent")
		if len(trace) != 55 || !strings.HasPrefix(trace, "00-") {
			t.Errorf("traceparent %q", trace)
		}
		fmt.Fprintf(w, "%s|%s|%s|%s|%s", r.Header.Get("Obiter-Case"), r.Header.Get("Content-Type"), r.Header.Get("Authorization"), r.UserAgent(), body)
	}, Options{Headers: [][2]string{{"Authorization", "Bearer tide"}}, Agent: "obiter/test"})
	a := s.Send(context.Background(), c)
	if want := `0123abcdef|application/json|Bearer tide|obiter/test|{"a":1}`; string(a.Body) != want || a.Status != 200 || a.Err != "" {
		t.Errorf("answer %+v %q, want %q", a, a.Body, want)
	}
}

// TestRateHoldsForAllWhoSend: with 100 a second the eighth leaves no sooner than 70 ms
// after the first, whoever sends; and an interrupt does not wait for its turn.
func TestRateHoldsForAllWhoSend(t *testing.T) {
	service := &Service{}
	var answered atomic.Int32
	s, c := sender(t, func(http.ResponseWriter, *http.Request) { answered.Add(1) }, Options{Rate: 100, Service: service})
	other, err := New(s.base, Options{Rate: 100, Service: service})
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	start := time.Now()
	var wg sync.WaitGroup
	for i := range 8 {
		wg.Go(func() {
			if a := []*Sender{s, other}[i%2].Send(context.Background(), c); a.Err != "" {
				t.Error(a.Err)
			}
		})
	}
	wg.Wait()
	if took := time.Since(start); took < 70*time.Millisecond || answered.Load() != 8 {
		t.Errorf("%d answered within %s", answered.Load(), took)
	}
	slow, c := sender(t, func(http.ResponseWriter, *http.Request) {}, Options{Rate: 0.001})
	slow.Send(context.Background(), c)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if a := slow.Send(ctx, c); a.Err != "interrupted" {
		t.Errorf("interrupted: %q", a.Err)
	}
}

// TestWhatIsPlannedIsOnTheWire: headers that Obiter or the transport would set are those
// of the case where the case is about them, as a raw connection sees them.
func TestWhatIsPlannedIsOnTheWire(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	heard := make(chan string)
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			text := make([]byte, 8<<10)
			n, _ := conn.Read(text)
			_, _ = conn.Write([]byte("HTTP/1.1 204 No Content\r\nConnection: close\r\n\r\n"))
			conn.Close()
			heard <- string(text[:n])
		}
	}()
	base := &url.URL{Scheme: "http", Host: listener.Addr().String()}
	s, err := New(base, Options{Agent: "obiter/test", Headers: [][2]string{{"X-Tenant", "north"}, {"Host", "office.harbour.example"}}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	flawed := func(name, rule string) []exchange.Flaw {
		return []exchange.Flaw{{In: "header", Pointer: "/" + name, Rule: rule}}
	}
	for _, x := range []struct {
		headers [][2]string
		flaws   []exchange.Flaw
		want    []string
		without []string
	}{
		{nil, nil, []string{"Host: office.harbour.example", "User-Agent: obiter/test", "Obiter-Case: 0123abcdef", "Traceparent: 00-", "X-Tenant: north"}, nil},
		{[][2]string{{"User-Agent", "!"}, {"Traceparent", "x"}, {"Obiter-Case", "y"}}, nil, []string{"User-Agent: !", "Traceparent: x", "Obiter-Case: y"}, []string{"Traceparent: 00", "obiter/test"}},
		{[][2]string{{"X-Tenant", "?"}}, flawed("X-Tenant", "pattern"), []string{"X-Tenant: ?"}, []string{"X-Tenant: north"}},
		{nil, flawed("X-Tenant", "required"), nil, []string{"X-Tenant"}},
		{[][2]string{{"Host", "quay.harbour.example"}}, flawed("Host", "enum"), []string{"Host: quay.harbour.example"}, []string{"office.harbour"}},
		{nil, flawed("User-Agent", "required"), nil, []string{"User-Agent"}},
		{nil, flawed("traceparent", "required"), nil, []string{"Traceparent"}},
	} {
		go s.Send(context.Background(), exchange.Case{ID: "0123abcdef", Flaws: x.flaws, Request: exchange.Request{Method: "GET", URL: base.String() + "/", Headers: x.headers}})
		text := <-heard
		for _, want := range x.want {
			if !strings.Contains(text, "\r\n"+want) {
				t.Errorf("%v: %q is not sent:\n%s", x.headers, want, text)
			}
		}
		for _, without := range x.without {
			if strings.Contains(text, without) {
				t.Errorf("%v: %q is sent:\n%s", x.headers, without, text)
			}
		}
	}
}

func TestOnlyNamedHostsAreSentTo(t *testing.T) {
	for host, ok := range map[string]bool{"127.0.0.1": true, "127.9.8.7": true, "[::1]": true, "localhost": true, "quay.localhost": true,
		"192.0.2.1": false, "harbour.example": false, "0.0.0.0": false, "10.0.0.1": false, "[2001:db8::1]": false, "127.0.0.1.example": false} {
		base, err := url.Parse("http://" + host + ":8080")
		if err != nil {
			t.Fatal(err)
		}
		_, err = New(base, Options{})
		var refused *HostError
		if ok != (err == nil) || err != nil && !errors.As(err, &refused) {
			t.Errorf("%s: %v", host, err)
		}
		if _, err := New(base, Options{AllowHosts: []string{strings.ToUpper(base.Hostname())}}); err != nil {
			t.Errorf("%s, named: %v", host, err)
		}
	}
	s, c := sender(t, func(http.ResponseWriter, *http.Request) { t.Error("a request for another host arrived") }, Options{})
	c.Request.URL = strings.Replace(c.Request.URL, "127.0.0.1", "127.0.0.2", 1)
	if a := s.Send(context.Background(), c); !strings.Contains(a.Err, "another host") {
		t.Errorf("another host than the base: %+v", a)
	}
}

// TestNamesAreCheckedWhereTheyLead: "localhost" is let through by name, so the
// address that it resolves to decides.
func TestNamesAreCheckedWhereTheyLead(t *testing.T) {
	base, _ := url.Parse("http://quay.localhost:80")
	s, err := New(base, Options{})
	if err != nil {
		t.Fatal(err)
	}
	dial := s.client.DialContext
	var refused *HostError
	if _, err := dial(context.Background(), "tcp", "192.0.2.1:80"); !errors.As(err, &refused) {
		t.Errorf("dialling another machine: %v", err)
	}
}

func TestRedirectsAreNotFollowed(t *testing.T) {
	s, c := sender(t, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/berths" {
			t.Error("the redirect was followed")
		}
		http.Redirect(w, r, "/welcome", http.StatusFound)
	}, Options{})
	if a := s.Send(context.Background(), c); a.Status != 302 || a.Header.Get("Location") != "/welcome" {
		t.Errorf("answer %+v", a)
	}
}

// A redirect to nowhere is an answer as any other.
func TestRedirectsToNowhereAreAnswers(t *testing.T) {
	for _, location := range []string{"http://[", "%zz", ""} {
		s, c := sender(t, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Location", location)
			w.WriteHeader(http.StatusFound)
		}, Options{})
		if a := s.Send(context.Background(), c); a.Status != 302 || a.Err != "" || a.Header.Get("Location") != location {
			t.Errorf("to %q: %+v", location, a)
		}
	}
}

func TestAnswersAreReadUpToACap(t *testing.T) {
	for _, c := range []struct {
		size      int
		truncated bool
	}{{100, false}, {101, true}, {5000, true}} {
		s, request := sender(t, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Encoding", "gzip")
			z := gzip.NewWriter(w)
			_, _ = io.WriteString(z, strings.Repeat("x", c.size))
			z.Close()
		}, Options{MaxBody: 100})
		a := s.Send(context.Background(), request)
		if a.Truncated != c.truncated || len(a.Body) != min(c.size, 100) || a.Err != "" {
			t.Errorf("%d bytes: %d read, truncated %v, %s", c.size, len(a.Body), a.Truncated, a.Err)
		}
	}
}

func TestDeadlineCoversTheWholeExchange(t *testing.T) {
	s, c := sender(t, func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.ReadAll(r.Body)
		w.WriteHeader(200)
		w.(http.Flusher).Flush()
		<-r.Context().Done()
	}, Options{Timeout: 50 * time.Millisecond})
	if a := s.Send(context.Background(), c); !strings.Contains(a.Err, "no complete answer within 50ms") {
		t.Errorf("answer %+v", a)
	}
}

// TestSwitchingProtocolsEnds: there is no body to be read.
func TestSwitchingProtocolsEnds(t *testing.T) {
	s, c := sender(t, func(w http.ResponseWriter, r *http.Request) {
		conn, _, err := w.(http.Hijacker).Hijack()
		if err != nil {
			t.Error(err)
			return
		}
		_, _ = conn.Write([]byte("HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: semaphore\r\n\r\n"))
		_, _ = io.ReadAll(conn)
		conn.Close()
	}, Options{Timeout: 5 * time.Second})
	if a := s.Send(context.Background(), c); a.Status != http.StatusSwitchingProtocols || a.Err != "" || len(a.Body) > 0 {
		t.Errorf("answer %+v", a)
	}
}

func TestBrokenConnections(t *testing.T) {
	s, c := sender(t, func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) }, Options{})
	if a := s.Send(context.Background(), c); !strings.Contains(a.Err, "closed before an answer") && !strings.Contains(a.Err, "reset") {
		t.Errorf("answer %+v", a)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			_, _ = conn.Read(make([]byte, 100))
			_, _ = io.WriteString(conn, "harbour says no\r\n\r\n")
			conn.Close()
		}
	}()
	base := &url.URL{Scheme: "http", Host: l.Addr().String()}
	s, err = New(base, Options{})
	if err != nil {
		t.Fatal(err)
	}
	c.Request.URL = base.String() + "/berths"
	if a := s.Send(context.Background(), c); !strings.Contains(a.Err, "malformed HTTP") {
		t.Errorf("not HTTP: %+v", a)
	}
}

// TestAStaleConnectionIsNotTheCasesFault: the service closes a connection that
// it kept open, as any may; the next request on it goes out once more.
func TestAStaleConnectionIsNotTheCasesFault(t *testing.T) {
	var requests atomic.Int32
	s, c := sender(t, func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.ReadAll(r.Body)
		if requests.Add(1) == 2 {
			panic(http.ErrAbortHandler)
		}
		_, _ = io.WriteString(w, "ok")
	}, Options{})
	for i := range 3 {
		if a := s.Send(context.Background(), c); a.Err != "" || string(a.Body) != "ok" {
			t.Errorf("request %d: %+v", i, a)
		}
	}
}

func TestRetryAfterIsWaitedFor(t *testing.T) {
	var requests atomic.Int32
	s, c := sender(t, func(w http.ResponseWriter, r *http.Request) {
		if n := requests.Add(1); n < 3 {
			w.Header().Set("Retry-After", []string{"0", time.Now().UTC().Format(http.TimeFormat)}[n%2])
			w.WriteHeader(http.StatusTooManyRequests)
		}
	}, Options{})
	if a := s.Send(context.Background(), c); a.Status != 200 || a.Err != "" {
		t.Errorf("answer %+v", a)
	}
	s, c = sender(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Retry-After", "3600")
		w.WriteHeader(http.StatusServiceUnavailable)
	}, Options{})
	if a := s.Send(context.Background(), c); a.Err != "the service is busy (503): it asks for a pause of 1h0m0s, and 15s is waited at most" {
		t.Errorf("answer %+v", a)
	}
	for _, after := range []string{"9223372036854775808", "4294967296", strings.Repeat("9", 400)} {
		s, c = sender(t, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Retry-After", after)
			w.WriteHeader(http.StatusTooManyRequests)
		}, Options{})
		if a := s.Send(context.Background(), c); a.Err != "the service is busy (429): it asks for a pause without end" {
			t.Errorf("%s: answer %+v", after, a)
		}
	}
	s, c = sender(t, func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusServiceUnavailable) }, Options{})
	if a := s.Send(context.Background(), c); a.Status != 503 || a.Err != "" {
		t.Errorf("503 without Retry-After is an answer: %+v", a)
	}
}

// TestAPauseIsShared: what several are told at the same time is waited for once, and not
// without end.
func TestAPauseIsShared(t *testing.T) {
	var p Service
	for range 8 {
		if why := p.begin(maxWasted/2, time.Hour); why != "" {
			t.Error(why)
		}
	}
	if p.spent < maxWasted/2 || p.spent > maxWasted/2+10*time.Second {
		t.Errorf("%v are spent", p.spent)
	}
	if why := p.begin(maxPauses+time.Second, time.Hour); !strings.Contains(why, "the run has waited 20s for the service in all") {
		t.Errorf("%q", why)
	}
	// Where waiting does not help, there is less of it.
	if why := p.begin(2*maxWasted, time.Hour); why != "waiting 20s for it has not helped" {
		t.Errorf("%q", why)
	}
	if p.helped(); p.begin(maxWasted, time.Hour) != "" {
		t.Error("a service that worked in between is not waited for")
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if p.over(ctx) {
		t.Error("the pause is over when the run is")
	}
}

func TestReach(t *testing.T) {
	s, _ := sender(t, func(http.ResponseWriter, *http.Request) {}, Options{})
	if err := s.Reach(context.Background()); err != nil {
		t.Error(err)
	}
	base, _ := url.Parse("http://127.0.0.1:1")
	s, err := New(base, Options{})
	if err != nil {
		t.Fatal(err)
	}
	var unreachable *UnreachableError
	if err := s.Reach(context.Background()); !errors.As(err, &unreachable) || !strings.Contains(err.Error(), "refused") {
		t.Errorf("error %v", err)
	}
}

// TestWhatIsNotSentIsNoAnswer: what fails before there is a connection says nothing of
// the service.
func TestWhatIsNotSentIsNoAnswer(t *testing.T) {
	s, c := sender(t, func(w http.ResponseWriter, r *http.Request) {
		if hijacked, ok := w.(http.Hijacker); ok && r.URL.Path == "/drop" {
			conn, _, _ := hijacked.Hijack()
			conn.Close()
		}
	}, Options{Timeout: 2 * time.Second})
	bad := c
	bad.Request.Headers = [][2]string{{"X-Flag", "a\nb"}}
	other := c
	other.Request.URL = "http://127.0.0.1:1/x"
	dropped := c
	dropped.Request.URL = strings.Replace(c.Request.URL, "/berths", "/drop", 1)
	for name, x := range map[string]struct {
		c       exchange.Case
		notSent bool
	}{"sound": {c, false}, "a header that cannot be written": {bad, true}, "another address": {other, true}, "a connection that is dropped": {dropped, false}} {
		if a := s.Send(context.Background(), x.c); a.NotSent != x.notSent || x.notSent && a.Err == "" {
			t.Errorf("%s: %+v", name, a)
		}
	}
	base := &url.URL{Scheme: "http", Host: "127.0.0.1:1"}
	nobody, err := New(base, Options{})
	if err != nil {
		t.Fatal(err)
	}
	c.Request.URL = base.String()
	if a := nobody.Send(context.Background(), c); !a.NotSent || !a.Refused {
		t.Errorf("nobody listens: %+v", a)
	}
}

// TestBothVersionsOfHTTPAreSpoken: under TLS the better one is agreed on; without, a
// service that only speaks the second is answered in it. One that speaks neither has no
// answer.
func TestBothVersionsOfHTTPAreSpoken(t *testing.T) {
	handler := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/drop":
			panic(http.ErrAbortHandler)
		case "/late":
			time.Sleep(time.Second)
		}
		body, _ := io.ReadAll(r.Body)
		fmt.Fprintf(w, "%d %s %s", r.ProtoMajor, r.Header.Get("Obiter-Case"), body)
	})
	for name, x := range map[string]struct {
		secure, one, two bool
		want             string
	}{"both, secure": {true, true, true, "2"}, "the second, secure": {true, false, true, "2"}, "the first, secure": {true, true, false, "1"},
		"the first": {false, true, false, "1"}, "both": {false, true, true, "1"}, "the second": {false, false, true, "2"}} {
		server := httptest.NewUnstartedServer(handler)
		server.Config.ErrorLog = log.New(io.Discard, "", 0)
		server.Config.Protocols = &http.Protocols{}
		server.Config.Protocols.SetHTTP1(x.one)
		opt := Options{Timeout: 500 * time.Millisecond}
		if x.secure {
			server.Config.Protocols.SetHTTP2(x.two)
			server.EnableHTTP2 = x.two
			server.StartTLS()
			opt.TLS = &tls.Config{InsecureSkipVerify: true}
		} else {
			server.Config.Protocols.SetUnencryptedHTTP2(x.two)
			server.Start()
		}
		base, err := url.Parse(server.URL)
		if err != nil {
			t.Fatal(err)
		}
		s, err := New(base, opt)
		if err != nil {
			t.Fatal(err)
		}
		if err := s.Reach(context.Background()); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		c := exchange.Case{ID: "0123abcdef", Request: exchange.Request{Method: "POST", URL: server.URL + "/x", Body: []byte("{}")}}
		for range 2 {
			if a := s.Send(context.Background(), c); string(a.Body) != x.want+" 0123abcdef {}" {
				t.Errorf("%s: %+v %s", name, a, a.Body)
			}
		}
		c.Request.URL = server.URL + "/drop"
		if a := s.Send(context.Background(), c); a.Err == "" || !a.ClosedEarly || a.NotSent {
			t.Errorf("%s: dropped: %+v", name, a)
		}
		c.Request.URL = server.URL + "/late"
		if a := s.Send(context.Background(), c); !a.Late {
			t.Errorf("%s: late: %+v", name, a)
		}
		s.Close()
		server.CloseClientConnections()
		server.Close()
	}
	s, c := sender(t, func(w http.ResponseWriter, r *http.Request) {
		conn, _, _ := w.(http.Hijacker).Hijack()
		_, _ = conn.Write([]byte("ahoy\r\n\r\n"))
		conn.Close()
	}, Options{})
	if a := s.Send(context.Background(), c); !strings.Contains(a.Err, "malformed HTTP") || a.NotSent {
		t.Errorf("no HTTP: %+v", a)
	}
}
