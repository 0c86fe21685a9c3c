// Package send sends cases over HTTP and brings back answers. It refuses hosts
// that are neither loopback nor named by the user, follows no redirect, reads
// answers up to a cap, and keeps one deadline over each whole exchange. Every
// request carries the case's id (Obiter-Case) and a W3C Trace Context
// traceparent, so that its line in the service's log can be found.
package send

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/url"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"obiter/internal/core/exchange"
)

// Options of a Sender. Zero values mean the defaults.
type Options struct {
	Timeout    time.Duration // of one exchange, body included; default 10 s
	MaxBody    int64         // bytes of an answer that are read; default 1 MiB
	AllowHosts []string      // hosts other than loopback
	Headers    [][2]string   // added to every request, and never recorded
	// Credentials are the values of security schemes by name: a token, a key, or
	// for basic "name:password". Never recorded.
	Credentials map[string]string
	TLS         *tls.Config   // nil: the machine's own trust
	Agent       string        // the User-Agent
	RunID       string        // makes trace ids differ between runs
	Patience    time.Duration // how long 429 and 503 with Retry-After are waited for; default 15 s
	// Rate is how many requests are sent a second at most, whoever sends them to the
	// service; 0: as fast as it answers.
	Rate float64
	// Parallel is how many requests are in flight at most, whoever sends them; 0: any number.
	Parallel int
	// Slower is told once, in words, that the service slows down under the load, and that
	// fewer requests are in flight from then on; may be nil.
	Slower func(text string)
	// Dial makes connections in place of the network's; nil: the network's are made.
	Dial    func(ctx context.Context, network, address string) (net.Conn, error)
	Service *Service // shared by all who send to the service; nil: one of its own
}

// Sender sends requests to one service. It is safe for concurrent use.
type Sender struct {
	opt       Options
	base      *url.URL
	client    *http.Transport
	freshConn *http.Transport // for a second try, on a connection of its own
	h2c       *http.Transport // speaks HTTP/2 without TLS, and takes for granted that the service does (RFC 9113, section 3.3)

	addresses *addresses
	lane      *Lane // of its requests; may be nil
}

// HostError is a host that is not sent to: these requests try to store rubbish.
type HostError struct{ Host string }

func (e *HostError) Error() string {
	return fmt.Sprintf("Obiter only sends to this machine, and %s is another host", e.Host)
}

// UnreachableError says that nothing answers at the address.
type UnreachableError struct {
	Address string
	Cause   string
}

func (e *UnreachableError) Error() string {
	return fmt.Sprintf("nothing answers at %s: %s", e.Address, e.Cause)
}

// New makes a Sender for the service at base.
func New(base *url.URL, opt Options) (*Sender, error) {
	if opt.Timeout <= 0 {
		opt.Timeout = 10 * time.Second
	}
	if opt.Service == nil {
		opt.Service = &Service{}
	}
	opt.Service.limit(opt)
	if opt.MaxBody <= 0 {
		opt.MaxBody = 1 << 20
	}
	if opt.Patience <= 0 {
		opt.Patience = 15 * time.Second
	}
	s := &Sender{opt: opt, base: base, addresses: newAddresses()}
	if !s.allowed(base.Hostname()) {
		return nil, &HostError{base.Hostname()}
	}
	s.client, s.freshConn, s.h2c = s.newTransport(), s.newTransport(), s.newTransport()
	s.freshConn.DisableKeepAlives = true
	two := &http.Protocols{}
	two.SetUnencryptedHTTP2(true)
	s.h2c.Protocols = two
	return s, nil
}

func (s *Sender) allowed(host string) bool {
	if slices.ContainsFunc(s.opt.AllowHosts, func(h string) bool { return strings.EqualFold(h, host) }) {
		return true
	}
	if strings.EqualFold(host, "localhost") || strings.HasSuffix(strings.ToLower(host), ".localhost") {
		return true // what it resolves to is looked at when dialling
	}
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback()
}

