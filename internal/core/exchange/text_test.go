package exchange

import (
	"encoding/json"
	"testing"
)

// TestValuesInTexts: in what is no JSON, a value has another in its place where it stands for itself.
func TestValuesInTexts(t *testing.T) {
	for _, x := range []struct {
		text, name string
		was, is    any
		want       string // "": nothing is changed
	}{
		{`{"name":"Long pier","of":"Long pier"`, "name", "Long pier", "Pier 2", `{"name":"Pier 2","of":"Pier 2"`},
		{`{'name':'Long pier'}`, "name", "Long pier", "Pier 2", `{'name':'Pier 2'}`},
		{`name=Long+pier&of=1`, "name", "Long pier", "Pier 2", `name=Pier+2&of=1`},
		{`name=Long%20pier`, "name", "Long pier", "Pier 2", ``},
		{`{"name":"Long pier 77`, "name", "Long pier", "Pier 2", ``},
		{`{"name":"a Long pier`, "name", "Long pier", "Pier 2", ``},
		{`{"name":"Long pier`, "name", "Long pier", "Pier 2", `{"name":"Pier 2`},
		{`{"name":"Long piers", "x": 'Long pier'`, "name", "Long pier", "Pier 2", `{"name":"Long piers", "x": 'Pier 2'`},
		{`name=ab`, "name", "ab", "cd", ``}, {`name=abc`, "name", "abc", "cde", `name=cde`},
		{`{"id":12,"n":12`, "id", json.Number("12"), json.Number("345"), `{"id":345,"n":12`},
		{`{'id': 12}`, "id", json.Number("12"), json.Number("345"), `{'id': 345}`}, {`id=12&x=1`, "id", json.Number("12"), json.Number("3"), `id=3&x=1`},
		{`{"id":123}`, "id", json.Number("12"), json.Number("345"), ``}, {`{"no":12}`, "id", json.Number("12"), json.Number("345"), ``},
		{`Long pier`, "name", "Long pier", "Pier 2", `Pier 2`}, {`xLong pier`, "name", "Long pier", "Pier 2", ``}, {`"Long pier" Long pier`, "name", "Long pier", "Pier 2", `"Pier 2" Long pier`}, {`'Long pier', Long pier`, "name", "Long pier", "Pier 2", `'Pier 2', Long pier`},
		{`true`, "id", true, false, ``}, {``, "id", "abc", "cde", ``},
	} {
		got, changed := inText([]byte(x.text), x.name, x.was, x.is)
		if changed != (x.want != "") || changed && string(got) != x.want {
			t.Errorf("%s: %s, %v, want %s", x.text, got, changed, x.want)
		}
	}
	for _, x := range []struct {
		c    byte
		want bool
	}{{'a', true}, {'z', true}, {'A', true}, {'Z', true}, {'0', true}, {'9', true}, {' ', true}, {'-', true}, {'%', true}, {'\\', true}, {0x80, true}, {0xff, true}, {'"', false}, {'\'', false}, {',', false}, {'&', false}, {'{', false}, {'@', false}, {'`', false}, {':', false}, {'/', false}, {'[', false}} {
		if isOfText(x.c) != x.want {
			t.Errorf("%q is of a text: %v", x.c, !x.want)
		}
	}
}

// TestSettledValues: a value that the plan made new stays; one that is as planned in this case is made new.
func TestSettledValues(t *testing.T) {
	v := Variable{Pointer: "/code", Planned: "C12", Settled: true, New: func(uint64) any { return "new-1234" }}
	for body, want := range map[string]string{`{"code":"C12"}`: `{"code":"new-1234"}`, `{"code":"other"}`: `{"code":"other"}`} {
		c := Case{Kind: Control, Request: Request{Body: []byte(body)}, Variables: []Variable{v}}
		if err := json.Unmarshal([]byte(body), &c.Body); err != nil {
			t.Fatal(err)
		}
		got, sent := c.Renewed(1)
		if string(got.Request.Body) != want || len(sent) != 1 || sent[0].Pointer != "/code" {
			t.Errorf("%s: %s, %v", body, got.Request.Body, sent)
		}
		c.Again = true
		if got, _ := c.Renewed(1); string(got.Request.Body) == `{"code":"other"}` {
			t.Errorf("%s is sent again as it was", body)
		}
	}
}
