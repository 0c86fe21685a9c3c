package run_test

import (
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"

	"obiter/internal/generate/flaw"
)

const ropes = `
openapi: 3.1.0
info: {title: Ropes, version: '1'}
paths:
  /ropes:
    post:
      parameters:
        - {name: maker, in: query, schema: {type: string}, example: nobody}
        - {name: tide, in: query, schema: {type: integer}}
      requestBody:
        required: true
        content:
          application/json:
            schema:
              type: object
              additionalProperties: false
              required: [name]
              properties: {name: {type: string, minLength: 2, maxLength: 9}, colour: {type: string, enum: [red]}, length_m: {type: integer, minimum: 1}, shed: {type: string}, weight_t: {type: number}}
      responses: {'201': {description: made}, 4XX: {description: bad}}
`

// TestARefusedControlIsNarrowed: what is not taken is told, and the rest is tried.
func TestARefusedControlIsNarrowed(t *testing.T) {
	t.Parallel()
	for name, x := range map[string]struct {
		refuse []string // members and parameters
		want   string   // what is left out
		tried  bool     // flaws prove something
	}{
		"everything is taken":              {nil, "", true},
		"a parameter and a member are not": {[]string{"maker", "shed"}, "accepted only without query maker, /shed", true},
		"the name is not":                  {[]string{"name"}, "", false},
	} {
		t.Run(name, func(t *testing.T) {
			var mu sync.Mutex
			heard := 0
			rep := tryService(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				mu.Lock()
				heard++
				mu.Unlock()
				var body map[string]any
				err := json.NewDecoder(r.Body).Decode(&body)
				bad := slices.ContainsFunc(x.refuse, func(m string) bool { _, has := body[m]; return has || r.URL.Query().Has(m) })
				name, _ := body["name"].(string)
				switch {
				case bad:
					w.WriteHeader(404)
				case err != nil || len(name) < 2 || len(name) > 9:
					w.Header().Set("Content-Type", "application/problem+json")
					w.WriteHeader(422)
					_, _ = w.Write([]byte(`{"type":"https://harbour.example/x","title":"x","errors":[{"pointer":"#/name","detail":"x"}]}`))
				default:
					w.WriteHeader(201)
				}
			}), ropes, flaw.Quick)
			told := ""
			for _, e := range rep.Entries() {
				if e.Code == "not-reached" {
					told += e.Examples[0].Message + "\n"
				}
			}
			if !strings.Contains(told, x.want) || x.want == "" && x.tried && told != "" {
				t.Errorf("told was %q, want %q", told, x.want)
			}
			if l := rep.Lines[0]; (l.Unproven == 0 || l.Unproven == 1) != x.tried {
				t.Errorf("%d of %d cases prove nothing", l.Unproven, l.Cases)
			}
			if n := rep.Totals().Cases; heard > n+45 {
				t.Errorf("%d requests for %d cases", heard, n)
			}
		})
	}
}
