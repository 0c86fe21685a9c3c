package render

import (
	"bytes"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
	"obiter/internal/results/record"
	"obiter/internal/results/report"
)

// line is a line of a request or an answer, perhaps with what is to be said of it.
type line struct {
	Text  string
	Notes []string
	at    string // pointer of the value that begins there
}

// Bounds of what is shown of a request or an answer.
const (
	maxLines = 70
	maxWidth = 240 // characters
)

// note adds a remark to the line of a pointer, or of the nearest value above it.
func note(lines []line, pointer, text string) {
	for {
		for i := range lines {
			if lines[i].at == pointer {
				if !slices.Contains(lines[i].Notes, text) {
					lines[i].Notes = append(lines[i].Notes, text)
				}
				return
			}
		}
		i := strings.LastIndexByte(pointer, '/')
		if i < 0 {
			return
		}
		pointer = pointer[:i]
	}
}

// bodyLines are the lines of a body: JSON indented, anything else as it is.
func bodyLines(body []byte) []line {
	if len(body) == 0 {
		return nil
	}
	w := lineWriter{d: jsontext.NewDecoder(bytes.NewBuffer(slices.Clone(body)), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))}
	if err := w.value("", "", 0); err == nil {
		if _, err := w.d.ReadToken(); err == io.EOF {
			return w.lines
		}
	}
	var out []line
	for text := range strings.Lines(string(body)) {
		out = append(out, line{Text: strings.TrimRight(text, "\r\n")})
	}
	if len(out) > 0 {
		out[0].at = ""
	}
	for i := 1; i < len(out); i++ {
		out[i].at = "-"
	}
	return out
}

// lineWriter writes JSON line by line.
type lineWriter struct {
	d     *jsontext.Decoder
	lines []line
}

func (w *lineWriter) line(depth int, at, text string) {
	w.lines = append(w.lines, line{Text: strings.Repeat("  ", depth) + text, at: at})
}

func (w *lineWriter) value(at, prefix string, depth int) error {
	kind := w.d.PeekKind()
	if kind != '{' && kind != '[' {
		v, err := w.d.ReadValue()
		if err == nil {
			w.line(depth, at, prefix+string(v))
		}
		return err
	}
	if depth > instance.MaxDepth {
		return instance.ErrDepth
	}
	if _, err := w.d.ReadToken(); err != nil {
		return err
	}
	end := kind + 2 // } and ]
	if w.d.PeekKind() == end {
		_, err := w.d.ReadToken()
		w.line(depth, at, prefix+string([]byte{byte(kind), byte(end)}))
		return err
	}
	w.line(depth, at, prefix+string(rune(kind)))
	for n := 0; w.d.PeekKind() != end; n++ {
		if n > 0 {
			w.lines[len(w.lines)-1].Text += ","
		}
		name, token := "", fmt.Sprint(n)
		if kind == '{' {
			t, err := w.d.ReadToken()
			if err != nil {
				return err
			}
			token = t.String()
			name = string(instance.Encode(token)) + ": "
		}
		if err := w.value(instance.Join(at, token), name, depth+1); err != nil {
			return err
		}
	}
	_, err := w.d.ReadToken()
	w.line(depth, "-", string(rune(end)))
	return err
}

// shortened are lines that fit a page.
func shortened(lines []line) []line {
	for i := range lines {
		lines[i].Text = visible(instance.Shorten(lines[i].Text, maxWidth))
		for j, n := range lines[i].Notes {
			lines[i].Notes[j] = visible(n)
		}
	}
	if len(lines) <= maxLines {
		return lines
	}
	kept := slices.Clone(lines[:maxLines])
	for i := maxLines; i < len(lines); i++ { // what is wrong is not lost
		if len(lines[i].Notes) > 0 {
			kept = append(kept, line{Text: "…"}, lines[i])
		}
	}
	return append(kept, line{Text: fmt.Sprintf("… and %d more lines", len(lines)-maxLines)})
}

