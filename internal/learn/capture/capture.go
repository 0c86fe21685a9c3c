// Package capture reads exchanges that others recorded: HTTP archives (HAR 1.2),
// and problem documents by themselves. An archive is read as a stream, entry by
// entry, so that its size costs no memory.
//
// What cannot be used is counted and named: entries without an answer, bodies that
// were not kept, what a browser fetched to draw its pages.
package capture

import (
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"obiter/internal/core/exchange"
)

// Exchange is a request that somebody else sent, with the answer.
type Exchange struct {
	exchange.Request
	Answer exchange.Answer
	Entry  int // its place in the archive, from 1
	// Lacking says that the body which was sent is not in the archive.
	Lacking bool
}

// maxEntry is the size of the largest entry read, in bytes; maxUnpacked that of what is
// unpacked from one.
const (
	maxEntry    = 64 << 20
	maxUnpacked = 16 << 20
)

// Left counts the entries that are left out, by reason.
type Left map[string]int

// Error is something wrong in an archive.
type Error struct {
	Entry   int // 0: not in an entry
	Problem string
}

func (e *Error) Error() string {
	if e.Entry > 0 {
		return fmt.Sprintf("entry %d: %s", e.Entry, e.Problem)
	}
	return e.Problem
}

// Archive gives out the exchanges of an HTTP archive in their order, and counts in left
// what it leaves out. It ends after an error, which is an *Error; what came before it is
// whole.
func Archive(r io.Reader, left Left) iter.Seq2[Exchange, error] {
	return func(yield func(Exchange, error) bool) {
		source := &limited{r: r}
		d := jsontext.NewDecoder(source, jsontext.AllowInvalidUTF8(true), jsontext.AllowDuplicateNames(true))
		err := entries(d, func(n int) (bool, error) {
			source.from(d.InputOffset())
			var e entry
			if err := json.UnmarshalDecode(d, &e); err != nil {
				return false, err
			}
			x, why := e.exchange()
			if x.Entry = n; why != "" {
				left[why]++
				return true, nil
			}
			return yield(x, nil), nil
		})
		if err != nil {
			yield(Exchange{}, err)
		}
	}
}

// limited ends reading where one entry is too large.
type limited struct {
	r    io.Reader
	read int64 // so far
	most int64 // to be read
}

func (l *limited) from(offset int64) { l.most = max(offset, l.read) + maxEntry }

func (l *limited) Read(p []byte) (int, error) {
	if l.most == 0 {
		l.most = maxEntry
	}
	if l.read >= l.most {
		return 0, errTooLarge
	}
	n, err := l.r.Read(p[:min(int64(len(p)), l.most-l.read)])
	l.read += int64(n)
	return n, err
}

var errTooLarge = fmt.Errorf("one value is larger than %d MiB", maxEntry>>20)

// entries finds log.entries, and calls each before every element.
func entries(d *jsontext.Decoder, each func(n int) (bool, error)) error {
	n := 0
	fail := func(err error) error {
		switch {
		case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
			return &Error{n, "the archive ends in the middle"}
		case errors.Is(err, errTooLarge):
			return &Error{n, err.Error()}
		}
		var is *json.SemanticError
		if errors.As(err, &is) && is.JSONPointer != "" {
			return &Error{n, fmt.Sprintf("the member %s is of another type than it has to be (HAR 1.2)", is.JSONPointer.LastToken())}
		}
		return &Error{n, "it is not readable as JSON: " + strings.TrimPrefix(err.Error(), "jsontext: ")}
	}
	for _, name := range []string{"log", "entries"} {
		found, err := member(d, name)
		if err != nil {
			return fail(err)
		}
		if !found {
			return &Error{0, "there is no " + name + " in it, so it is no HTTP archive (HAR 1.2)"}
		}
	}
	if t, err := d.ReadToken(); err != nil {
		return fail(err)
	} else if t.Kind() != '[' {
		return &Error{0, "log.entries is not a list (HAR 1.2)"}
	}
	for k := d.PeekKind(); k != ']'; k = d.PeekKind() {
		n++
		if goOn, err := each(n); err != nil {
			return fail(err)
		} else if !goOn {
			return nil
		}
	}
	if _, err := d.ReadToken(); err != nil {
		return fail(err)
	}
	return nil
}

// member reads the beginning of an object as far as the value of a member.
func member(d *jsontext.Decoder, name string) (bool, error) {
	t, err := d.ReadToken()
	if err != nil || t.Kind() != '{' {
		return false, err
	}
	for d.PeekKind() == '"' {
		key, err := d.ReadToken()
		if err != nil {
			return false, err
		}
		if key.String() == name {
			return true, nil
		}
		if err := d.SkipValue(); err != nil {
			return false, err
		}
	}
	_, err = d.ReadToken() // the end, or what is wrong
	return false, err
}

// entry is what is read of an entry (HAR 1.2, "entries"). Members that begin with an
// underscore are a browser's own.
type entry struct {
	Started string   `json:"startedDateTime"`
	Time    *float64 `json:"time"`
	Sort    string   `json:"_resourceType"`
	Request struct {
		Method  string `json:"method"`
		URL     string `json:"url"`
		Headers []pair `json:"headers"`
		Size    int    `json:"bodySize"`
		Post    *struct {
			MIME     string `json:"mimeType"`
			Text     string `json:"text"`
			Encoding string `json:"encoding"`
			Comment  string `json:"comment"`
			Params   []pair `json:"params"`
		} `json:"postData"`
	} `json:"request"`
	Response struct {
		Status  int    `json:"status"`
		Headers []pair `json:"headers"`
		Size    int    `json:"bodySize"`
		Content struct {
			Size     int     `json:"size"`
			MIME     string  `json:"mimeType"`
			Text     *string `json:"text"`
			Encoding string  `json:"encoding"`
		} `json:"content"`
	} `json:"response"`
}

