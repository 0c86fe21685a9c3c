package record

import (
	"encoding/base64"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
)

// text is a JSON object that is being written, member by member. A run writes a line for each
// request that it sends, and encoding/json takes twice as long for that, which is a fortieth of a
// run.
type text struct {
	b   []byte
	err error
}

// next separates what follows from what is before it in the same object or list.
func (t *text) next() {
	if c := t.b[len(t.b)-1]; c != '{' && c != '[' {
		t.b = append(t.b, ',')
	}
}

// list writes so many elements, each as write does.
func (t *text) list(n int, write func(i int)) {
	t.b = append(t.b, '[')
	for i := range n {
		t.next()
		write(i)
	}
	t.b = append(t.b, ']')
}

// listOrNull is list of what may be nil, which is null.
func listOrNull[T any](t *text, all []T, write func(T)) {
	if all == nil {
		t.b = append(t.b, "null"...)
		return
	}
	t.list(len(all), func(i int) { write(all[i]) })
}

// member begins a member.
func (t *text) member(name string) {
	t.next()
	t.b = append(t.b, '"')
	t.b = append(t.b, name...)
	t.b = append(t.b, '"', ':')
}

func (t *text) quote(s string) {
	b, err := jsontext.AppendQuote(t.b, s)
	if err != nil { // it is not UTF-8
		b, _ = jsontext.AppendQuote(t.b, strings.ToValidUTF8(s, "\uFFFD"))
	}
	t.b = b
}

func (t *text) string(name, s string) {
	t.member(name)
	t.quote(s)
}

// nonempty writes a text unless it is empty; strings and flag leave out what is empty, too.
func (t *text) nonempty(name, s string) {
	if s != "" {
		t.string(name, s)
	}
}

func (t *text) strings(name string, list []string) {
	if len(list) == 0 {
		return
	}
	t.member(name)
	t.list(len(list), func(i int) { t.quote(list[i]) })
}

func (t *text) flag(name string, on bool) {
	if on {
		t.member(name)
		t.b = append(t.b, "true"...)
	}
}

// body writes what was sent or answered, if it was anything: as text where it is UTF-8.
func (t *text) body(b []byte) {
	switch {
	case len(b) == 0:
	case utf8.Valid(b):
		t.member("body")
		t.b, _ = jsontext.AppendQuote(t.b, b)
	default:
		t.string("bodyBase64", base64.StdEncoding.EncodeToString(b))
	}
}

func (t *text) number(name string, n int) {
	t.member(name)
	t.b = strconv.AppendInt(t.b, int64(n), 10)
}

// value writes whatever is seldom or small.
func (t *text) value(name string, v any) {
	t.member(name)
	text, err := instance.Marshal(v)
	if err != nil {
		t.err = err
	}
	t.b = append(t.b, text...)
}

func (t *text) headers(list [][2]string) {
	t.member("headers")
	listOrNull(t, list, func(h [2]string) { t.list(len(h), func(i int) { t.quote(h[i]) }) })
}

func (t *text) flaw(f exchange.Flaw) {
	t.b = append(t.b, '{')
	t.string("in", f.In)
	t.string("pointer", f.Pointer)
	t.string("rule", f.Rule)
	t.string("variant", f.Variant)
	t.string("reason", f.Reason)
	t.nonempty("requiredBy", f.RequiredBy)
	t.b = append(t.b, '}')
}

func (t *text) expect(e exchange.Expect) {
	t.member("expect")
	t.b = append(t.b, '{')
	t.string("class", string(e.Class))
	t.member("statuses")
	listOrNull(t, e.Statuses, func(status int) { t.b = strconv.AppendInt(t.b, int64(status), 10) })
	t.nonempty("says", e.Says)
	t.flag("rare", e.Rare)
	t.b = append(t.b, '}')
}

func (t *text) request(r exchange.Request) {
	t.member("request")
	t.b = append(t.b, '{')
	t.string("method", r.Method)
	t.string("url", r.URL)
	t.headers(r.Headers)
	t.body(r.Body)
	t.b = append(t.b, '}')
}

func (t *text) answer(name string, answer *exchange.Answer) {
	if answer == nil {
		return
	}
	bare := *answer
	bare.Body = nil // which is written by itself
	a := bare.Text()
	t.member(name)
	t.b = append(t.b, '{')
	t.number("status", a.Status)
	t.headers(a.Headers)
	t.body(answer.Body)
	t.member("ms")
	t.b = strconv.AppendFloat(t.b, a.MS, 'f', -1, 64)
	t.nonempty("sent", a.Sent)
	t.flag("truncated", a.Truncated)
	t.flag("closedEarly", a.Closed)
	t.flag("notSent", a.NotSent)
	t.nonempty("died", a.Died)
	t.flag("shared", a.Shared)
	t.nonempty("error", a.Error)
	t.b = append(t.b, '}')
}

// written appends the line as it is kept.
func (l *caseLine) written(buffer []byte) ([]byte, error) {
	line, err := l.append(buffer)
	if err != nil {
		return nil, fmt.Errorf("writing the run file: %w", err)
	}
	return instance.Seen(line), nil
}

// append appends the line as JSON. Its members are those of the struct, in their order.
func (l *caseLine) append(b []byte) ([]byte, error) {
	t := &text{b: append(b, '{')}
	c := &l.Case
	t.string("type", l.Type)
	t.number("number", l.Number)
	t.string("case", c.ID)
	t.string("name", c.Name)
	t.string("operation", c.Operation)
	t.nonempty("operationId", c.OperationID)
	t.string("kind", string(c.Kind))
	t.request(c.Request)
	t.member("flaws")
	listOrNull(t, c.Flaws, t.flaw)
	if c.Edge != nil {
		t.member("edge")
		t.flaw(*c.Edge)
	}
	t.expect(c.Expect)
	if len(c.Credentials) > 0 {
		t.value("credentials", c.Credentials)
	}
	t.strings("mayBlame", c.MayBlame)
	t.strings("leavesOut", c.LeavesOut)
	t.strings("unchecked", c.Unchecked)
	t.strings("madeBy", c.MadeBy)
	t.strings("renews", c.Renews)
	t.flag("captured", c.Captured)
	t.nonempty("provenBy", l.ProvenBy)
	t.string("base", l.Base)
	t.strings("alternatives", l.Alternatives)
	t.strings("secretFields", l.SecretFields)
	if len(l.Parts) > 0 {
		t.member("parts")
		t.b = append(t.b, '{')
		for _, in := range slices.Sorted(maps.Keys(l.Parts)) {
			t.next()
			t.quote(in)
			t.b = append(append(t.b, ':'), l.Parts[in]...)
		}
		t.b = append(t.b, '}')
	}
	if len(l.Value) > 0 {
		t.member("value")
		t.b = append(t.b, l.Value...)
	}
	t.answer("response", l.Response)
	t.answer("before", l.Before)
	t.answer("again", l.Again)
	if l.Readings != nil {
		t.value("readings", l.Readings)
	}
	if d := l.Documented; d != nil {
		t.member("documented")
		t.b = append(t.b, `{"status":`...)
		t.b = strconv.AppendBool(t.b, d.Status)
		t.strings("known", d.Known)
		t.strings("media", d.Media)
		t.nonempty("at", d.At)
		t.nonempty("how", d.How)
		t.b = append(t.b, '}')
	}
	t.nonempty("verdict", string(l.Verdict))
	switch {
	case l.Findings == nil:
	case len(*l.Findings) == 0: // most have none
		t.member("findings")
		t.list(0, nil)
	default:
		t.value("findings", *l.Findings)
	}
	return append(t.b, '}'), t.err
}
