package secret_test

import (
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/core/secret"
)

func TestASecretIsFoundHoweverItIsWritten(t *testing.T) {
	const value = `tide "1912"/<höch> &c🚢`
	var s secret.Set
	s.Learn("PHRASE", value)
	html, _ := json.Marshal(value)
	twice, _ := json.Marshal(string(html))
	for name, text := range map[string]string{
		"as it is": value, "in JSON": string(html), "in JSON in JSON": string(twice),
		"with what is not ASCII escaped": `tide \"1912\"/<h\u00f6ch> &c\ud83d\udea2`, "with capital digits": `tide \"1912\"/<h\u00F6ch> &c\uD83D\uDEA2`,
		"with slashes escaped": `tide \"1912\"\/<höch> &c🚢`, "in a query": url.QueryEscape(value), "in a path": url.PathEscape(value),
		"with %20": strings.ReplaceAll(url.QueryEscape(value), "+", "%20"), "with small hexadecimal digits": strings.ReplaceAll(strings.ReplaceAll(url.PathEscape(value), "%C3%B6", "%c3%b6"), "%F0%9F%9A%A2", "%f0%9f%9a%a2"),
		"in base64": base64.StdEncoding.EncodeToString([]byte(value)),
	} {
		got := s.Redact("<" + text + ">")
		if name == "with small hexadecimal digits" { // the rest has capital ones: a mixture that nobody writes
			continue
		}
		if !strings.Contains(got, "[PHRASE not kept]") || strings.Contains(got, "1912") {
			t.Errorf("%s: %s", name, got)
		}
	}
}

func TestRedaction(t *testing.T) {
	var s secret.Set
	if got := s.Redact("nothing is secret"); got != "nothing is secret" {
		t.Error(got)
	}
	s.Learn("A", "spring")
	s.Learn("B", "spring-19")
	s.Learn("C", "case") // short
	s.Learn("D", "123456")
	s.Learn("E", "")
	for text, want := range map[string]string{
		"Bearer spring-19 and spring": "Bearer [B not kept] and [A not kept]",
		"a case of springs":           "a case of [A not kept]s",
		"case":                        "[C not kept]",
		`{"pin":123456}`:              `{"pin":999999}`, // still a number
	} {
		if got := s.Redact(text); got != want {
			t.Errorf("%s becomes %s, want %s", text, got, want)
		}
	}
	if got := s.Short(); !slices.Equal(got, []string{"C"}) {
		t.Errorf("short are %v", got)
	}
}

func TestWhatHeadersAndCredentialsAreMadeOf(t *testing.T) {
	basic := func(text string) string { return base64.StdEncoding.EncodeToString([]byte(text)) }
	for _, c := range []struct {
		learn func(*secret.Set)
		parts []string
	}{
		{func(s *secret.Set) { s.LearnHeader("Authorization", "Bearer chart-datum") }, []string{"Bearer chart-datum", "chart-datum"}},
		{func(s *secret.Set) { s.LearnHeader("Authorization", "Basic "+basic("office:low-water")) }, []string{basic("office:low-water"), "low-water"}},
		{func(s *secret.Set) { s.LearnHeader("Cookie", "watch=forenoon; bell=eight-bells") }, []string{"forenoon", "eight-bells"}},
		{func(s *secret.Set) { s.LearnHeader("X-Key", "spring tide") }, []string{"spring tide"}},
		{func(s *secret.Set) { s.LearnCredential("office", "office:low-water") }, []string{basic("office:low-water"), "office:low-water", "low-water"}},
	} {
		var s secret.Set
		c.learn(&s)
		for _, part := range c.parts {
			if got := s.Redact("see " + part + "."); strings.Contains(got, part) {
				t.Errorf("%q is left in %q", part, got)
			}
		}
	}
}

func TestExchangesLoseTheirSecrets(t *testing.T) {
	var s secret.Set
	s.Learn("TOKEN", "slack-water")
	s.Learn("PIN", "482913")
	body := map[string]any{"pass": "slack-water", "pins": []any{json.Number("482913")}, "slack-water": true}
	e := exchange.Exchange{Case: exchange.Case{Request: exchange.Request{URL: "http://h/?k=slack-water", Headers: [][2]string{{"X", "slack-water"}}, Body: []byte(`{"pass":"slack-water","pins":[482913],"slack-water":true}`)},
		Body: body, Control: body, Parts: map[string]any{"body": body}},
		Response:   exchange.Answer{Header: http.Header{"X": {"slack-water"}}, Body: []byte("no slack-water"), Err: "slack-water"},
		Documented: &exchange.Documented{How: "slack-water is wrong"}}
	got := s.Exchange(e)
	written, _ := json.Marshal([]any{got.Request, got.Body, got.Control, got.Parts, got.Response, got.Documented})
	if strings.Contains(string(written), "slack-water") || strings.Contains(string(written), "482913") {
		t.Errorf("left in %s", written)
	}
	before, _ := json.Marshal([]any{e.Request, e.Body})
	if !strings.Contains(string(before), "slack-water") {
		t.Error("the exchange itself was changed")
	}
	if sent, err := instance.Decode(got.Request.Body); err != nil || !instance.Equal(sent, got.Body) {
		t.Errorf("the body is %v and was sent as %s", got.Body, got.Request.Body)
	}
}

