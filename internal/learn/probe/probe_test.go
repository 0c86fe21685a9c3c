package probe

import (
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"

	"obiter/internal/core/exchange"
	"obiter/internal/core/secret"
	"obiter/internal/learn/draft"
)

// service is a service that checks one field, x; it says why it refuses.
type service func(x any, there bool) (why string)

func (s service) answer(body any) exchange.Answer {
	object, is := body.(map[string]any)
	why := "must be an object"
	if is {
		x, there := object["x"]
		why = s(x, there)
	}
	if why == "" {
		return exchange.Answer{Status: 201, Header: http.Header{}, Body: []byte("{}")}
	}
	return exchange.Answer{Status: 422, Header: http.Header{}, Body: fmt.Appendf(nil, `{"errors":[{"field":"x","message":%q}]}`, why)}
}

// text is a service that wants a text there, of which ok says whether it is right.
func text(ok func(string) bool, why string) service {
	return func(x any, there bool) string {
		s, is := x.(string)
		if !there || !is || !ok(s) {
			return why
		}
		return ""
	}
}

func numbers(ok func(float64) bool) service {
	return func(x any, there bool) string {
		n, is := x.(json.Number)
		f, err := n.Float64()
		if !there || !is || err != nil || !ok(f) {
			return "is wrong"
		}
		return ""
	}
}

func list(ok func([]any) bool) service {
	return func(x any, there bool) string {
		if l, is := x.([]any); there && is && ok(l) {
			return ""
		}
		return "is wrong"
	}
}

// probed is what is found out of x, in words, and how it ended.
func probed(t *testing.T, sample any, send func(any) exchange.Answer) (says string, out Outcome) {
	t.Helper()
	d := draft.New(&secret.Set{})
	d.Settle()
	p := d.Probe("POST", "/tugs", "application/json")
	if out = Operation(map[string]any{"x": sample}, false, send, p); out.Chance {
		p.Doubted()
	}
	for _, l := range p.Lines() {
		if l.Field == "/x" {
			says = l.Says
		}
	}
	return says, out
}

func between(least, most int) func(string) bool {
	return func(s string) bool { n := utf8.RuneCountInString(s); return n >= least && n <= most }
}

