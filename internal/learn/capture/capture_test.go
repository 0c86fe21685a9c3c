package capture_test

import (
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"obiter/internal/learn/capture"
)

func archive(entries ...string) string {
	return `{"log":{"version":"1.2","creator":{"name":"a pilot's notebook"},"entries":[` + strings.Join(entries, ",") + `],"comment":"end"}}`
}

func entry(request, response string) string {
	return `{"startedDateTime":"2026-05-04T06:00:00.500+02:00","time":12.5,"request":{` + request + `},"response":{` + response + `}}`
}

const get = `"method":"GET","url":"http://harbour.example/vessels","headers":[{"name":"Accept","value":"*/*"},{"name":":authority","value":"harbour.example"}]`

func read(text string) (found []capture.Exchange, left capture.Left, err error) {
	left = capture.Left{}
	for x, e := range capture.Archive(strings.NewReader(text), left) {
		if e != nil {
			return found, left, e
		}
		found = append(found, x)
	}
	return found, left, nil
}

func TestArchive(t *testing.T) {
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	io.WriteString(w, `{"berth":"C12"}`)
	w.Close()
	base := base64.StdEncoding.EncodeToString(packed.Bytes())
	for name, c := range map[string]struct{ entry, body, answer, left string }{
		"plain":              {entry(get, `"status":200,"headers":[],"content":{"size":2,"mimeType":"application/json","text":"[]"}`), "", "[]", ""},
		"posted":             {entry(`"method":"post","url":"http://harbour.example/vessels","headers":[],"postData":{"mimeType":"application/json","text":"{}"}`, `"status":201,"headers":[],"content":{"size":0}`), "{}", "", ""},
		"a form":             {entry(`"method":"POST","url":"http://harbour.example/x","headers":[],"bodySize":8,"postData":{"mimeType":"application/x-www-form-urlencoded","params":[{"name":"berth","value":"C 12"}]}`, `"status":201,"headers":[],"content":{"size":0}`), "berth=C+12", "", ""},
		"base64":             {entry(get, `"status":200,"headers":[],"content":{"size":2,"text":"e30=","encoding":"base64"}`), "", "{}", ""},
		"still packed":       {entry(get, `"status":200,"headers":[{"name":"content-encoding","value":"gzip"}],"content":{"size":15,"text":"`+base+`","encoding":"base64"}`), "", `{"berth":"C12"}`, ""},
		"unpacked already":   {entry(get, `"status":200,"headers":[{"name":"content-encoding","value":"br"}],"content":{"size":2,"text":"{}"}`), "", "{}", ""},
		"packed otherwise":   {entry(get, `"status":200,"headers":[{"name":"content-encoding","value":"br"}],"content":{"size":3,"text":"AAEC","encoding":"base64"}`), "", "", capture.Packed},
		"a body not kept":    {entry(get, `"status":200,"headers":[],"content":{"size":20}`), "", "", capture.NoBody},
		"no answer":          {entry(get, `"status":0,"headers":[],"content":{"size":0}`), "", "", capture.NoAnswer},
		"of a browser":       {`{"_resourceType":"stylesheet",` + entry(get, `"status":404,"headers":[],"content":{"size":0}`)[1:], "", "", capture.OfBrowsers},
		"a page":             {entry(strings.Replace(get, `"*/*"`, `"text/html,*/*"`, 1), `"status":404,"headers":[],"content":{"size":0}`), "", "", capture.OfBrowsers},
		"fetched by a page":  {`{"_resourceType":"fetch",` + entry(get, `"status":404,"headers":[],"content":{"size":0}`)[1:], "", "", ""},
		"not over HTTP":      {entry(`"method":"GET","url":"data:,x","headers":[]`, `"status":200,"headers":[],"content":{"size":0}`), "", "", capture.NotHTTP},
		"of another version": {entry(get, `"status":204`), "", "", ""},
	} {
		found, left, err := read(archive(c.entry))
		switch {
		case err != nil:
			t.Errorf("%s: %v", name, err)
		case c.left != "":
			if len(found) != 0 || left[c.left] != 1 {
				t.Errorf("%s: %+v, left out %v", name, found, left)
			}
		case len(found) != 1 || string(found[0].Body) != c.body || string(found[0].Answer.Body) != c.answer:
			t.Errorf("%s: %+v, left out %v", name, found, left)
		}
	}
	found, _, err := read(archive(entry(get, `"status":200,"headers":[]`)))
	if err != nil || len(found[0].Headers) != 1 || found[0].Answer.Sent.Format("15:04:05.000") != "04:00:00.500" || found[0].Answer.Took.Microseconds() != 12500 || found[0].Entry != 1 {
		t.Errorf("%+v, %v", found, err)
	}
}

