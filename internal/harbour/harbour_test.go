package harbour

import (
	"net/http/httptest"
	"strings"
	"testing"
)

func TestTheOfficeAnswers(t *testing.T) {
	o, err := New(nil)
	if err != nil {
		t.Fatal(err)
	}
	const id = "/vessels/5e0c3f6a-2b71-4c8d-9a4e-6f1d2c3b4a59"
	for _, c := range []struct {
		method, path, media, body string
		status                    int
		has                       string
	}{
		{"GET", "/vessels?limit=1", "", "", 200, `"Aurora"`},
		{"GET", "/vessels?type=tug", "", "", 200, `[]`},
		{"GET", "/vessels?built_after=2031-02-30", "", "", 400, `"in":"query"`},
		{"GET", "/vessels?limit=0&type=x", "", "", 400, `#/type`},
		{"GET", id, "", "", 200, `"cargo"`},
		{"HEAD", id, "", "", 200, ""},
		{"GET", "/vessels/none", "", "", 404, `no such record`},
		{"GET", "/nowhere", "", "", 404, `nothing at this address`},
		{"GET", "/berths", "", "", 200, "C12"},
		{"PUT", "/vessels", "", "", 405, "GET, POST"},
		{"POST", "/sessions", "text/plain", "{}", 415, "Send application/json"},
		{"POST", "/sessions", "application/json", "", 400, "Body missing"},
		{"POST", "/sessions", "application/json; charset=utf-8", "{\"a\"", 400, "Malformed"},
		{"POST", "/sessions", "application/json", "{\"\xff\":1}", 400, "Malformed"},
		{"POST", "/sessions", "application/json", strings.Repeat("x", maxBody+1), 413, "Too large"},
		{"POST", "/sessions", "application/json", `{"guest_code":"G-1912","pass_phrase":"short","minutes":5.5,"x":1}`, 422, "#/pass_phrase"},
		{"POST", "/sessions", "application/json", `{"guest_code":"G-1912","pass_phrase":"tide tables of 1912"}`, 201, `"guest_code"`},
		{"PATCH", id, "application/merge-patch+json", `{"contact_email":null,"name":"Dorado"}`, 200, `"Dorado"`},
		{"PATCH", id, "application/merge-patch+json", `{"name":null}`, 422, "#/name"},
		{"DELETE", id, "", "", 204, ""},
		{"GET", id, "", "", 404, "no such record"},
	} {
		w := httptest.NewRecorder()
		r := httptest.NewRequest(c.method, c.path, strings.NewReader(c.body))
		r.Header.Set("Content-Type", c.media)
		o.ServeHTTP(w, r)
		if w.Code != c.status || !strings.Contains(w.Body.String(), c.has) {
			t.Errorf("%s %s: %d %s, want %d with %q", c.method, c.path, w.Code, w.Body, c.status, c.has)
		}
		if strings.Contains(w.Body.String(), "tide tables") {
			t.Errorf("%s %s gives the pass phrase back", c.method, c.path)
		}
		if media := w.Header().Get("Content-Type"); c.status >= 400 && media != "application/problem+json" {
			t.Errorf("%s %s: a rejection is %s", c.method, c.path, media)
		}
	}
	if _, err := New([]string{"nope"}); err == nil {
		t.Error("an unknown fault is not an error")
	}
}