func TestRulesAreFound(t *testing.T) {
	matches := func(p string) func(string) bool { return regexp.MustCompile(p).MatchString }
	for name, c := range map[string]struct {
		sample any
		is     service
		want   string
	}{
		"a length":       {"Otter", text(between(2, 80), "is wrong"), "required, text, 2 to 80 characters, blanks are accepted"},
		"any length":     {"Otter", text(func(string) bool { return true }, "is wrong"), "required, text, blanks are accepted"},
		"trimmed":        {"Otter", text(func(s string) bool { return between(2, 80)(strings.TrimSpace(s)) }, "is wrong"), "required, text, 2 to 80 characters, blanks are refused"},
		"nothing at all": {"Otter", func(any, bool) string { return "" }, "optional, any type is taken, blanks are accepted"},
		"optional": {"Otter", func(x any, there bool) string {
			return map[bool]string{true: "", false: "is wrong"}[!there || text(between(0, 9), "no")(x, there) == ""]
		}, "optional, text, at most 9 characters, blanks are accepted"},
		"null as well": {"Otter", func(x any, there bool) string {
			return map[bool]string{true: "", false: "is wrong"}[there && x == nil || text(between(1, 9), "no")(x, there) == ""]
		}, "required, text or null, 1 to 9 characters, blanks are accepted"},
		"a form":            {"BB-000012", text(matches(`^BB-[0-9]{6}$`), "is wrong"), "required, text, form ^BB-[0-9]{6}$, blanks are refused"},
		"letters of a part": {"C12", text(matches(`^[A-F][0-9]{1,2}$`), "is wrong"), "required, text, form ^[A-F][0-9]{1,2}$, blanks are refused"},
		"characters":        {"LAXB7", text(matches(`^[A-Z0-9]{3,7}$`), "is wrong"), "required, text, form ^[A-Z0-9]+$, 3 to 7 characters, blanks are refused"},
		"a date":            {"2031-05-04", text(matches(`^\d{4}-\d\d-\d\d$`), "is wrong"), "required, text, date, blanks are refused"},
		"listed":            {"mate", text(matches(`^(master|mate|cook)$`), "must be one of master, mate or cook."), "required, text, one of cook, master, mate, blanks are refused"},
		"in quotes":         {"mate", text(matches(`^(master|chief mate|mate)$`), `expected "master", "chief mate", "mate"`), "one of chief mate, master, mate"},
		"not said":          {"mate", text(matches(`^(master|mate)$`), "is wrong"), "only values that the service knows are taken"},
		"words that lie":    {"mate", text(matches(`^(master|mate)$`), "one of mate, master, admiral"), "one of master, mate"},
		"whatever its order": {"abcdeA1!", text(func(s string) bool {
			return between(8, 20)(s) && strings.ContainsAny(s, "0123456789") && strings.ContainsAny(s, "ABCDEFGHIJKLMNOPQRSTUVWXYZ") && strings.ContainsAny(s, "!?")
		}, "is too simple"), "required, text, 8 to 20 characters, blanks are refused, not every text is taken"},
		"with a digit":          {"tides of 12", text(func(s string) bool { return between(6, 40)(s) && strings.ContainsAny(s, "0123456789") }, "needs a digit"), "6 to 40 characters, blanks are refused, not every text is taken"},
		"whole numbers":         {json.Number("24"), numbers(func(f float64) bool { return f == float64(int64(f)) && f >= 1 && f <= 5000 }), "required, whole number, at least 1, at most 5000"},
		"numbers":               {json.Number("182.5"), numbers(func(f float64) bool { return f > 0 && f <= 400 }), "required, number, more than 0, at most 400"},
		"steps":                 {json.Number("1250"), numbers(func(f float64) bool { return f == float64(int64(f)/50)*50 && f >= 0 && f <= 20000 }), "required, whole number, at least 0, at most 20000, in steps of 50"},
		"below zero":            {json.Number("4"), numbers(func(f float64) bool { return f == float64(int64(f)) && f >= -40 && f <= 60 }), "at least -40, at most 60"},
		"cut off to whole ones": {json.Number("3"), numbers(func(f float64) bool { return int(f) >= 1 && int(f) <= 9 }), "required, number, at least 1, less than 10"},
		"true alone":            {true, func(x any, _ bool) string { return map[bool]string{true: "", false: "is wrong"}[x == true] }, "required, true or false, only true"},
		"read leniently": {json.Number("7"), func(x any, _ bool) string {
			if s, is := x.(string); is {
				x = json.Number(s)
			}
			return numbers(func(f float64) bool { return f == float64(int64(f)) })(x, true)
		}, "required, text or whole number"},
		"a list":      {[]any{"water"}, list(func(l []any) bool { return len(l) >= 1 && len(l) <= 30 }), "required, list, 1 to 30 elements"},
		"none twice":  {[]any{"water", "waste"}, list(func(l []any) bool { return !(len(l) == 2 && l[0] == l[1]) && len(l) <= 3 }), "required, list, at most 3 elements, no element twice"},
		"fails on it": {json.Number("7"), func(x any, _ bool) string { return map[bool]string{true: "", false: "is wrong"}[x != nil] }, "required, anything but null"},
	} {
		says, out := probed(t, c.sample, c.is.answer)
		if !strings.Contains(says, c.want) || out.Doubt != "" {
			t.Errorf("%s: %q (%s), want %q", name, says, out.Doubt, c.want)
		}
		if out.Requests > 150 {
			t.Errorf("%s: %d requests", name, out.Requests)
		}
	}
}

// TestWhatCannotBeTold: a service that refuses everything, answers by chance, wants to be
// left alone, or takes a sample once ends in a doubt, and states no rule.
func TestWhatCannotBeTold(t *testing.T) {
	fine := exchange.Answer{Status: 201, Header: http.Header{}}
	no := exchange.Answer{Status: 422, Header: http.Header{}, Body: []byte(`{"detail":"closed for the night"}`)}
	n := 0
	for name, c := range map[string]struct {
		send func(any) exchange.Answer
		want string
	}{
		"refuses everything": {func(any) exchange.Answer { return no }, "the sample itself is refused: {\"detail\":\"closed for the night\"}"},
		"takes it once":      {func(any) exchange.Answer { n++; return map[bool]exchange.Answer{true: fine, false: no}[n == 1] }, "accepted once and refused then"},
		"closes after a while": {func() func(any) exchange.Answer {
			k := 0
			return func(any) exchange.Answer { k++; return map[bool]exchange.Answer{true: fine, false: no}[k < 12] }
		}(), "although it was accepted"},
		"answers by chance": {func() func(any) exchange.Answer {
			k, calls := uint32(7), 0
			return func(any) exchange.Answer {
				k = k*1664525 + 1013904223
				calls++
				return map[bool]exchange.Answer{true: fine, false: no}[k>>30 > 0 || calls < 4]
			}
		}(), "so nothing can be told"},
		"wants to be left alone": {func() func(any) exchange.Answer {
			k := 0
			return func(any) exchange.Answer {
				if k++; k > 5 {
					return exchange.Answer{Status: 429, Header: http.Header{}}
				}
				return fine
			}
		}(), "wants to be left alone (429)"},
		"dies": {func() func(any) exchange.Answer {
			k := 0
			return func(any) exchange.Answer {
				if k++; k > 6 {
					return exchange.Answer{Err: "the connection is refused"}
				}
				return fine
			}
		}(), "does not answer any more: the connection is refused"},
		"asks who it is": {func(any) exchange.Answer { return exchange.Answer{Status: 401, Header: http.Header{}} }, "asks for credentials (401)"},
	} {
		says, out := probed(t, "Otter", c.send)
		if !strings.Contains(out.Doubt, c.want) {
			t.Errorf("%s: %q, want %q", name, out.Doubt, c.want)
		}
		if out.Chance && says != "nothing is certain" && says != "" {
			t.Errorf("%s: all the same it says %q", name, says)
		}
	}
}

