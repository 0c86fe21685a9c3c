package sources

import (
	"strings"
	"testing"
)

// TestNotesStandAtTheirPlaces: above what the file says of the same, else at the
// beginning of the section, else at the end; once, and without changing the file.
func TestNotesStandAtTheirPlaces(t *testing.T) {
	src := `at: http://localhost:1
operations:
  POST /quays:
    body: { name: North }
  # the lamps
  'PUT /lamps/{id}': { allow: true }
fixtures:
- name: quay
  send: POST /quays
`
	notes := []Note{
		{"operations", "PUT /lamps/{id}", "'PUT /lamps/{id}': { body: {} }", "refused: “no\nlamp”"},
		{"operations", "GET /buoys", "GET /buoys: { query: { limit: 5 } }", ""},
		{"fixtures", "buoy", "- { name: buoy, send: POST /buoys }", ""},
		{"credentials", "door", "door: ${API_DOOR}", ""},
		{"credentials", "key", "key: ${API_KEY}", ""},
	}
	text, added, err := Noted("obiter.yaml", []byte(src), notes)
	want := `at: http://localhost:1
operations:
  # GET /buoys: { query: { limit: 5 } }
  POST /quays:
    body: { name: North }
  # the lamps
  # 'PUT /lamps/{id}': { body: {} }   # refused: “no lamp”
  'PUT /lamps/{id}': { allow: true }
fixtures:
  # - { name: buoy, send: POST /buoys }
- name: quay
  send: POST /quays

# credentials:
#   door: ${API_DOOR}
#   key: ${API_KEY}
`
	if err != nil || added != 5 || string(text) != want {
		t.Errorf("%v, %d:\n%s", err, added, text)
	}
	again, added, err := Noted("obiter.yaml", text, notes)
	if err != nil || added != 0 || string(again) != want {
		t.Errorf("the second time: %v, %d:\n%s", err, added, again)
	}
	for _, src := range []string{"{}", "operations: { 'GET /buoys': { allow: true } }", "# nothing\nfixtures: []\noperations:\n\n    GET /buoys: {}", `{"operations": {"GET /buoys": {}}, "credentials": {}}`} {
		text, added, err := Noted("obiter.yaml", []byte(src), notes)
		if strings.HasPrefix(src, `{"`) { // JSON has no comments
			if added != 5 && err == nil {
				t.Errorf("%s: %d:\n%s", src, added, text)
			}
			continue
		}
		if err != nil || added != 5 {
			t.Errorf("%s: %v, %d:\n%s", src, err, added, text)
		}
	}
}
