package judge

import (
	"fmt"
	"strings"
	"testing"

	"obiter/internal/core/exchange"
)

// bareCodes are the codes of findings, without their severities.
func bareCodes(found []Finding) string {
	var out []string
	for _, f := range found {
		out = append(out, f.Code)
	}
	return strings.Join(out, " ")
}

// TestAllPartsOfARequestAreKnown: a pointer into another part leads somewhere, and
// blames what was right.
func TestAllPartsOfARequestAreKnown(t *testing.T) {
	header := broken(t, exchange.Parameter, "/X-Watch pattern")
	header.Flaws[0].In, header.Body, header.Control = "header", map[string]any{"X-Watch": "no"}, map[string]any{"X-Watch": "first"}
	header.Request.Body = []byte(`{"name":"Borealis","crew":[{"name":"a"}]}`)
	body := broken(t, exchange.Constraint, "/name minLength")
	body.Operation, body.Request.URL = "PUT /vessels/{vessel_id}", "http://127.0.0.1/vessels/7?dry_run=true"
	for _, x := range []struct {
		c       exchange.Case
		pointer string
		want    string
	}{
		{header, "#/crew/0/name", "missed-field wrong-field"}, {header, "#/crew/1/name", "broken-pointer"}, {header, "#/X-Watch", ""},
		{body, "#/dry_run", "missed-field wrong-field"}, {body, "#/vessel_id", "missed-field wrong-field"}, {body, "#/nowhere", "broken-pointer"},
	} {
		_, found := judged(x.c, answer(422, problemMedia, named(x.pointer)), true)
		if s := bareCodes(found); s != x.want {
			t.Errorf("%s: %q, want %q", x.pointer, s, x.want)
		}
	}
}

// TestBlameInAndAroundAlternatives: branches that did not match are reported under
// full or bare names; a tag that is wrong too leaves open which rules hold.
func TestBlameInAndAroundAlternatives(t *testing.T) {
	inside := broken(t, exchange.Constraint, "/cargo/weight_t maximum")
	inside.Alternatives = []string{"/cargo"}
	both := broken(t, exchange.Constraint, "/cargo/kind const", "/cargo/weight_t maximum")
	both.Alternatives = inside.Alternatives
	one := broken(t, exchange.Constraint, "/name required")
	long := broken(t, exchange.Constraint, "/name maxLength")
	one.Alternatives, long.Alternatives = []string{""}, []string{""}
	whole := answer(422, problemMedia, `{"type":"https://harbour.example/invalid","title":"Invalid","errors":[{"pointer":"#","detail":"none of the branches takes it"}]}`)
	filter := broken(t, exchange.Parameter, "/filter/colour enum")
	filter.Flaws[0].In = "query"
	two := func(names ...string) exchange.Answer {
		var list []string
		for _, n := range names {
			list = append(list, fmt.Sprintf(`{"field":%q,"message":"x"}`, n))
		}
		return answer(422, problemMedia, `{"type":"https://harbour.example/invalid","title":"Invalid","errors":[`+strings.Join(list, ",")+`]}`)
	}
	for _, x := range []struct {
		name string
		c    exchange.Case
		a    exchange.Answer
		want string
	}{
		{"full names of other branches", inside, two("cargo.weight_t", "cargo.volume_m3"), ""},
		{"bare names of other branches", inside, two("cargo.weight_t", "volume_m3"), ""},
		{"a bare name that is one at the top", inside, two("cargo.weight_t", "name"), "wrong-field"},
		{"one of several members is missing, and the body is named", one, whole, ""},
		{"a member is too long, and the body is named", long, whole, "no-field-errors"},
		{"only the tag", both, two("cargo.kind"), ""},
		{"a member of a parameter, as seen from it", filter, two("colour"), ""},
	} {
		_, found := judged(x.c, x.a, true)
		if s := bareCodes(found); s != x.want {
			t.Errorf("%s: %q, want %q", x.name, s, x.want)
		}
	}
}

// TestWhatEarlierRequestsMadeIsInTheWay: an answer about that says nothing of the flaw.
func TestWhatEarlierRequestsMadeIsInTheWay(t *testing.T) {
	c := broken(t, exchange.Constraint, "/flag pattern")
	said := func(field, words string) exchange.Answer {
		return answer(422, problemMedia, fmt.Sprintf(`{"type":"https://harbour.example/invalid","title":"Invalid","errors":[{"field":%q,"message":%q}]}`, field, words))
	}
	for _, x := range []struct {
		name    string
		c       exchange.Case
		a       exchange.Answer
		verdict Verdict
		want    string
	}{
		{"a name that is taken", c, said("name", "has already been taken"), Unproven, "conflict"},
		{"another rule of that name", c, said("name", "is too short"), Fail, "missed-field wrong-field"},
		{"the flawed field is said to be taken", c, said("flag", "already exists"), Pass, ""},
		{"the rule is that of values that are taken", broken(t, exchange.Duplicate, "/flag unique"), said("flag", "already exists"), Pass, ""},
	} {
		verdict, found := judged(x.c, x.a, true)
		if s := bareCodes(found); s != x.want || verdict != x.verdict {
			t.Errorf("%s: %s %q, want %s %q", x.name, verdict, s, x.verdict, x.want)
		}
	}
}