func (s *Sender) newTransport() *http.Transport {
	either := &http.Protocols{}
	either.SetHTTP1(true)
	either.SetHTTP2(true) // which is agreed on under TLS (RFC 9113, section 3.2)
	named := slices.ContainsFunc(s.opt.AllowHosts, func(h string) bool { return strings.EqualFold(h, s.base.Hostname()) })
	dialer := &net.Dialer{Timeout: s.opt.Timeout, Control: func(_, address string, _ syscall.RawConn) error {
		host, _, err := net.SplitHostPort(address)
		if ip := net.ParseIP(host); err == nil && !named && (ip == nil || !ip.IsLoopback()) {
			return &HostError{host}
		}
		return nil
	}}
	dial := dialer.DialContext
	if s.opt.Dial != nil {
		dial = s.opt.Dial
	}
	return &http.Transport{
		DialContext: patient(dial, s.opt.Timeout/2), MaxIdleConnsPerHost: 256, MaxResponseHeaderBytes: 64 << 10,
		Protocols: either, IdleConnTimeout: 30 * time.Second, TLSClientConfig: s.opt.TLS,
	}
}

// patient dials again where this machine has no room for a connection at the moment: one
// that is open will end, or be free to be used again.
func patient(dial func(context.Context, string, string) (net.Conn, error), most time.Duration) func(context.Context, string, string) (net.Conn, error) {
	const pause = 20 * time.Millisecond
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		deadline := time.Now().Add(most)
		for {
			conn, err := dial(ctx, network, address)
			if err == nil || !exhausted(err) || time.Now().Add(pause).After(deadline) {
				return conn, err
			}
			select {
			case <-ctx.Done():
				return nil, err
			case <-time.After(pause):
			}
		}
	}
}

// exhausted reports whether this machine, and not the service, is what has no room.
func exhausted(err error) bool {
	return slices.ContainsFunc([]error{syscall.EMFILE, syscall.ENFILE, syscall.ENOBUFS, syscall.EADDRNOTAVAIL}, func(e error) bool { return errors.Is(err, e) })
}

// Reach opens and closes a connection, to tell a wrong address from a wrong answer.
func (s *Sender) Reach(ctx context.Context) error {
	port := s.base.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[s.base.Scheme]
	}
	ctx, cancel := context.WithTimeout(ctx, s.opt.Timeout)
	defer cancel()
	conn, err := s.client.DialContext(ctx, "tcp", net.JoinHostPort(s.base.Hostname(), port))
	if err != nil {
		var host *HostError
		if errors.As(err, &host) {
			return host
		}
		if exhausted(err) { // this machine has no room: nothing is known of the service
			return nil
		}
		return &UnreachableError{s.base.String(), plain(err)}
	}
	defer conn.Close()
	if s.base.Scheme != "https" {
		return nil
	}
	trust := &tls.Config{}
	if s.opt.TLS != nil {
		trust = s.opt.TLS.Clone()
	}
	trust.ServerName = s.base.Hostname()
	if err := tls.Client(conn, trust).HandshakeContext(ctx); err != nil {
		return &TrustError{s.base.String(), strings.TrimPrefix(err.Error(), "tls: ")}
	}
	return nil
}

// TrustError says that no connection under TLS comes about.
type TrustError struct {
	Address string
	Cause   string
}

func (e *TrustError) Error() string {
	return fmt.Sprintf("no secure connection to %s: %s", e.Address, e.Cause)
}

// Send sends one case. An answer always comes back; its Err says why none did. What a busy
// service sent away (429, 503) is sent again after the pause that it asks for, with nothing else
// in flight. The case's address must lie under the Sender's base.
func (s *Sender) Send(ctx context.Context, c exchange.Case) exchange.Answer {
	service := s.opt.Service
	deadline := time.Now().Add(s.opt.Patience)
	for waited := false; ; waited = true {
		if !service.over(ctx) || ctx.Err() != nil {
			return exchange.Answer{Err: "interrupted", NotSent: true}
		}
		a, sent := s.admitted(ctx, &c, waited)
		if !sent {
			return exchange.Answer{Err: "interrupted", NotSent: true}
		}
		wait, ok := retryAfter(a)
		if !ok {
			service.limiter.observe(&c, &a)
			if waited && a.Err == "" {
				service.helped()
			}
			return a
		}
		why := service.begin(wait, s.opt.Patience)
		if why == "" && time.Now().Add(wait).After(deadline) {
			why = "it still was after each pause"
		}
		if why != "" {
			a.Err = fmt.Sprintf("the service is busy (%d): %s", a.Status, why)
			return a
		}
		service.limiter.busy(wait)
	}
}

// admitted sends a case when there is room for it; or, alone, when nothing else is in flight.
// False where the context ended before.
func (s *Sender) admitted(ctx context.Context, c *exchange.Case, alone bool) (a exchange.Answer, sent bool) {
	lane := s.lane
	if alone {
		own, release := lane.alone(ctx)
		defer release()
		lane = own
	}
	leave, err := s.opt.Service.limiter.acquire(ctx, lane)
	if err != nil {
		return a, false
	}
	a = s.inFlight(ctx, c)
	leave()
	runtime.Gosched() // the next one is sent before this one is judged
	return a, true
}

