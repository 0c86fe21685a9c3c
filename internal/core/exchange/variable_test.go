package exchange

import (
	"fmt"
	"strings"
	"testing"

	"obiter/internal/core/instance"
)

// TestNewValues: each request has new ones, however its body is written, and what is wrong with it,
// or at its boundary, stays as it is.
func TestNewValues(t *testing.T) {
	variables := []Variable{
		{Pointer: "/code", Planned: "C12", New: func(n uint64) any { return fmt.Sprint("C", 100+n) }},
		{Pointer: "/name", Planned: "Long pier", New: func(n uint64) any { return fmt.Sprint("Long pier ", n) }},
		{Pointer: "/key", Planned: "k", Settled: true, New: func(n uint64) any { return fmt.Sprint("k", n) }},
	}
	in := func(pointer string) []Flaw { return []Flaw{{In: "body", Pointer: pointer, Rule: "any"}} }
	whole := []Flaw{{In: "request", Rule: "malformed-json"}}
	for _, x := range []struct {
		name, body, value string // value: the case's own; empty: the body is no JSON, or the control
		flaws             []Flaw
		again             bool
		want, fresh       string
	}{
		{"a control", `{"code":"C12","name":"Long pier"}`, "", nil, false, `{"code":"C105","name":"Long pier 5"}`, "/code /name"},
		{"a flaw elsewhere", `{"code":"C12","name":"Long pier","tons":"x"}`, "same", in("/tons"), false, `{"code":"C105","name":"Long pier 5","tons":"x"}`, "/code /name"},
		{"a flaw in it", `{"code":"c12","name":"Long pier"}`, "same", in("/code"), false, `{"code":"c12","name":"Long pier 5"}`, "/name"},
		{"a flaw that leaves the value", `{"code":"C12","name":"Long pier"}`, "same", in("/code"), false, `{"code":"C12","name":"Long pier 5"}`, "/name"},
		{"a flaw of the whole", `[{"code":"C12","name":"Long pier"}]`, "same", in(""), false, `[{"code":"C105","name":"Long pier 5"}]`, "/code /name"},
		{"cut off", `{"code":"C12","name":"Long pier"`, "", whole, false, `{"code":"C105","name":"Long pier 5"`, "/code /name"},
		{"a member twice", `{"code":null,"code":"C12","name":"Long pier"}`, "", whole, false, `{"code":null,"code":"C105","name":"Long pier 5"}`, "/code /name"},
		{"a byte order mark", "\xef\xbb\xbf" + `{"code":"C12"}`, "", whole, false, "\xef\xbb\xbf" + `{"code":"C105"}`, "/code"},
		{"half a surrogate pair", `{"code":"C12","name":"L\ud800ong pier"}`, "", []Flaw{{In: "body", Pointer: "/name", Rule: "unusual-text"}}, false, `{"code":"C105","name":"L\ud800ong pier"}`, "/code"},
		{"single quotes", `{'code':'C12'}`, "", whole, false, `{'code':'C105'}`, "/code"},
		{"a form", `code=C12&name=Long+pier`, "", whole, false, `code=C105&name=Long+pier+5`, "/code /name"},
		{"what the plan renews", `{"key":"k-of-the-plan"}`, "same", in("/tons"), false, `{"key":"k-of-the-plan"}`, "/key"},
		{"the same once more", `{"key":"k-of-the-plan"}`, "same", in("/tons"), true, `{"key":"k5"}`, "/key"},
		{"the same in what is no JSON", `{"key":"k"`, "", whole, false, `{"key":"k5"`, "/key"},
		{"another value", `{"code":"C13"}`, "same", in("/tons"), false, `{"code":"C13"}`, ""},
	} {
		c := Case{Request: Request{Body: []byte(x.body)}, Flaws: x.flaws, Variables: variables, Again: x.again}
		c.Control, _ = instance.Decode([]byte(`{"code":"C12","name":"Long pier"}`))
		if x.value == "same" || x.flaws == nil {
			c.Body, _ = instance.Decode([]byte(x.body))
		}
		was := string(c.Request.Body)
		got, sent := c.Renewed(5)
		var fresh []string
		for _, v := range sent {
			fresh = append(fresh, v.Pointer)
		}
		if string(got.Request.Body) != x.want || strings.Join(fresh, " ") != x.fresh || string(c.Request.Body) != was {
			t.Errorf("%s: %s with new %q, want %s with %q", x.name, got.Request.Body, fresh, x.want, x.fresh)
		}
		if got.Body != nil && !instance.IsEncoded(got.Request.Body, got.Body) && got.Part() == "body" {
			t.Errorf("%s: %s is judged, and %s is sent", x.name, instance.Encode(got.Body), got.Request.Body)
		}
		for _, at := range got.Renews {
			now, there := instance.Get(got.Control, at)
			if is, _ := instance.Get(got.Body, at); there && !instance.Equal(now, is) {
				t.Errorf("%s: the control has %v at %s, and the request %v", x.name, now, at, is)
			}
		}
	}
}
