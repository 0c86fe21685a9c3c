package render

import (
	"bufio"
	"encoding/base64"
	"errors"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
	"obiter/internal/results/record"
)

// The members of an HTTP Archive 1.2 (HAR), as its specification of 2012 has them.
type (
	harCreator struct {
		Name    string `json:"name"`
		Version string `json:"version"`
	}
	harEntry struct {
		Started  string      `json:"startedDateTime"`
		Time     float64     `json:"time"` // milliseconds
		Request  harRequest  `json:"request"`
		Response harResponse `json:"response"`
		Cache    struct{}    `json:"cache"`
		Timings  harTimings  `json:"timings"`
		Comment  string      `json:"comment,omitempty"`
	}
	harRequest struct {
		Method  string     `json:"method"`
		URL     string     `json:"url"`
		Version string     `json:"httpVersion"`
		Cookies []harPair  `json:"cookies"`
		Headers []harPair  `json:"headers"`
		Query   []harPair  `json:"queryString"`
		Post    *harPosted `json:"postData,omitempty"`
		OfHead  int        `json:"headersSize"` // -1: not known
		OfBody  int        `json:"bodySize"`
		Comment string     `json:"comment,omitempty"`
	}
	harPair struct {
		Name  string `json:"name"`
		Value string `json:"value"`
	}
	harPosted struct {
		MIME    string `json:"mimeType"`
		Text    string `json:"text"`
		Comment string `json:"comment,omitempty"`
	}
	harResponse struct {
		Status   int        `json:"status"` // 0: no answer came
		Text     string     `json:"statusText"`
		Version  string     `json:"httpVersion"`
		Cookies  []harPair  `json:"cookies"`
		Headers  []harPair  `json:"headers"`
		Content  harContent `json:"content"`
		Redirect string     `json:"redirectURL"`
		OfHead   int        `json:"headersSize"`
		OfBody   int        `json:"bodySize"`
		Comment  string     `json:"comment,omitempty"`
	}
	harContent struct {
		Size     int    `json:"size"`
		MIME     string `json:"mimeType"`
		Text     string `json:"text,omitempty"`
		Encoding string `json:"encoding,omitempty"`
		Comment  string `json:"comment,omitempty"`
	}
	harTimings struct {
		Send    float64 `json:"send"`
		Wait    float64 `json:"wait"`
		Receive float64 `json:"receive"`
	}
)

// HAR writes exchanges one by one, as they are judged, so that their number costs no
// memory.
type HAR struct {
	w       *bufio.Writer
	started string
	n       int
	err     error
}

// NewHAR begins an archive.
func NewHAR(w io.Writer, r Run) *HAR {
	h := &HAR{w: bufio.NewWriter(w), started: r.Head.Started}
	if _, err := time.Parse(time.RFC3339, h.started); err != nil {
		h.started = "1970-01-01T00:00:00Z"
	}
	creator, err := instance.Written(harCreator{"obiter", r.Program})
	comment, e := instance.Written(r.Sentence())
	h.err = errors.Join(err, e)
	h.text(`{"log":{"version":"1.2","creator":` + string(creator) + `,"comment":` + string(comment) + `,"entries":[`)
	return h
}

func (h *HAR) text(s string) {
	if h.err == nil {
		_, h.err = h.w.WriteString(s)
	}
}

// Add adds a judged case.
func (h *HAR) Add(res record.Result) {
	entry, err := instance.Written(h.entry(res))
	if h.err == nil {
		h.err = err
	}
	if h.n++; h.n > 1 {
		h.text(",")
	}
	h.text("\n" + string(entry))
}

// Close ends the archive. The error is the first of writing.
func (h *HAR) Close() error {
	if h.text("\n]}}\n"); h.err != nil {
		return h.err
	}
	return h.w.Flush()
}

func (h *HAR) entry(res record.Result) harEntry {
	ms := float64(res.Response.Took.Microseconds()) / 1000
	started := h.started
	if !res.Response.Sent.IsZero() {
		started = res.Response.Sent.Format(time.RFC3339Nano)
	}
	e := harEntry{Started: started, Time: ms, Timings: harTimings{0, ms, 0}, Comment: "case " + res.ID + ": " + res.Name + ": " + string(res.Verdict)}
	for _, f := range res.Findings {
		e.Comment += "\n" + string(f.Severity) + " " + f.Code + ": " + f.Message
	}
	e.Request = harRequest{Method: res.Request.Method, URL: res.Request.URL, Version: "HTTP/1.1", Cookies: []harPair{}, Headers: []harPair{}, Query: []harPair{}, OfHead: -1, OfBody: len(res.Request.Body)}
	for _, p := range res.Request.Headers {
		e.Request.Headers = append(e.Request.Headers, harPair{p[0], p[1]})
	}
	if len(res.Credentials) > 0 {
		e.Request.Comment = "credentials are left out"
	}
	e.Request.Query = queryOf(res.Request.URL)
	if cookies, err := http.ParseCookie(res.Request.Header("Cookie")); err == nil {
		for _, c := range cookies {
			e.Request.Cookies = append(e.Request.Cookies, harPair{c.Name, c.Value})
		}
	}
	if len(res.Request.Body) > 0 {
		e.Request.Post = &harPosted{MIME: res.Request.Header("Content-Type"), Text: string(res.Request.Body)}
		if !utf8.Valid(res.Request.Body) { // there is no encoding for what is posted
			e.Request.Post.Text, e.Request.Post.Comment = base64.StdEncoding.EncodeToString(res.Request.Body), "base64, for it is not UTF-8"
		}
	}
	e.Response = answered(res.Response)
	return e
}

// queryOf are the parameters of an address, in their order.
func queryOf(address string) []harPair {
	out := []harPair{}
	_, query, has := strings.Cut(address, "?")
	if !has || query == "" {
		return out
	}
	for pair := range strings.SplitSeq(query, "&") {
		name, value, _ := strings.Cut(pair, "=")
		out = append(out, harPair{unescaped(name), unescaped(value)})
	}
	return out
}

func unescaped(text string) string {
	if s, err := url.QueryUnescape(text); err == nil {
		return s
	}
	return text
}

func answered(a exchange.Answer) harResponse {
	r := harResponse{Status: a.Status, Version: "HTTP/1.1", Cookies: []harPair{}, Headers: []harPair{}, Redirect: a.Header.Get("Location"), OfHead: -1, OfBody: len(a.Body), Comment: a.Err}
	if a.Status > 0 {
		_, r.Text, _ = strings.Cut(judge.StatusText(a.Status), " ")
	}
	names := make([]string, 0, len(a.Header))
	for name := range a.Header {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		for _, v := range a.Header[name] {
			r.Headers = append(r.Headers, harPair{name, v})
		}
	}
	for _, line := range a.Header["Set-Cookie"] {
		if c, err := http.ParseSetCookie(line); err == nil {
			r.Cookies = append(r.Cookies, harPair{c.Name, c.Value})
		}
	}
	r.Content = harContent{Size: len(a.Body), MIME: a.Header.Get("Content-Type"), Text: string(a.Body)}
	if !utf8.Valid(a.Body) {
		r.Content.Text, r.Content.Encoding = base64.StdEncoding.EncodeToString(a.Body), "base64"
	}
	if a.Truncated {
		r.Content.Comment = "the answer is longer; this much of it is kept"
	}
	return r
}
