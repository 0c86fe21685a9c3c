package problem

import (
	"strings"
	"testing"

	"obiter/internal/core/instance"
)

const (
	media    = "application/problem+json"
	xmlMedia = "application/problem+xml"
)

func TestDepartures(t *testing.T) {
	for _, c := range []struct{ name, media, body, want string }{
		{"sound", media, `{"type":"https://harbour.example/p","title":"No","status":422,"detail":"x","instance":"/p/1"}`, ""},
		{"a title and no more", media, `{"title":"Unprocessable Content"}`, ""},
		{"the older phrase", media, `{"type":"about:blank","title":"Unprocessable Entity"}`, ""},
		{"the phrase in another letter case", media, `{"title":"unprocessable content"}`, ""},
		{"a type and no title", media, `{"type":"https://harbour.example/p"}`, ""},
		{"a tag as type", media, `{"type":"tag:harbour.example,2031:p","title":"No"}`, ""},
		{"charset", media + "; charset=utf-8", `{"type":"urn:x:y"}`, ""},
		{"upper case", "Application/Problem+JSON", `{"type":"urn:x:y"}`, ""},
		{"extensions", media, `{"type":"urn:x:y","errors":[{"a":1},{"a":1}],"traceId":"0","request_id":"1"}`, ""},
		{"status with a fraction of zero", media, `{"type":"urn:x:y","status":422.0}`, ""},
		{"XML", xmlMedia, `<?xml version="1.0" encoding="UTF-8"?><problem xmlns="urn:ietf:rfc:7807"><type>urn:x:y</type><title>No</title><status>422</status></problem>`, ""},
		{"too deep to be read here", media, `{"type":"urn:x:y","value":` + strings.Repeat("[", 20_000) + strings.Repeat("]", 20_000) + `}`, "not-judged"},
		{"a number beyond computing with", media, `{"type":"urn:x:y","title":"T","status":422,"value":1e10000000}`, "not-judged"},
		{"nothing is told", media, `{}`, "weak-problem"},
		{"nothing is told by about:blank", media, `{"type":"about:blank","detail":"x"}`, "weak-problem"},
		{"a title of its own without a type", media, `{"title":"Invalid vessel"}`, "weak-problem"},
		{"byte order mark", media, "\xef\xbb\xbf{\"type\":\"urn:x:y\"}", "weak-problem"},
		{"a member twice", media, `{"type":"urn:x:y","errors":[{"pointer":"#/a","pointer":"#/b"}]}`, "weak-problem"},
		{"relative type", media, `{"type":"/problems/x#y"}`, "weak-problem"},
		{"relative type without a path", media, `{"type":"invalid"}`, "weak-problem"},
		{"empty type", media, `{"type":"","title":"No"}`, "weak-problem weak-problem"},
		{"a short extension", media, `{"type":"urn:x:y","id":"5"}`, "weak-problem"},
		{"an extension with a hyphen", media, `{"type":"urn:x:y","trace-id":"5"}`, "weak-problem"},
		{"almost the media type", "application/problem", `{"type":"urn:x:y"}`, "not-problem"},
		{"XML of another sort", xmlMedia, `<error/>`, "unreadable"},
		{"XML without its namespace", xmlMedia, `<problem><type>urn:x:y</type></problem>`, "unreadable"},
		{"XML cut off", xmlMedia, `<problem xmlns="urn:ietf:rfc:7807"><type>`, "unreadable"},
		{"XML twice", xmlMedia, `<problem xmlns="urn:ietf:rfc:7807"/><problem xmlns="urn:ietf:rfc:7807"/>`, "unreadable"},
		{"XML with another status", xmlMedia, `<problem xmlns="urn:ietf:rfc:7807"><type>urn:x:y</type><status>400</status></problem>`, "status-mismatch"},
		{"XML with a status in words", xmlMedia, `<problem xmlns="urn:ietf:rfc:7807"><type>urn:x:y</type><status>bad</status></problem>`, "bad-member"},
		{"plain JSON", "application/json", `{"title":"No"}`, "not-problem"},
		{"plain JSON is not held to the members", "application/json", `{"status":"error","type":5}`, "not-problem"},
		{"HTML", "text/html", "<p>", "not-problem"},
		{"nothing", "", "", "not-problem"},
		{"cut off", media, `{"title":`, "unreadable"},
		{"empty", media, "", "unreadable"},
		{"text called JSON", "application/json", "no", "not-problem unreadable"},
		{"a list", media, `[]`, "unreadable"},
		{"two texts", media, `{}{}`, "unreadable"},
		{"type of the wrong type", media, `{"type":5}`, "bad-member"},
		{"type null", media, `{"type":null}`, "bad-member"},
		{"type with blanks", media, `{"type":"validation failed"}`, "bad-member"},
		{"title a list", media, `{"title":["x"]}`, "bad-member"},
		{"detail an object", media, `{"type":"urn:x:y","detail":{}}`, "bad-member"},
		{"instance with a blank", media, `{"type":"urn:x:y","instance":"a b"}`, "bad-member"},
		{"status as text", media, `{"type":"urn:x:y","status":"422"}`, "bad-member"},
		{"status with a fraction", media, `{"type":"urn:x:y","status":422.5}`, "bad-member"},
		{"status out of range", media, `{"type":"urn:x:y","status":600}`, "bad-member"},
		{"another status", media, `{"type":"urn:x:y","status":400}`, "status-mismatch"},
		{"a huge status", media, `{"type":"urn:x:y","status":1e400}`, "bad-member"},
		{"several", media, `{"type":1,"title":2,"status":100}`, "bad-member bad-member status-mismatch"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, found := Read(c.media, []byte(c.body), 422)
			var codes []string
			for _, d := range found {
				codes = append(codes, d.Code)
				if d.Cites == "" && d.Code != "not-judged" || d.Message == "" {
					t.Errorf("%+v is without source or message", d)
				}
			}
			if got := strings.Join(codes, " "); got != c.want {
				t.Errorf("departures %q, want %q", got, c.want)
			}
		})
	}
}

func TestXMLIsReadAsTheRFCMapsIt(t *testing.T) {
	doc, found := Read(xmlMedia, []byte(`<problem xmlns="urn:ietf:rfc:7807"><title>No</title><type>urn:x:y</type><errors><i><detail>too short</detail><pointer>#/name</pointer></i><i><detail>x</detail></i></errors></problem>`), 422)
	if got, want := string(instance.Encode(doc.Value)), `{"errors":[{"detail":"too short","pointer":"#/name"},{"detail":"x"}],"title":"No","type":"urn:x:y"}`; got != want || len(found) > 0 {
		t.Errorf("%s %v, want %s", got, found, want)
	}
}

func FuzzRead(f *testing.F) {
	f.Add(media, []byte(`{"status":1e999999999,"type":"%zz"}`), 400)
	f.Add("application/json;;", []byte("\xff\xfe"), 0)
	f.Add(xmlMedia, []byte(`<problem xmlns="urn:ietf:rfc:7807"><a><i>&#x0;</i></a></problem>`), 400)
	f.Fuzz(func(t *testing.T, contentType string, body []byte, status int) {
		doc, found := Read(contentType, body, status)
		if doc.Object != nil && doc.Value == nil {
			t.Fatal("an object without a value")
		}
		for _, d := range found {
			if d.Message == "" {
				t.Fatal("a departure without words")
			}
		}
	})
}