func TestUniqueAndDependent(t *testing.T) {
	seen := map[string]bool{}
	send := func(body any) exchange.Answer {
		object, _ := body.(map[string]any)
		ref, _ := object["ref"].(string)
		pull, _ := object["pull"].(json.Number)
		tugs, _ := object["tugs"].(json.Number)
		p, e := pull.Int64()
		n, err := tugs.Int64()
		bad := e != nil || err != nil || n < 1 || n > 6 || p < 1 || p > 300 || p > n*60 || !regexp.MustCompile(`^TW-[A-Z0-9]{6}$`).MatchString(ref) || seen[ref]
		if bad {
			return exchange.Answer{Status: 422, Header: http.Header{}, Body: []byte(`{}`)}
		}
		seen[ref] = true
		return exchange.Answer{Status: 201, Header: http.Header{}}
	}
	d := draft.New(&secret.Set{})
	d.Settle()
	p := d.Probe("POST", "/tows", "application/json")
	out := Operation(map[string]any{"ref": "TW-19A12B", "pull": json.Number("95"), "tugs": json.Number("2")}, false, send, p)
	got := map[string]string{}
	for _, l := range p.Lines() {
		got[l.Field] = l.Says
	}
	if out.Doubt != "" || len(out.Unique) != 1 || out.Unique[0] != "/ref" {
		t.Errorf("%+v", out)
	}
	for at, want := range map[string]string{"/ref": "form ^TW-[A-Z0-9]{6}$, a new value each time (unique)", "/pull": "at least 1, at most 300, its limits depend on /tugs", "/tugs": "at least 1, at most 6"} {
		if !strings.Contains(got[at], want) {
			t.Errorf("%s: %q, want %q", at, got[at], want)
		}
	}
}

func TestDifferences(t *testing.T) {
	for name, c := range map[string]struct {
		described, found string
		want             string
	}{
		"the same":            {"required type minLength", "required type minLength", ""},
		"one not enforced":    {"type maxLength", "type", "not enforced: maxLength"},
		"one not described":   {"type", "type required", "not described: required"},
		"said in another way": {"type pattern", "type minLength maxLength", ""},
		"a format of numbers": {"type format", "type maximum minimum", ""},
		"a const":             {"const", "enum type", ""},
		"both":                {"type minItems", "type required", "not enforced: minItems; not described: required"},
	} {
		got := differences([]string{"/x", "/y"}, map[string][]string{"/x": usuals(c.described), "/y": {"type"}}, map[string][]string{"/x": strings.Fields(c.found)})
		if got["/x"].String() != c.want {
			t.Errorf("%s: %v, want %q", name, got, c.want)
		}
	}
}

func usuals(rules string) []string {
	var out []string
	for _, r := range strings.Fields(rules) {
		out = append(out, usual(r))
	}
	return out
}

func TestAlikeKeepsTheForm(t *testing.T) {
	for _, text := range []string{"Otter", "TW-19A12B", "2031-05-04", "sea otter 12"} {
		seen := map[string]bool{text: true}
		for n := 1; n < 60; n++ {
			got := alike(text, n)
			if len(got) != len(text) || seen[got] && len(text) > 5 && !strings.Contains(text, "2031") {
				t.Errorf("%s %d: %s", text, n, got)
			}
			seen[got] = true
		}
	}
}
