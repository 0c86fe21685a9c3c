// Package exchange holds what passes between Obiter and a service: the case
// (one request, its flaws, what is expected), and the answer it got. It is the
// vocabulary that planning, sending, judging and run files share; its JSON form
// is the case line of the formats.
package exchange

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"math"
	"net/http"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"obiter/internal/core/instance"
)

// Kind is the sort of a case.
type Kind string

// The kinds: a request that must be accepted, one on a boundary that must be
// too, and one that must be rejected.
const (
	Control Kind = "control"
	Edge    Kind = "edge"
	Flawed  Kind = "flawed"
)

// Class is the sort of answer expected; it decides which statuses are right.
type Class string

// The classes.
const (
	Accepted     Class = "accepted"
	Syntax       Class = "syntax"
	Type         Class = "type"
	Constraint   Class = "constraint"
	UnknownField Class = "unknown-field"
	EmptyBody    Class = "empty-body"
	MediaType    Class = "media-type"
	Method       Class = "method"

	UntypedBody   Class = "untyped-body"
	ContentCoding Class = "content-coding"
	NotAcceptable Class = "not-acceptable"
	NotFound      Class = "not-found"
	TooLarge      Class = "too-large"
	Reference     Class = "reference" // names something that is not there
	Duplicate     Class = "duplicate" // a value that must be unique is taken
	Unauthorized  Class = "credentials"
	Forbidden     Class = "forbidden" // valid credentials that lack the right
	Malformed     Class = "malformed-credentials"

	Parameter     Class = "parameter"
	PathParameter Class = "path-parameter"

	// Ignorable is for what a standard tells a service to ignore if it is wrong, as
	// conditional requests and preferences.
	Ignorable Class = "ignorable"

	// Either is for what the standards leave open: a success is right too, but no
	// failure, and a rejection has the form of all others.
	Either Class = "either"
)

// Statuses are the codes that are right for a class of rejection; nil for
// Accepted, where any 2xx is. 422 is for content that parses (RFC 9110,
// section 15.5.21), so a syntax error is 400.
func (c Class) Statuses() []int {
	switch c {
	case Syntax:
		return []int{http.StatusBadRequest}
	case Type, Constraint, UnknownField, EmptyBody, Parameter:
		return []int{http.StatusBadRequest, http.StatusUnprocessableEntity}
	case PathParameter: // there may be nothing at such an address
		return []int{http.StatusBadRequest, http.StatusUnprocessableEntity, http.StatusNotFound}
	case MediaType:
		return []int{http.StatusUnsupportedMediaType}
	case UntypedBody, Either:
		return []int{http.StatusBadRequest, http.StatusUnsupportedMediaType, http.StatusUnprocessableEntity}
	case Ignorable: // RFC 9110, sections 13.1 and 14.2; RFC 7240, section 2
		return []int{http.StatusBadRequest, http.StatusPreconditionFailed, http.StatusRequestedRangeNotSatisfiable, http.StatusUnprocessableEntity, http.StatusNotAcceptable}
	case ContentCoding: // RFC 9110, section 15.5.16
		return []int{http.StatusUnsupportedMediaType, http.StatusBadRequest}
	case NotAcceptable: // or what else is wrong with the request (RFC 9110, section 12.4.1)
		return []int{http.StatusNotAcceptable, http.StatusBadRequest, http.StatusUnprocessableEntity}
	case NotFound: // 403 hides what is there (RFC 9110, section 15.5.4)
		return []int{http.StatusNotFound, http.StatusGone, http.StatusForbidden}
	case Reference:
		return []int{http.StatusUnprocessableEntity, http.StatusBadRequest, http.StatusNotFound, http.StatusConflict}
	case Duplicate:
		return []int{http.StatusConflict, http.StatusBadRequest, http.StatusUnprocessableEntity}
	case Unauthorized:
		return []int{http.StatusUnauthorized}
	case Forbidden: // 404 hides what is there (RFC 9110, section 15.5.4)
		return []int{http.StatusForbidden, http.StatusNotFound}
	case Malformed: // invalid_request (RFC 6750, section 3.1)
		return []int{http.StatusUnauthorized, http.StatusBadRequest}
	case TooLarge:
		return []int{http.StatusRequestEntityTooLarge, http.StatusBadRequest, http.StatusUnprocessableEntity}
	case Method:
		return []int{http.StatusMethodNotAllowed}
	}
	return nil
}

// SuccessIsRight reports whether a 2xx is right too for a request of the class.
func (c Class) SuccessIsRight() bool { return c == Accepted || c == Either || c == Ignorable }

