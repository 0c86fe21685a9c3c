// Package hostile is a service that misbehaves, for tests: it breaks HTTP, JSON, XML and
// every promise about size, time and order, one way at a time.
package hostile

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"
	"unicode/utf8"
)

// Description is what the service claims to be.
const Description = `
openapi: 3.1.0
info: { title: Hostile, version: '1' }
paths:
  /marks:
    get: { parameters: [{ name: limit, in: query, schema: { type: integer, minimum: 1, maximum: 9 } }], responses: { '200': { description: all }, 4XX: { description: refused } } }
    post:
      requestBody: { required: true, content: { application/json: { schema: { $ref: '#/components/schemas/Mark' } } } }
      responses: { '201': { description: made }, 4XX: { description: refused } }
  /marks/{id}:
    parameters: [{ name: id, in: path, required: true, schema: { type: string } }]
    get: { responses: { '200': { description: one }, 4XX: { description: refused } } }
    delete: { responses: { '204': { description: gone }, 4XX: { description: refused } } }
components: { schemas: { Mark: { type: object, required: [name], properties: { name: { type: string, minLength: 2, maxLength: 9, examples: [north] }, depth: { type: integer, minimum: 1, maximum: 9 } } } } }
`

// Service misbehaves in one way. Requests that obey the description are answered as they
// should be, unless the way is one of all answers.
type Service struct {
	way       Way
	elsewhere string // an address that nothing may be sent to
	listener  net.Listener
	open      sync.WaitGroup
	mu        sync.Mutex
	conns     map[net.Conn]bool
	ended     bool
}

// Way is one way to misbehave.
type Way struct {
	Name   string
	All    bool // valid requests are answered so, too
	Answer func(c *Call)
}

// Call is a request with the connection that it came on.
type Call struct {
	net.Conn
	Request   *http.Request // nil: it was not read
	Body      []byte
	Elsewhere string
}

// Serve begins to misbehave, at the address that it gives, until end is called.
func Serve(way Way, elsewhere string) (address string, end func(), err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	s := &Service{way: way, elsewhere: elsewhere, listener: l, conns: map[net.Conn]bool{}}
	s.open.Add(1)
	go s.accept()
	return "http://" + l.Addr().String(), s.end, nil
}

func (s *Service) end() {
	s.mu.Lock()
	s.ended = true
	_ = s.listener.Close()
	for c := range s.conns {
		_ = c.Close()
	}
	s.mu.Unlock()
	s.open.Wait()
}

func (s *Service) accept() {
	defer s.open.Done()
	for {
		c, err := s.listener.Accept()
		if err != nil {
			return
		}
		s.mu.Lock()
		if s.ended {
			c.Close()
		} else {
			s.conns[c] = true
			s.open.Add(1)
			go s.talk(c)
		}
		s.mu.Unlock()
	}
}

func (s *Service) talk(c net.Conn) {
	defer s.open.Done()
	defer func() {
		c.Close()
		s.mu.Lock()
		delete(s.conns, c)
		s.mu.Unlock()
	}()
	r := bufio.NewReader(c)
	for {
		_ = c.SetDeadline(time.Now().Add(time.Minute))
		if first, err := r.Peek(1); err != nil || len(first) == 0 {
			return
		}
		request, err := http.ReadRequest(r)
		if err != nil {
			return
		}
		body, err := io.ReadAll(io.LimitReader(request.Body, 64<<20))
		if err != nil {
			return
		}
		call := &Call{c, request, body, s.elsewhere}
		if !s.way.All && obeys(request, body) {
			call.right()
			continue
		}
		s.way.Answer(call)
		return
	}
}

// obeys reports whether a request is one that the description allows.
func obeys(r *http.Request, body []byte) bool {
	if r.URL.Path != "/marks" {
		return strings.HasPrefix(r.URL.Path, "/marks/m-") && (r.Method == http.MethodGet || r.Method == http.MethodDelete) && len(body) == 0
	}
	if r.Method == http.MethodGet {
		limit := r.URL.Query().Get("limit")
		return r.URL.RawQuery == "" || len(limit) == 1 && limit >= "1" && limit <= "9"
	}
	var mark struct {
		Name  *string
		Depth *int
	}
	err := json.Unmarshal(body, &mark)
	return r.Method == http.MethodPost && r.Header.Get("Content-Type") == "application/json" && err == nil && mark.Name != nil &&
		utf8.RuneCountInString(*mark.Name) >= 2 && utf8.RuneCountInString(*mark.Name) <= 9 && (mark.Depth == nil || *mark.Depth >= 1 && *mark.Depth <= 9)
}

func (c *Call) right() {
	switch {
	case c.Request.Method == http.MethodPost:
		c.say(201, "application/json", `{"id":"m-1","name":"north"}`)
	case c.Request.Method == http.MethodDelete:
		c.write("HTTP/1.1 204 No Content\r\n\r\n")
	case c.Request.URL.Path == "/marks":
		c.say(200, "application/json", `[]`)
	default:
		c.say(200, "application/json", `{"id":"m-1","name":"north"}`)
	}
}

func (c *Call) write(text string) { _, _ = io.WriteString(c, text) }

// say writes a whole answer.
func (c *Call) say(status int, media, body string, headers ...string) {
	c.write(fmt.Sprintf("HTTP/1.1 %d Such\r\nContent-Type: %s\r\nContent-Length: %d\r\n", status, media, len(body)))
	for _, h := range headers {
		c.write(h + "\r\n")
	}
	c.write("\r\n" + body)
}

// problem writes a rejection whose document has a member more.
func (c *Call) problem(more string) {
	c.say(422, "application/problem+json", `{"type":"https://harbour.example/invalid","title":"Invalid","status":422,"errors":[{"pointer":"#/name","detail":"is wrong"}]`+more+"}")
}

// forever writes a text until nobody reads it any more.
func (c *Call) forever(text string, pause time.Duration) {
	for {
		if _, err := io.WriteString(c, text); err != nil {
			return
		}
		time.Sleep(pause)
	}
}

// hang reads on until the other side gives up.
func (c *Call) hang() { _, _ = io.Copy(io.Discard, c.Conn) }

func zipped(text []byte) string {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, _ = w.Write(text)
	_ = w.Close()
	return b.String()
}

// bomb is a gzip stream that comes to a gigabyte of spaces.
func bomb() string {
	var b bytes.Buffer
	w, _ := gzip.NewWriterLevel(&b, gzip.BestCompression)
	block := bytes.Repeat([]byte(" "), 1<<20)
	for range 1 << 10 {
		_, _ = w.Write(block)
	}
	_ = w.Close()
	return b.String()
}
