package judge

import (
	"strings"
	"testing"

	"obiter/internal/core/exchange"
)

// TestWhatBecomesOfValuesThatMayBeTaken: a member that the service sets must not be
// stored, and of blanks it is told what becomes of them.
func TestWhatBecomesOfValuesThatMayBeTaken(t *testing.T) {
	made := func(rule, variant string, v any) exchange.Case {
		return exchange.Case{Kind: exchange.Flawed, Body: map[string]any{"name": v}, Expect: exchange.Expect{Class: exchange.Either, Statuses: exchange.Either.Statuses()},
			Flaws: []exchange.Flaw{{In: "body", Pointer: "/name", Rule: rule, Variant: variant, Reason: "r"}}}
	}
	for _, c := range []struct {
		name     string
		c        exchange.Case
		a        exchange.Answer
		code     string
		severity Severity
		says     string
	}{
		{"stored", made("read-only", "sent", "ballast"), answer(201, "application/json", `{"name":"ballast"}`), "read-only-stored", Error, "was taken from the request"},
		{"not described", made("read-only", "undescribed", "ballast"), answer(201, "application/json", `{"name":"ballast"}`), "read-only-stored", Warning, ""},
		{"ignored", made("read-only", "sent", "ballast"), answer(201, "application/json", `{"name":"7f3a"}`), "", "", ""},
		{"not shown", made("read-only", "sent", "ballast"), answer(204, "", ``), "", "", ""},
		{"blanks as they are", made("blank", "spaces", "   "), answer(201, "application/json", `{"name":"   "}`), "blank-text", Note, "is stored as it is"},
		{"blanks trimmed", made("blank", "spaces", "   "), answer(201, "application/json", `{"name":""}`), "blank-text", Note, "is trimmed"},
		{"blanks replaced", made("blank", "spaces", "   "), answer(201, "application/json", `{"name":"unnamed"}`), "blank-text", Note, `"unnamed" is stored in its place`},
		{"blanks accepted", made("blank", "spaces", "   "), answer(204, "", ``), "blank-text", Note, "does not show"},
		{"blanks refused", made("blank", "spaces", "   "), answer(422, problemMedia, named("#/name")), "blank-text", Note, "is refused"},
		{"a crash", made("blank", "spaces", "   "), answer(500, "", ``), "crashed", Error, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := Case(c.c, c.a, Context{Proven: true})
			if c.code == "" {
				if len(got.Findings) > 0 {
					t.Errorf("%+v", got.Findings)
				}
				return
			}
			if len(got.Findings) == 0 || got.Findings[0].Code != c.code || got.Findings[0].Severity != c.severity || !strings.Contains(got.Findings[0].Message, c.says) {
				t.Errorf("%+v, want %s %s %q", got.Findings, c.severity, c.code, c.says)
			}
			if fails := got.Verdict == Fail; fails != (c.severity == Error) {
				t.Errorf("the verdict is %s", got.Verdict)
			}
		})
	}
}

// TestGuessedAndRareValuesAccuseLess: a control whose value may break what could not be
// checked was not reached, and a form that is seldom met is worth a warning.
func TestGuessedAndRareValuesAccuseLess(t *testing.T) {
	control := exchange.Case{Kind: exchange.Control, Base: "fullest", Operation: "POST /vessels", Body: map[string]any{"name": "x"}, Expect: exchange.Expect{Class: exchange.Accepted}}
	refused := answer(422, problemMedia, named("#/name"))
	if got := Case(control, refused, Context{}); got.Findings[0].Code != "control-rejected" {
		t.Errorf("a control: %+v", got.Findings)
	}
	control.Unchecked = []string{exchange.Flaw{In: "body", Pointer: "/name"}.Where()}
	if got := Case(control, refused, Context{}); got.Findings[0].Code != "not-reached" {
		t.Errorf("a guess: %+v", got.Findings)
	}
	edge := exchange.Case{Kind: exchange.Edge, Body: map[string]any{"name": "x"}, Edge: &exchange.Flaw{In: "body", Pointer: "/name", Rule: "format", Reason: "r"}, Expect: exchange.Expect{Class: exchange.Accepted}}
	if got := Case(edge, refused, Context{Proven: true}); got.Findings[0].Severity != Error {
		t.Errorf("an edge: %+v", got.Findings)
	}
	edge.Expect.Rare = true
	if got := Case(edge, refused, Context{Proven: true}); got.Findings[0].Severity != Warning || got.Verdict == Fail {
		t.Errorf("a rare one: %+v", got)
	}
}