// Request is what is sent.
type Request struct {
	Method  string
	URL     string
	Headers [][2]string
	Body    []byte
}

// RequestText is a Request as it is written.
type RequestText struct {
	Method     string      `json:"method"`
	URL        string      `json:"url"`
	Headers    [][2]string `json:"headers"`
	Body       *string     `json:"body,omitempty"`
	BodyBase64 *string     `json:"bodyBase64,omitempty"`
}

// MarshalJSON writes the body as text where it is UTF-8, else as base64.
func (r Request) MarshalJSON() ([]byte, error) { return instance.Marshal(r.Text()) }

// Text is the request as it is written.
func (r Request) Text() RequestText {
	out := RequestText{Method: r.Method, URL: r.URL, Headers: r.Headers}
	out.Body, out.BodyBase64 = textOrBase64(r.Body)
	return out
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (r *Request) UnmarshalJSON(data []byte) error {
	var in RequestText
	err := json.Unmarshal(data, &in)
	if err == nil {
		*r, err = in.Request()
	}
	return err
}

// Request is what was written; the error is one of its body's base64.
func (t RequestText) Request() (Request, error) {
	body, err := bytesOf(t.Body, t.BodyBase64)
	return Request{Method: t.Method, URL: t.URL, Headers: t.Headers, Body: body}, err
}

// Header is the value of a request header, its name in any case.
func (r Request) Header(name string) string {
	for _, h := range r.Headers {
		if strings.EqualFold(h[0], name) {
			return h[1]
		}
	}
	return ""
}

// MediaTypeOf is a media type without its parameters, in lower case; "" where the
// text names none.
func MediaTypeOf(text string) string {
	t, _, _ := strings.Cut(text, ";") // whatever is wrong with what follows
	return strings.TrimSpace(strings.ToLower(t))
}

// JSONPatch is the media type of a list of changes (RFC 6902), which is JSON.
const JSONPatch = "application/json-patch+json"

// IsJSON reports whether a media type is JSON: application/json, or a type with
// the suffix +json (RFC 6839, section 3.1). JSON Patch (RFC 6902) is left out:
// its bodies are programs, not fields.
func IsJSON(mediaType string) bool {
	t := MediaTypeOf(mediaType)
	return t == "application/json" || t == "text/json" || strings.HasSuffix(t, "+json") && t != JSONPatch
}

// Covers reports whether a media type, which may be a range, is or contains another.
func Covers(described, sent string) bool {
	kind, _, _ := strings.Cut(sent, "/")
	return described == sent || described == "*/*" || described == kind+"/*"
}

// Expect is what the answer should be.
type Expect struct {
	Class    Class  `json:"class"`
	Statuses []int  `json:"statuses"`
	Says     string `json:"says,omitempty"` // a regular expression (RE2) that the message has to match
	Rare     bool   `json:"rare,omitempty"` // of an edge: its value is right and seldom met, so that a refusal is worth a warning
}

// Credential is what a request is authorised with. Its value is known to the
// sender alone.
type Credential struct {
	Scheme string `json:"scheme"`         // its name in the description
	Kind   string `json:"kind"`           // basic, bearer or apiKey
	In     string `json:"in"`             // header, query or cookie
	Name   string `json:"name"`           // of the header, parameter or cookie
	Flaw   string `json:"flaw,omitempty"` // missing, malformed, wrong, or lesser: valid, and without the right
	For    string `json:"for,omitempty"`  // the operation that has a value of its own; empty: the common one
}

// Lesser is the flaw of credentials that are valid and lack the right.
const Lesser = "lesser"

// Key is what a sender knows the credential's value by.
func (c Credential) Key() string {
	if c.Flaw == Lesser {
		return c.Scheme + " of " + Lesser
	}
	if c.For == "" {
		return c.Scheme
	}
	return c.Scheme + " for " + c.For
}

// Case is one request with its flaws, none for a control or an edge. What has no
// name in JSON is in a run file and not in a list of cases (see Exchange).
type Case struct {
	ID          string  `json:"case"` // ten hexadecimal digits
	Name        string  `json:"name"`
	Operation   string  `json:"operation"` // "POST /vessels"
	OperationID string  `json:"operationId,omitempty"`
	Kind        Kind    `json:"kind"`
	Request     Request `json:"request"`
	Flaws       []Flaw  `json:"flaws"`
	Edge        *Flaw   `json:"edge,omitempty"` // of an edge: its field and boundary
	Expect      Expect  `json:"expect"`
	// Credentials are put into the request when it is sent.
	Credentials []Credential `json:"credentials,omitempty"`
	// MayBlame are fields that an answer may blame as well: a flaw breaks a
	// business rule that is about them.
	MayBlame []string `json:"mayBlame,omitempty"`
	// LeavesOut are the optional members, in words, without which a control that was
	// refused is accepted.
	LeavesOut []string `json:"leavesOut,omitempty"`
	// Unchecked are the fields of a control, in words, whose values may break a pattern or
	// a format that could not be checked.
	Unchecked []string `json:"unchecked,omitempty"`
	// MadeBy are the operations that made the records which its address and its body
	// name; they are deleted again.
	MadeBy []string `json:"madeBy,omitempty"`

	// Renews are the fields of the body that had a new value when the case was sent.
	Renews []string `json:"renews,omitempty"`

	// Captured says that somebody else sent it: it stands for what it holds, and not for
	// what was to be tried.
	Captured bool `json:"captured,omitempty"`

	Number int `json:"-"` // place in the plan, from 1
	// ProvenBy is the operation whose control that is; of the operation's own cases:
	// itself.
	ProvenBy string `json:"-"`
	Base     string `json:"-"` // the shape of the control that must be accepted for the case to prove anything; of a control: its own
	Body     any    `json:"-"` // the flawed part of the request as a JSON value: the body, or the parameters of a place
	Control  any    `json:"-"` // the same part of the control
	// Parts are all parts of a control by place, which its flawed requests share.
	Parts map[string]any `json:"-"`
	// Alternatives are the fields of the flawed part that have a oneOf or anyOf:
	// about a flaw inside, an answer may speak of any branch.
	Alternatives []string `json:"-"`
	SecretFields []string `json:"-"` // fields of the body that are writeOnly or passwords
	// Variables are the fields of the body that are to have a new value each time the case
	// is sent; Again says that it was sent before.
	Variables []Variable `json:"-"`
	Again     bool       `json:"-"`
}

// Part is the place that the case is about: of its flaw or edge, else the body.
func (c Case) Part() string {
	switch {
	case c.Edge != nil:
		return c.Edge.In
	case len(c.Flaws) > 0:
		return c.Flaws[0].In
	}
	return "body"
}

// Secrets are the values of the secret fields that the body holds.
func (c Case) Secrets() []string {
	if len(c.SecretFields) == 0 {
		return nil
	}
	// A flaw may stand where the secret was, or make the body unreadable; what is
	// still in it of the control's secrets is sent all the same.
	body := c.Body
	if c.Part() != "body" {
		body, _ = instance.Decode(c.Request.Body)
	}
	var out []string
	for _, at := range c.SecretFields {
		v, _ := instance.Get(body, at)
		text, sent := v.(string)
		if !sent {
			v, _ = instance.Get(c.Control, at)
			text, _ = v.(string)
			sent = text != "" && bytes.Contains(c.Request.Body, instance.Escaped(text))
		}
		if sent {
			out = append(out, text)
		}
	}
	return out
}

// Documented is what the description says of one answer; nil for an
// operation that documents no answers.
type Documented struct {
	Status bool     `json:"status"`          // the status is documented
	Known  []string `json:"known,omitempty"` // where it is not: those that are
	Media  []string `json:"media,omitempty"` // the media types documented for the status
	At     string   `json:"at,omitempty"`    // where the body departs from its documented schema
	How    string   `json:"how,omitempty"`   // and in what way; empty where it does not
}

// Exchange is a case as it was sent, with what came back: all that judging knows.
type Exchange struct {
	Case
	Response   Answer
	Documented *Documented
	// Before is an earlier answer to the same case, a 5xx among other requests, that was not given
	// again when nothing else was in flight; nil: there was none.
	Before *Answer
	Fresh  []Value // what of the body was sent for the first time; it is not kept
}

// Answer is what came back, or Err why nothing did.
type Answer struct {
	Status    int
	Header    http.Header
	Body      []byte
	Truncated bool          // the body was longer than is read
	Took      time.Duration // in whole microseconds
	Sent      time.Time     // when the request was, in whole milliseconds, UTC; zero: not known
	// ClosedEarly says, with Err, that the service closed the connection, perhaps
	// before it had read everything.
	ClosedEarly bool
	Died        string // with Err: how the service ended while it dealt with the request, which was the only one
	Shared      bool   // with Err: the service ended while other requests were in flight, which may have ended it
	NotSent     bool   // with Err: no connection came about, or the request cannot be written
	Refused     bool   // the connection was: nothing was sent. It is not kept
	Late        bool   // no complete answer came in time. It is not kept
	Err         string // time-out, reset, not HTTP; empty where an answer came

	read *read // nil: it is read each time
}

// read is what was read of a body.
type read struct {
	of   []byte
	done bool
	v    any
	err  error
}

// Once is the answer, whose body is read as JSON once and no more. It is for one goroutine at a
// time.
func (a Answer) Once() Answer {
	a.read = &read{of: a.Body}
	return a
}

// Forget lets go of what was read of the body, which takes several times its room.
func (a *Answer) Forget() { a.read = nil }

// JSON is the body as a JSON value, which is nobody's to change.
func (a Answer) JSON() (any, error) {
	r := a.read
	if r == nil || len(r.of) != len(a.Body) || len(a.Body) > 0 && &r.of[0] != &a.Body[0] { // another body took its place
		return instance.Decode(a.Body)
	}
	if !r.done {
		r.v, r.err = instance.Decode(r.of)
		r.done = true
	}
	return r.v, r.err
}

// Success reports whether an answer came, and its status is a 2xx.
func (a Answer) Success() bool { return a.Err == "" && a.Status >= 200 && a.Status < 300 }

// AnswerText is an Answer as it is written.
type AnswerText struct {
	Status     int         `json:"status"`
	Headers    [][2]string `json:"headers"`
	Body       *string     `json:"body,omitempty"`
	BodyBase64 *string     `json:"bodyBase64,omitempty"`
	MS         float64     `json:"ms"`
	Sent       string      `json:"sent,omitempty"` // RFC 3339
	Truncated  bool        `json:"truncated,omitempty"`
	Closed     bool        `json:"closedEarly,omitempty"`
	NotSent    bool        `json:"notSent,omitempty"`
	Died       string      `json:"died,omitempty"`
	Shared     bool        `json:"shared,omitempty"`
	Error      string      `json:"error,omitempty"`
}

// MarshalJSON writes headers in the order of their names, and the body as text
// where it is UTF-8, else as base64.
func (a Answer) MarshalJSON() ([]byte, error) { return instance.Marshal(a.Text()) }

// Text is the answer as it is written.
func (a Answer) Text() AnswerText {
	out := AnswerText{Status: a.Status, MS: float64(a.Took.Microseconds()) / 1000, Truncated: a.Truncated, Closed: a.ClosedEarly, NotSent: a.NotSent, Died: a.Died, Shared: a.Shared, Error: a.Err}
	if !a.Sent.IsZero() {
		out.Sent = a.Sent.Format(time.RFC3339Nano)
	}
	names := make([]string, 0, len(a.Header))
	for name := range a.Header {
		names = append(names, name)
	}
	slices.Sort(names)
	out.Headers = make([][2]string, 0, len(names))
	for _, name := range names {
		for _, v := range a.Header[name] {
			out.Headers = append(out.Headers, [2]string{name, strings.ToValidUTF8(v, "\uFFFD")})
		}
	}
	out.Body, out.BodyBase64 = textOrBase64(a.Body)
	return out
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (a *Answer) UnmarshalJSON(data []byte) error {
	var in AnswerText
	err := json.Unmarshal(data, &in)
	if err == nil {
		*a, err = in.Answer()
	}
	return err
}

// Answer is what was written; the error is one of its body's base64, or of its time.
func (t AnswerText) Answer() (Answer, error) {
	body, err := bytesOf(t.Body, t.BodyBase64)
	a := Answer{Status: t.Status, Header: http.Header{}, Body: body, Truncated: t.Truncated, ClosedEarly: t.Closed, NotSent: t.NotSent, Died: t.Died, Shared: t.Shared, Took: time.Duration(math.Round(t.MS*1000)) * time.Microsecond, Err: t.Error}
	for _, h := range t.Headers {
		a.Header.Add(h[0], h[1])
	}
	if t.Sent != "" && err == nil {
		a.Sent, err = time.Parse(time.RFC3339Nano, t.Sent)
	}
	return a, err
}

func textOrBase64(body []byte) (text, encoded *string) {
	if len(body) == 0 {
		return nil, nil
	}
	if utf8.Valid(body) {
		s := string(body)
		return &s, nil
	}
	s := base64.StdEncoding.EncodeToString(body)
	return nil, &s
}

func bytesOf(text, encoded *string) ([]byte, error) {
	switch {
	case text != nil:
		return []byte(*text), nil
	case encoded != nil:
		return base64.StdEncoding.DecodeString(*encoded)
	}
	return nil, nil
}