// inFlight sends a case that an interrupt lets end.
func (s *Sender) inFlight(ctx context.Context, c *exchange.Case) exchange.Answer {
	graces := &s.opt.Service.graces
	in := graces.enter(ctx)
	defer graces.leave(in)
	return s.once(in.flight, c)
}

// failed says in an answer why there is none.
func (s *Sender) failed(ctx context.Context, a *exchange.Answer, err error, connected bool) {
	switch {
	case ctx.Err() != nil:
		a.Err = "interrupted"
	case errors.Is(err, context.DeadlineExceeded):
		a.Err, a.Late, a.NotSent = fmt.Sprintf("no complete answer within %s", s.opt.Timeout), true, !connected
		if a.NotSent {
			a.Err = fmt.Sprintf("no connection within %s", s.opt.Timeout)
		}
	default:
		a.Err, a.NotSent = plain(err), !connected
		a.Refused = errors.Is(err, syscall.ECONNREFUSED)
		a.ClosedEarly = streamEnded.MatchString(a.Err) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE) || errors.Is(err, io.EOF)
	}
}

func (s *Sender) once(ctx context.Context, c *exchange.Case) exchange.Answer {
	reused, connected := false, false
	trace := &httptrace.ClientTrace{GotConn: func(i httptrace.GotConnInfo) { reused, connected = i.Reused, true }}
	client, fresh := s.client, s.freshConn
	if s.opt.Service.h2c.Load() {
		client, fresh = s.h2c, s.h2c
	}
	a, err := s.exchange(httptrace.WithClientTrace(ctx, trace), client, c)
	if err == nil {
		s.opt.Service.answers.Store(true)
	} else if connected && ctx.Err() == nil && !errors.Is(err, context.DeadlineExceeded) && s.base.Scheme == "http" && !s.opt.Service.answers.Load() {
		if again, e := s.exchange(ctx, s.h2c, c); e == nil {
			s.opt.Service.h2c.Store(true)
			s.opt.Service.answers.Store(true)
			return again
		}
	}
	if err != nil && reused && ctx.Err() == nil && !errors.Is(err, context.DeadlineExceeded) {
		// The service may have closed an idle connection, or one that an earlier
		// request broke. That is not this case's doing.
		if again, e := s.exchange(ctx, fresh, c); !errors.Is(e, syscall.ECONNREFUSED) {
			a, err = again, e // a service that is gone by now went when it was first asked
		}
	}
	if err != nil {
		s.failed(ctx, &a, err, connected)
	}
	return a
}

// streamEnded matches what tells of an exchange that the service ended in HTTP/2.
var streamEnded = regexp.MustCompile(`^http2: |^stream error: |GOAWAY`)

