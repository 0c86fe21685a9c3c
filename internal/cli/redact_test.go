package cli

import (
	"strings"
	"testing"

	"obiter/internal/exchange"
)

func TestCurlNamesCredentials(t *testing.T) {
	for want, c := range map[string]exchange.Credential{
		`-H "Authorization: Bearer $OF_FICE"`:            {Scheme: "of fice", Kind: "bearer", In: "header", Name: "Authorization"},
		`-H "Authorization: Bearer no token, but words"`: {Scheme: "a", Kind: "bearer", In: "header", Name: "Authorization", Flaw: "malformed"},
		`-u "$USER1"`:                      {Scheme: "user1", Kind: "basic", In: "header", Name: "Authorization"},
		`-H "X-Key: nobody"`:               {Scheme: "k", Kind: "apiKey", In: "header", Name: "X-Key", Flaw: "wrong"},
		`--url-query "k=$K"`:               {Scheme: "k", Kind: "apiKey", In: "query", Name: "k"},
		`-b "watch=$K" -H 'Obiter-`:        {Scheme: "k", Kind: "apiKey", In: "cookie", Name: "watch"},
		`-H "X-Tide: $X_TIDE" -H 'Obiter-`: {Scheme: "k", Kind: "apiKey", In: "header", Name: "X-Key", Flaw: "missing"},
	} {
		line := curl(exchange.Case{ID: "0123456789", Request: exchange.Request{Method: "GET", URL: "http://h"}, Credentials: []exchange.Credential{c}}, []string{"Authorization", "X-Key", "X-Tide"})
		if !strings.Contains(line, want) || strings.Count(line, c.Name+":") > 1 {
			t.Errorf("%+v is sent by %s, want %s", c, line, want)
		}
	}
}

func TestRedaction(t *testing.T) {
	var r redactor
	if got := r.text("nothing is secret"); got != "nothing is secret" {
		t.Error(got)
	}
	r.learn([]string{"tide", "tide-19", `a"b`, "", "<høch>"})
	r.learn([]string{"tide"})
	for text, want := range map[string]string{
		"Bearer tide-19 and tide": "Bearer [not kept] and [not kept]",
		`{"x":"a\"b"}`:            `{"x":"[not kept]"}`,
		`"{\"x\":\"a\\\"b\"}"`:    `"{\"x\":\"[not kept]\"}"`,
		"<høch>":                  "[not kept]",
		"untidy":                  "untidy",
	} {
		if got := r.text(text); got != want {
			t.Errorf("%s becomes %s, want %s", text, got, want)
		}
	}
	var b strings.Builder
	if n, err := r.writer(&b).Write([]byte("tide turns\n")); n != 11 || err != nil || b.String() != "[not kept] turns\n" {
		t.Errorf("%d, %v, %q", n, err, b.String())
	}
}