func TestArchivesThatCannotBeRead(t *testing.T) {
	good := entry(get, `"status":200,"headers":[]`)
	for text, want := range map[string]string{
		"":                                       "ends in the middle",
		`[]`:                                     "no log in it",
		`{"log":{}}`:                             "no entries in it",
		`{"log":{"entries":{}}}`:                 "not a list",
		archive(good, good)[:len(archive(good))]: "entry 2: the archive ends in the middle",
		archive(good, `{"request":5}`):           "entry 2: the member request is of another type than it has to be",
		archive(good) + "x":                      "",
		archive(good, `{"a"}`):                   "entry 2: it is not readable as JSON",
	} {
		found, _, err := read(text)
		if want == "" && err == nil {
			continue
		}
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.60q: %v, want %q", text, err, want)
		}
		if strings.HasPrefix(want, "entry 2") && len(found) != 1 {
			t.Errorf("%.60q: %d before the mistake", text, len(found))
		}
	}
	if _, _, err := read(archive(entry(get, `"status":200,"content":{"text":"`+strings.Repeat("x", 65<<20)+`"}`))); err == nil || !strings.Contains(err.Error(), "larger than 64 MiB") {
		t.Errorf("a huge entry: %v", err)
	}
}

// TestLongArchivesAreStreamed reads more entries than would fit in what is held of one.
func TestLongArchivesAreStreamed(t *testing.T) {
	one := entry(get, `"status":200,"headers":[],"content":{"size":1000000,"text":"`+strings.Repeat("x", 1_000_000)+`"}`)
	const n = 90
	r, w := io.Pipe()
	go func() {
		io.WriteString(w, `{"log":{"entries":[`)
		for i := range n {
			if i > 0 {
				io.WriteString(w, ",")
			}
			io.WriteString(w, one)
		}
		io.WriteString(w, "]}}")
		w.Close()
	}()
	seen := 0
	for _, err := range capture.Archive(r, capture.Left{}) {
		if err != nil {
			t.Fatal(err)
		}
		seen++
	}
	if seen != n {
		t.Errorf("%d entries of %d", seen, n)
	}
}

func FuzzArchive(f *testing.F) {
	f.Add([]byte(archive(entry(get, `"status":200`))))
	f.Add([]byte(`{"log":{"entries":[{`))
	f.Fuzz(func(t *testing.T, src []byte) {
		for range capture.Archive(bytes.NewReader(src), capture.Left{}) {
		}
		capture.Detect(bytes.NewReader(src))
		_, _ = capture.Document(src)
	})
}

func TestSorts(t *testing.T) {
	for text, want := range map[string]capture.Kind{
		archive(): capture.IsArchive, `{"creator":{"a":[1]}, "log": {`: capture.IsArchive,
		`{"type":"run","obiter":2}` + "\n{}":  capture.RunFile,
		`{"type":"about:blank","status":404}`: capture.Unknown,
		`{"type":"run"}`:                      capture.Unknown,
		"":                                    capture.Unknown,
		"\xef\xbb\xbf  " + archive():          capture.IsArchive,
		`{"comment":"` + strings.Repeat("x", 1<<17): capture.Unknown,
	} {
		if got := capture.Detect(strings.NewReader(text)); got != want {
			t.Errorf("%.40q: %d, want %d", text, got, want)
		}
	}
}