type pair struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// The reasons for leaving entries out.
const (
	NoAnswer   = "no answer came"
	NoBody     = "the answer's body is not in the archive"
	Packed     = "the answer's body is compressed in a way that is not read here"
	OfBrowsers = "fetched by a browser for its pages"
	NotHTTP    = "not a request over HTTP"
)

// exchange is an entry as an exchange, or why it is left out.
func (e entry) exchange() (x Exchange, why string) {
	x.Request = exchange.Request{Method: strings.ToUpper(e.Request.Method), URL: e.Request.URL, Headers: headers(e.Request.Headers)}
	if !strings.HasPrefix(x.URL, "http://") && !strings.HasPrefix(x.URL, "https://") || x.Method == "" {
		return x, NotHTTP
	}
	if e.ofBrowser(x.Header("Accept")) || x.Method == http.MethodOptions && x.Header("Access-Control-Request-Method") != "" {
		return x, OfBrowsers
	}
	if p := e.Request.Post; p != nil {
		x.Body = []byte(p.Text)
		if p.Encoding == "base64" || strings.HasPrefix(p.Comment, "base64") {
			if raw, err := base64.StdEncoding.DecodeString(p.Text); err == nil {
				x.Body = raw
			}
		}
		if len(x.Body) == 0 && len(p.Params) > 0 && strings.HasPrefix(p.MIME, "application/x-www-form-urlencoded") {
			x.Body = []byte(form(p.Params))
		}
		if x.Header("Content-Type") == "" && p.MIME != "" {
			x.Headers = append(x.Headers, [2]string{"Content-Type", p.MIME})
		}
	}
	x.Lacking = len(x.Body) == 0 && (e.Request.Size > 0 || e.Request.Post != nil && len(e.Request.Post.Params) > 0)
	if e.Response.Status < 100 {
		return x, NoAnswer
	}
	return x, e.answer(&x.Answer)
}

// ofBrowser reports whether a browser fetched it to draw a page.
func (e entry) ofBrowser(accept string) bool {
	switch e.Sort {
	case "document", "stylesheet", "image", "media", "font", "script", "manifest", "websocket", "ping", "preflight":
		return true
	case "xhr", "fetch":
		return false
	}
	accept = strings.ToLower(strings.TrimSpace(accept))
	return strings.HasPrefix(accept, "text/html") || strings.HasPrefix(accept, "image/") || strings.HasPrefix(accept, "text/css") || strings.HasPrefix(accept, "font/")
}

func (e entry) answer(a *exchange.Answer) (why string) {
	a.Status, a.Header = e.Response.Status, http.Header{}
	for _, p := range headers(e.Response.Headers) {
		a.Header.Add(p[0], p[1])
	}
	if a.Header.Get("Content-Type") == "" && e.Response.Content.MIME != "" && e.Response.Content.MIME != "x-unknown" {
		a.Header.Set("Content-Type", e.Response.Content.MIME)
	}
	if e.Time != nil && *e.Time > 0 {
		a.Took = time.Duration(*e.Time*1000) * time.Microsecond
	}
	if at, err := time.Parse(time.RFC3339Nano, e.Started); err == nil {
		a.Sent = at.UTC().Truncate(time.Millisecond)
	}
	c := e.Response.Content
	if c.Text == nil || *c.Text == "" {
		if c.Size > 0 || e.Response.Size > 0 {
			return NoBody
		}
		return ""
	}
	a.Body = []byte(*c.Text)
	if c.Encoding == "base64" {
		raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(*c.Text))
		if err != nil {
			return NoBody
		}
		a.Body = raw
	}
	return unpack(a)
}

// unpack undoes a content coding that was left in the archive: as a rule it holds the
// body as it reads without.
func unpack(a *exchange.Answer) (why string) {
	coding := strings.ToLower(strings.TrimSpace(a.Header.Get("Content-Encoding")))
	var r io.Reader
	var err error
	switch {
	case bytes.HasPrefix(a.Body, []byte{0x1f, 0x8b}):
		r, err = gzip.NewReader(bytes.NewReader(a.Body))
	case coding == "deflate" && !printable(a.Body):
		r, err = zlib.NewReader(bytes.NewReader(a.Body))
	case coding != "" && coding != "identity" && !printable(a.Body):
		return Packed
	default:
		return ""
	}
	if err != nil {
		return Packed
	}
	body, err := io.ReadAll(io.LimitReader(r, maxUnpacked+1))
	if err != nil || len(body) > maxUnpacked {
		return Packed
	}
	a.Body = body
	return ""
}

func printable(body []byte) bool {
	return bytes.IndexFunc(body[:min(len(body), 64)], func(c rune) bool { return c == unicode.ReplacementChar || unicode.IsControl(c) && !unicode.IsSpace(c) }) < 0
}

// headers are those that HTTP has: HTTP/2 writes its own as pseudo-headers, which begin
// with a colon (RFC 9113, section 8.3).
func headers(list []pair) [][2]string {
	out := [][2]string{}
	for _, p := range list {
		if p.Name != "" && !strings.HasPrefix(p.Name, ":") {
			out = append(out, [2]string{p.Name, p.Value})
		}
	}
	return out
}

// Lossy reports whether the body was not UTF-8 when it was sent: the characters that stand for what
// is not (U+FFFD) were put into it by who captured it.
func (x Exchange) Lossy() bool {
	return bytes.ContainsRune(x.Body, utf8.RuneError) && utf8.Valid(x.Body)
}
