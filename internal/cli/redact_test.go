package cli

import (
	"strings"
	"testing"
)

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