func TestProblemDocuments(t *testing.T) {
	x, err := capture.Document([]byte(`{"title":"No such berth","status":404}`))
	if err != nil || x.Answer.Status != 404 || x.Answer.Header.Get("Content-Type") != "application/problem+json" {
		t.Errorf("%+v, %v", x, err)
	}
	if x, err = capture.Document([]byte(`{"title":"x","status":200}`)); err != nil || x.Answer.Status != 400 {
		t.Errorf("%+v, %v", x, err)
	}
	for _, text := range []string{`[]`, `{`, ``} {
		if _, err := capture.Document([]byte(text)); err == nil {
			t.Errorf("%q is no problem document", text)
		}
	}
}

func TestCurl(t *testing.T) {
	file := func(name string) ([]byte, error) {
		if name != "tug.json" {
			return nil, errors.New("there is none")
		}
		return []byte(`{"name":"Otter"}`), nil
	}
	for line, want := range map[string]string{
		`curl http://harbour.example/tugs`:                                                                         "GET http://harbour.example/tugs [] ",
		`curl -s harbour.example/tugs -o out.json --max-time 5`:                                                    "GET http://harbour.example/tugs [] ",
		`curl -X PUT -H 'X-Watch: night' --url http://a/tugs/1 -d '{"name":"Otter"}'`:                              `PUT http://a/tugs/1 [[X-Watch night] [Content-Type application/json]] {"name":"Otter"}`,
		`curl -sXPOST http://a/tugs --json @tug.json`:                                                              `POST http://a/tugs [[Content-Type application/json]] {"name":"Otter"}`,
		`curl http://a/tugs -d name=Otter -d pull=60`:                                                              `POST http://a/tugs [[Content-Type application/x-www-form-urlencoded]] name=Otter&pull=60`,
		`curl -G http://a/tugs?x=1 --data-urlencode "name=Sea Otter"`:                                              `GET http://a/tugs?x=1&name=Sea+Otter [] `,
		`curl 'http://a/tugs' --data-raw $'{"name":"O\u0027Hara"}' --compressed -H "Authorization: Bearer $TOKEN"`: `POST http://a/tugs [[Authorization Bearer ${TOKEN}] [Content-Type application/json]] {"name":"O'Hara"}`,
		"curl \\\n  --request PATCH \\\n  http://a/tugs/1 # a comment":                                             "PATCH http://a/tugs/1 [] ",
		`curl --request=DELETE http://a/tugs/1 -u watch:night`:                                                     "DELETE http://a/tugs/1 [[Authorization Basic d2F0Y2g6bmlnaHQ=]] ",
		`for i in 1 2; do curl -I http://a/tugs; done`:                                                             "HEAD http://a/tugs [] ",
		`echo curl http://a`:                   "",
		`curl http://a/$(whoami)`:              "line 1: ",
		`curl -X`:                              "line 1: curl: the option -X has no value",
		`curl -s`:                              "line 1: curl: there is no address",
		"true\ncurl http://a -d @missing.json": "line 2: curl: the data in missing.json: there is none",
		`curl 'http://a`:                       "it is not readable as a shell script",
	} {
		found, err := capture.Curl([]byte(line), file)
		got := ""
		switch {
		case err != nil:
			got = err.Error()
		case len(found) > 0:
			x := found[0]
			got = fmt.Sprintf("%s %s %v %s", x.Method, x.URL, x.Headers, x.Body)
		}
		if got != want && (err == nil || want == "" || !strings.HasPrefix(got, want)) {
			t.Errorf("%s\n got %s\nwant %s", line, got, want)
		}
	}
}