// TestWhatIsWrittenCanStillBeRead: secrets are taken out of values, whatever they are
// made of, and names, numbers and marks of what holds them stay.
func TestWhatIsWrittenCanStillBeRead(t *testing.T) {
	for _, value := range []string{`a"b`, `"`, `\`, `{"a":1}`, `],"case":[`, "case", "detail", "status", "true", "null", "%2F%2F", "tide&ebb=1", "a/b/c?d", "höch 🚢 wasser", "12", "123456", "berth 7", "</script>", "line\nbreak", "Basic abc", `\u0041bcdef`} {
		var s secret.Set
		s.Learn("PW", value)
		held := map[string]any{"case": "of " + value + ".", "detail": value, "status": json.Number("422"), "list": []any{value, true, nil, json.Number("17")}}
		body := instance.Encode(held)
		form := url.Values{"a": {value}, "b": {"x"}}.Encode()
		for name, e := range map[string]exchange.Exchange{
			"JSON":    {Case: exchange.Case{Request: exchange.Request{URL: "http://h/case/" + url.PathEscape(value) + "?" + form, Headers: [][2]string{{"Content-Type", "application/json"}, {"X-Pass", value}}, Body: body}, Body: held}, Response: exchange.Answer{Status: 422, Header: http.Header{"Content-Type": {"application/problem+json"}}, Body: body}},
			"a form":  {Case: exchange.Case{Request: exchange.Request{URL: "http://h/", Headers: [][2]string{{"Content-Type", "application/x-www-form-urlencoded"}}, Body: []byte(form)}}},
			"cut off": {Case: exchange.Case{Request: exchange.Request{URL: "http://h/", Headers: [][2]string{{"Content-Type", "application/json"}}, Body: body[:len(body)-1]}}},
		} {
			got := s.Exchange(e)
			left := false
			find := func(_ string, v any) bool {
				text, _ := v.(string)
				left = left || text == value || len([]rune(value)) >= 6 && strings.Contains(text, value)
				return true
			}
			if name == "JSON" {
				for i, b := range [][]byte{got.Request.Body, got.Response.Body} {
					v, err := instance.Decode(b)
					object, _ := v.(map[string]any)
					if err != nil || len(object) != 4 || object["status"] != json.Number("422") {
						t.Errorf("%q: %s: %v", value, b, err)
					}
					if instance.Walk(v, find); left && (i == 0 || held[value] == nil) {
						t.Errorf("%q is left in %s", value, b)
					}
				}
				if sent, err := instance.Decode(got.Request.Body); err != nil || !instance.Equal(sent, got.Body) {
					t.Errorf("%q: the body is %v and was sent as %s", value, got.Body, got.Request.Body)
				}
				u, err := url.Parse(got.Request.URL)
				if err != nil || strings.HasSuffix(u.Path, "/"+value) && value != "12" || u.Query().Get("a") == value || u.Query().Get("b") != "x" || got.Request.Headers[1][1] == value || got.Request.Headers[0][1] != "application/json" {
					t.Errorf("%q: %s %v: %v", value, got.Request.URL, got.Request.Headers, err)
				}
			}
			if name == "a form" {
				if v, err := url.ParseQuery(string(got.Request.Body)); err != nil || v.Get("a") == value || v.Get("b") != "x" {
					t.Errorf("%q: %s: %v", value, got.Request.Body, err)
				}
			}
			if name == "cut off" && held[value] == nil && strings.Contains(string(got.Request.Body), string(instance.Encode(value))) {
				t.Errorf("%q is left in %s", value, got.Request.Body)
			}
		}
	}
}

// TestFieldsKeepTheirNames: a secret that is the name of a field is that name where an
// answer speaks of it.
func TestFieldsKeepTheirNames(t *testing.T) {
	var s secret.Set
	s.Learn("PW", "password")
	c := exchange.Case{Control: map[string]any{"password": "password"}, Body: map[string]any{"password": ""}, Flaws: []exchange.Flaw{{In: "body", Pointer: "/password"}}}
	got := s.Exchange(exchange.Exchange{Case: c, Response: exchange.Answer{Body: []byte(`{"detail":"password is too short","field":"password"}`)}})
	if string(got.Response.Body) != `{"detail":"password is too short","field":"password"}` || instance.Equal(got.Control, c.Control) {
		t.Errorf("%s, %v", got.Response.Body, got.Control)
	}
	s.LearnHeader("Accept", "application/problem+json")
	if got := s.Exchange(exchange.Exchange{Response: exchange.Answer{Header: http.Header{"Content-Type": {"application/problem+json"}}}}); got.Response.Header.Get("Content-Type") != "application/problem+json" {
		t.Errorf("the media type of an answer is taken for a secret: %v", got.Response.Header)
	}
}

// TestFlawsMadeOfASecretAreSecrets: what shows more than half of it is not written.
func TestFlawsMadeOfASecretAreSecrets(t *testing.T) {
	var s secret.Set
	s.Learn("PW", "Slack-Water-1912")
	control := map[string]any{"pass": "Slack-Water-1912"}
	for wrong, kept := range map[string]bool{"Slack-Water-191": false, "slack-water-1912": false, "S\x00lack-Water-1912": false, "Slack-Water-1912Slack-Wate": false, " Slack-Water-1912": false, "": true, "!": true, "aaaaaaaaaaaa": true} {
		body := map[string]any{"pass": wrong}
		got := s.Exchange(exchange.Exchange{Case: exchange.Case{Control: control, Body: body, Request: exchange.Request{Body: instance.Encode(body)}, Flaws: []exchange.Flaw{{In: "body", Pointer: "/pass"}}},
			Response: exchange.Answer{Body: instance.Encode("not " + wrong)}})
		if instance.Equal(got.Body, body) != kept || (string(got.Request.Body) == string(instance.Encode(body))) != kept || !kept && strings.Contains(strings.ToLower(string(got.Response.Body)), "ater") {
			t.Errorf("%q: %v, %s, %s", wrong, got.Body, got.Request.Body, got.Response.Body)
		}
	}
}
