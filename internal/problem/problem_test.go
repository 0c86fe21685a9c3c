package problem

import (
	"strings"
	"testing"
)

const media = "application/problem+json"

func TestDepartures(t *testing.T) {
	for _, c := range []struct{ name, media, body, want string }{
		{"sound", media, `{"type":"https://harbour.example/p","title":"No","status":422,"detail":"x","instance":"/p/1"}`, ""},
		{"all optional", media, `{}`, ""},
		{"charset", media + "; charset=utf-8", `{"title":"No"}`, ""},
		{"upper case", "Application/Problem+JSON", `{}`, ""},
		{"byte order mark", media, "\xef\xbb\xbf{}", ""},
		{"about:blank", media, `{"type":"about:blank"}`, ""},
		{"relative type", media, `{"type":"/problems/x#y"}`, ""},
		{"status with a fraction of zero", media, `{"status":422.0}`, ""},
		{"xml", "application/problem+xml", `<problem/>`, ""},
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
		{"detail an object", media, `{"detail":{}}`, "bad-member"},
		{"instance with a blank", media, `{"instance":"a b"}`, "bad-member"},
		{"status as text", media, `{"status":"422"}`, "bad-member"},
		{"status with a fraction", media, `{"status":422.5}`, "bad-member"},
		{"another status", media, `{"status":400}`, "status-mismatch"},
		{"a huge status", media, `{"status":1e400}`, "status-mismatch"},
		{"several", media, `{"type":1,"title":2,"status":1}`, "bad-member bad-member status-mismatch"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, found := Read(c.media, []byte(c.body), 422)
			var codes []string
			for _, d := range found {
				codes = append(codes, d.Code)
				if d.Section == "" || d.Message == "" {
					t.Errorf("%+v is without section or message", d)
				}
			}
			if got := strings.Join(codes, " "); got != c.want {
				t.Errorf("departures %q, want %q", got, c.want)
			}
		})
	}
}

func FuzzRead(f *testing.F) {
	f.Add(media, []byte(`{"status":1e999999999,"type":"%zz"}`), 400)
	f.Add("application/json;;", []byte("\xff\xfe"), 0)
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
