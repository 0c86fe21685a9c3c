package judge

import (
	"strings"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/evaluate/layout"
)

func codes(found []Finding) string {
	var out []string
	for _, f := range found {
		out = append(out, string(f.Severity)+" "+f.Code)
	}
	return strings.Join(out, ", ")
}

// TestBusinessVerdicts judges answers to what the configuration adds: sound ones first.
func TestBusinessVerdicts(t *testing.T) {
	named := func(pointer, detail string) string {
		return `{"title":"Invalid","errors":[{"pointer":"#` + pointer + `","detail":"` + detail + `"}]}`
	}
	both := `{"title":"Invalid","errors":[{"pointer":"#/name","detail":"a"},{"pointer":"#/flag","detail":"b"}]}`
	says := func(c exchange.Case, text string) exchange.Case { c.Expect.Says = text; return c }
	allowing := func(c exchange.Case, at ...string) exchange.Case { c.MayBlame = at; return c }
	for _, x := range []struct {
		name string
		c    exchange.Case
		a    exchange.Answer
		want string
	}{
		{"a conflict need not name the field", broken(t, exchange.Duplicate, "/name unique"), answer(409, problemMedia, `{"title":"Taken"}`), ""},
		{"a duplicate among the fields", broken(t, exchange.Duplicate, "/name unique"), answer(422, problemMedia, named("/name", "is taken")), ""},
		{"a duplicate that names nothing", broken(t, exchange.Duplicate, "/name unique"), answer(422, problemMedia, `{"title":"Taken"}`), "error no-field-errors"},
		{"another field may be blamed", allowing(broken(t, exchange.Constraint, "/name maxLength"), "/flag"), answer(422, problemMedia, both), ""},
		{"another field alone is not enough", allowing(broken(t, exchange.Constraint, "/name maxLength"), "/flag"), answer(422, problemMedia, named("/flag", "x")), "error missed-field"},
		{"another field may not", broken(t, exchange.Constraint, "/name maxLength"), answer(422, problemMedia, both), "error wrong-field"},
		{"the message is right", says(broken(t, exchange.Constraint, "/name holds"), "(?i)digit"), answer(422, problemMedia, named("/name", "needs a Digit")), ""},
		{"the message is another", says(broken(t, exchange.Constraint, "/name holds"), "digit"), answer(422, problemMedia, named("/name", "is not valid")), "error wrong-message"},
		{"one of two messages is right", says(broken(t, exchange.Constraint, "/name holds"), "digit"),
			answer(422, problemMedia, `{"title":"Invalid","errors":[{"pointer":"#/name","detail":"too short"},{"pointer":"#/name","detail":"no digit"}]}`), ""},
		{"an empty message is only empty", says(broken(t, exchange.Constraint, "/name holds"), "digit"), answer(422, problemMedia, named("/name", "")), "warning empty-message"},
		{"a field that is not named has no message", says(broken(t, exchange.Constraint, "/name holds"), "digit"), answer(422, problemMedia, `{"title":"Invalid"}`), "error no-field-errors"},
		{"without a field the problem's own words count", says(broken(t, exchange.Duplicate, "/name unique"), "is taken"), answer(409, problemMedia, `{"title":"T","detail":"the name is taken"}`), ""},
		{"and may be others", says(broken(t, exchange.Duplicate, "/name unique"), "is taken"), answer(409, problemMedia, `{"title":"Conflict"}`), "error wrong-message"},
		{"a credential refused", broken(t, exchange.Unauthorized, "request credentials"), answer(401, problemMedia, `{"title":"Sign in"}`, "WWW-Authenticate", "Bearer"), ""},
		{"a malformed one may be a bad request", broken(t, exchange.Malformed, "request credentials"), answer(400, problemMedia, `{"title":"Sign in"}`), ""},
		{"a missing one may not be forbidden", broken(t, exchange.Unauthorized, "request credentials"), answer(403, problemMedia, `{"title":"No"}`), "error wrong-status"},
		{"without a challenge", broken(t, exchange.Unauthorized, "request credentials"), answer(401, problemMedia, `{"title":"Sign in"}`), "error missing-header"},
		{"let in without", broken(t, exchange.Unauthorized, "request credentials"), answer(200, "application/json", `{}`), "error accepted"},
	} {
		if _, found := judged(x.c, x.a, true); codes(found) != x.want {
			t.Errorf("%s: %q, want %q: %+v", x.name, codes(found), x.want, found)
		}
	}
}

// TestWhatIsNotThereIsGone: a DELETE of nothing may be a success.
func TestWhatIsNotThereIsGone(t *testing.T) {
	c := exchange.Case{Kind: exchange.Flawed, Request: exchange.Request{Method: "DELETE"}, Expect: exchange.Expect{Class: exchange.PathParameter},
		Flaws: []exchange.Flaw{{In: "path", Pointer: "/id", Rule: "pattern", Reason: "it is so"}}}
	if v, found := judged(c, answer(204, "", ""), true); v != Unproven || codes(found) != "warning accepted" {
		t.Errorf("%s %q", v, codes(found))
	}
	c.Request.Method = "GET"
	if v, found := judged(c, answer(200, "application/json", "{}"), true); v != Fail || codes(found) != "error accepted" {
		t.Errorf("%s %q", v, codes(found))
	}
}

func TestAConfiguredNotation(t *testing.T) {
	c := broken(t, exchange.Constraint, "/crew/0/name minLength")
	for body, want := range map[string]string{
		`{"title":"x","errors":[{"at":"crew.0.name","says":"x"}]}`:    "",
		`{"title":"x","errors":[{"at":"/crew/0/name","says":"x"}]}`:   "error odd-layout",
		`{"title":"x","errors":[{"at":"crew[0].name","detail":"x"}]}`: "error odd-layout",
	} {
		known := layout.Layout{List: "/errors", Field: "/at", Notation: layout.Dotted}
		j := Case(c, answer(422, problemMedia, body), Context{Proven: true, Layout: &known})
		if codes(j.Findings) != want {
			t.Errorf("%s: %q, want %q", body, codes(j.Findings), want)
		}
	}
}