// sentLines are a request with what is wrong with it.
func sentLines(res record.Result, withheld []string) []line {
	out := []line{{Text: res.Request.Method + " " + res.Request.URL, at: "address"}}
	for _, h := range res.Request.Headers {
		out = append(out, line{Text: h[0] + ": " + h[1], at: "header " + strings.ToLower(h[0])})
	}
	for _, name := range withheld {
		out = append(out, line{Text: name + ": (not kept)", at: "-"})
	}
	for _, c := range res.Credentials {
		what := "(not kept)"
		if c.Flaw != "" {
			what = "(" + c.Flaw + ")"
		}
		out = append(out, line{Text: c.Name + ": " + what, at: "-"})
	}
	body := bodyLines(res.Request.Body)
	flaws := res.Flaws
	if res.Edge != nil {
		flaws = []exchange.Flaw{*res.Edge}
	}
	for i, f := range flaws {
		if i == 12 {
			break
		}
		said := f.Reason
		if f.In != "body" && f.OfField() || f.Rule == "required" {
			said = f.Where() + ": " + said
		}
		switch header := "header " + strings.ToLower(instance.Last(f.Pointer)); {
		case f.In == "body" && len(body) > 0:
			note(body, f.Pointer, said)
		case f.In == "header" && slices.ContainsFunc(out, func(l line) bool { return l.at == header }):
			note(out, header, said)
		default:
			out[0].Notes = append(out[0].Notes, said)
		}
	}
	if len(body) > 0 {
		out = append(append(out, line{at: "-"}), body...)
	}
	return shortened(out)
}

// answeredLines are an answer with what is wrong with it.
func answeredLines(a exchange.Answer, found []judge.Finding) []line {
	if a.Err != "" {
		return shortened([]line{{Text: a.Err, Notes: codes(found)}})
	}
	out := []line{{Text: judge.StatusText(a.Status), at: "status"}}
	out = append(out, headerLines(a.Header)...)
	body := bodyLines(a.Body)
	for _, f := range found {
		said := string(f.Severity) + " " + f.Code
		header := "header " + strings.ToLower(f.At)
		switch {
		case strings.HasPrefix(f.At, "/") && len(body) > 0:
			note(body, f.At, said)
		case f.At != "" && slices.ContainsFunc(out, func(l line) bool { return l.at == header }):
			note(out, header, said)
		case judge.Has(f.Code, judge.OfForm) && len(body) > 0 || f.Code == "missed-field" || f.Code == "no-field-errors" || f.Code == "wrong-field":
			if len(body) > 0 {
				body[0].Notes = append(body[0].Notes, said)
				continue
			}
			fallthrough
		default:
			out[0].Notes = append(out[0].Notes, said)
		}
	}
	if len(body) > 0 {
		out = append(append(out, line{at: "-"}), body...)
	}
	if a.Truncated {
		out = append(out, line{Text: "(the answer is longer; this much of it is kept)", at: "-"})
	}
	return shortened(out)
}

func codes(found []judge.Finding) []string {
	var out []string
	for _, f := range found {
		out = append(out, string(f.Severity)+" "+f.Code)
	}
	return out
}

func headerLines(h http.Header) []line {
	var out []line
	for _, name := range slices.Sorted(maps.Keys(h)) {
		for _, v := range h[name] {
			out = append(out, line{Text: name + ": " + v, at: "header " + strings.ToLower(name)})
		}
	}
	return out
}

// rightLines are a right answer.
func rightLines(r report.Right) []line {
	out := []line{{Text: judge.StatusText(r.Status)}}
	if r.Header != "" {
		out = append(out, line{Text: r.Header})
	}
	if r.Media != "" {
		out = append(out, line{Text: "Content-Type: " + r.Media})
	}
	if r.Body != "" {
		out = append(out, line{})
		for text := range strings.Lines(r.Body) {
			out = append(out, line{Text: strings.TrimRight(text, "\n")})
		}
	}
	return shortened(out)
}

// asText is a body as a text; "" and false where it is none.
func asText(body []byte) (string, bool) {
	if !utf8.Valid(body) {
		return fmt.Sprintf("(%d bytes that are no text)", len(body)), false
	}
	return string(body), true
}