func TestTemplates(t *testing.T) {
	for name, c := range map[string]struct {
		accepted []string
		want     map[string]string
	}{
		"numbers and UUIDs": {[]string{"GET /vessels", "GET /vessels/12", "PUT /vessels/5e0c3f6a-2b71-4c8d-9a4e-6f1d2c3b4a59", "GET /vessels/12/crew/3"},
			map[string]string{"/vessels": "/vessels", "/vessels/99": "/vessels/{vessel_id}", "/vessels/7/crew/1": "/vessels/{vessel_id}/crew/{crew_id}", "/vessels/wrong%20one": "/vessels/{vessel_id}", "/quays": ""}},
		"generated names":    {[]string{"POST /berth-bookings", "DELETE /berth-bookings/BB-000001", "GET /tugs/01HXZ3K"}, map[string]string{"/berth-bookings/BB-7": "/berth-bookings/{berth_booking_id}", "/tugs/01HXZ3L": "/tugs/{tug_id}"}},
		"versions are words": {[]string{"GET /api/v1/vessels", "GET /api/v2beta1/vessels"}, map[string]string{"/api/v1/vessels": "/api/v1/vessels", "/api/v2beta1/vessels": "/api/v2beta1/vessels", "/api/v3/vessels": ""}},
		"names that vary":    {[]string{"GET /piers", "GET /piers/north", "GET /piers/south", "GET /piers/old-town"}, map[string]string{"/piers/west": "/piers/{pier_id}"}},
		"two do not vary":    {[]string{"GET /piers", "GET /piers/north", "GET /piers/south"}, map[string]string{"/piers/north": "/piers/north", "/piers/west": ""}},
		"actions are words": {[]string{"GET /vessels", "GET /vessels/1", "PUT /vessels/1", "POST /vessels/import", "GET /vessels/search"},
			map[string]string{"/vessels/import": "/vessels/import", "/vessels/search": "/vessels/search", "/vessels/2": "/vessels/{vessel_id}"}},
		"a word like the records": {[]string{"GET /vessels/1", "GET /vessels/aurora"}, map[string]string{"/vessels/aurora": "/vessels/{vessel_id}"}},
		"two of one name":         {[]string{"GET /ports/1/ports/2"}, map[string]string{"/ports/3/ports/4": "/ports/{port_id}/ports/{port_id_2}"}},
		"at the root":             {[]string{"GET /", "GET /harbour", "GET /weather", "GET /tides"}, map[string]string{"/": "/", "/weather": "/weather", "/news": ""}},
		"never accepted":          {[]string{"GET /vessels/1/crew"}, map[string]string{"/vessels/1": "", "/vessels/1/crew": "/vessels/{vessel_id}/crew"}},
	} {
		templates := capture.NewTemplates()
		for _, r := range c.accepted {
			method, path, _ := strings.Cut(r, " ")
			templates.See(method, path)
		}
		templates.Settle()
		for path, want := range c.want {
			if got, _, _ := templates.Of(path); got != want {
				t.Errorf("%s: %s is %q, want %q", name, path, got, want)
			}
		}
	}
	many := capture.NewTemplates()
	for i := range 20_000 {
		many.See("GET", fmt.Sprintf("/notices/%c%c%c%c", 'a'+i%26, 'a'+i/26%26, 'a'+i/676%26, 'a'+i/17576%26))
	}
	many.Settle() // bounded
	if _, values, _ := many.Of("/notices/aaaa"); len(values) > 1 {
		t.Error(values)
	}
}

func TestLossy(t *testing.T) {
	for body, want := range map[string]bool{`{"name":"Aurora"}`: false, "{\"name\":\"\ufffdAurora\"}": true, "{\"name\":\"\xffAurora\"}": false, "": false} {
		var x capture.Exchange
		if x.Body = []byte(body); x.Lossy() != want {
			t.Errorf("%q: %v", body, !want)
		}
	}
}