func (s *Sender) exchange(ctx context.Context, client *http.Transport, c *exchange.Case) (a exchange.Answer, err error) {
	if err := s.opt.Service.turn(ctx); err != nil {
		return exchange.Answer{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, s.opt.Timeout)
	defer cancel()
	var body io.Reader
	if len(c.Request.Body) > 0 {
		body = bytes.NewReader(c.Request.Body)
	}
	address := s.addresses.of(c.Request.URL)
	text := ""
	if address == nil { // else it need not be read again
		text = c.Request.URL
	}
	req, err := http.NewRequestWithContext(ctx, c.Request.Method, text, body)
	if err != nil {
		return exchange.Answer{}, err
	}
	if address == nil {
		s.addresses.keep(c.Request.URL, req.URL)
	} else {
		req.URL, req.Host = address, address.Host
	}
	if req.URL.Host != s.base.Host {
		return exchange.Answer{}, &HostError{req.URL.Host}
	}
	s.dress(req, c)
	start := time.Now()
	defer func() { a.Sent = start.UTC().Truncate(time.Millisecond) }()
	res, err := client.RoundTrip(req) // redirects are not followed
	if err != nil {
		return exchange.Answer{Took: since(start)}, err
	}
	defer res.Body.Close()
	if res.StatusCode == http.StatusSwitchingProtocols { // what follows is no HTTP, and has no end
		return exchange.Answer{Status: res.StatusCode, Header: res.Header, Took: since(start)}, nil
	}
	data, err := s.read(res)
	a = exchange.Answer{Status: res.StatusCode, Header: res.Header, Body: data, Took: since(start)}
	if int64(len(data)) > s.opt.MaxBody {
		a.Body, a.Truncated = data[:s.opt.MaxBody], true
	}
	return a.Once(), err
}

// read reads a body, and no more of it than one byte over the limit.
func (s *Sender) read(res *http.Response) ([]byte, error) {
	if res.ContentLength < 0 || res.ContentLength > s.opt.MaxBody {
		return io.ReadAll(io.LimitReader(res.Body, s.opt.MaxBody+1))
	}
	data := make([]byte, res.ContentLength+1) // the end shows only to who reads past it
	n, err := io.ReadFull(res.Body, data)
	if int64(n) == res.ContentLength || err == io.EOF { // an answer to HEAD has no body
		err = nil
	}
	return data[:n], err
}

// since is rounded as run files are, so that what was measured can be read again.
func since(start time.Time) time.Duration { return time.Since(start).Round(time.Microsecond) }

// Trace is the trace id of a case in a run, as its traceparent has it (W3C Trace Context,
// section 3.2.2.3).
func Trace(runID, id string) string {
	sum := traced(runID, id)
	return hex.EncodeToString(sum[:16])
}

func traced(runID, id string) [sha256.Size]byte { return sha256.Sum256([]byte(runID + id)) }

func (s *Sender) dress(req *http.Request, c *exchange.Case) {
	req.Header = make(http.Header, len(c.Request.Headers)+len(s.opt.Headers)+3)
	for _, h := range c.Request.Headers {
		req.Header.Add(h[0], h[1])
	}
	for _, h := range s.opt.Headers {
		if !isAbout(c, h[0]) {
			req.Header.Set(h[0], h[1])
		}
	}
	s.authorise(req, c.Credentials)
	sum := traced(s.opt.RunID, c.ID)
	for _, own := range [][2]string{{"User-Agent", s.opt.Agent}, {"Obiter-Case", c.ID}, {"Traceparent", "00-" + hex.EncodeToString(sum[:16]) + "-" + hex.EncodeToString(sum[16:24]) + "-01"}} {
		switch _, has := req.Header[own[0]]; {
		case has: // the case, or the command line, says something else
		case !isAbout(c, own[0]):
			req.Header.Set(own[0], own[1])
		case own[0] == "User-Agent":
			req.Header.Set(own[0], "") // left out: else there would be the transport's
		}
	}
	if host := req.Header.Get("Host"); host != "" {
		req.Host = host
		req.Header.Del("Host")
	}
}

// isAbout reports whether a header is what is wrong with a case, or at its boundary: then
// nothing is put in its place.
func isAbout(c *exchange.Case, header string) bool {
	about := func(f exchange.Flaw) bool {
		return f.In == "header" && strings.EqualFold(strings.TrimPrefix(f.Pointer, "/"), header)
	}
	return c.Edge != nil && about(*c.Edge) || slices.ContainsFunc(c.Flaws, about)
}

// plain is the cause of a network error without address and method, which are known.
func plain(err error) string {
	var ue *url.Error
	if errors.As(err, &ue) {
		err = ue.Err
	}
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		return "the connection is refused"
	case errors.Is(err, syscall.ECONNRESET):
		return "the connection was reset before an answer came"
	case errors.Is(err, syscall.EMFILE), errors.Is(err, syscall.ENFILE):
		return "this machine allows no more open connections (ulimit -n); a smaller --parallel needs fewer"
	case exhausted(err):
		return "this machine has no room for another connection; a smaller --parallel needs fewer"
	case errors.Is(err, io.ErrUnexpectedEOF):
		return "the connection was closed in the middle of the answer"
	case errors.Is(err, io.EOF):
		return "the connection was closed before an answer came"
	}
	var dns *net.DNSError
	if errors.As(err, &dns) {
		return "the name " + dns.Name + " is not known"
	}
	return strings.TrimPrefix(err.Error(), "net/http: ")
}

// With is a Sender to the same service, over the same connections, with other headers and
// credentials.
func (s *Sender) With(headers [][2]string, credentials map[string]string) *Sender {
	out := *s
	out.opt.Headers, out.opt.Credentials = headers, credentials
	return &out
}

// In is a Sender whose requests go in a lane.
func (s *Sender) In(lane *Lane) *Sender {
	out := *s
	out.lane = lane
	return &out
}

// Close drops idle connections.
func (s *Sender) Close() {
	s.client.CloseIdleConnections()
	s.h2c.CloseIdleConnections()
}
