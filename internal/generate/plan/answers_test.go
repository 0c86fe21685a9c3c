package plan

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"obiter/internal/core/exchange"
	"obiter/internal/input/oad"
)

// TestAnswersAreHeldAgainstTheirOwnSchemas, also where others say the same in words that mean
// something else there.
func TestAnswersAreHeldAgainstTheirOwnSchemas(t *testing.T) {
	problem := `{"type":"object","required":["title"],"properties":{"title":{"$ref":"#/components/schemas/Title"}}}`
	named := func(anchor string) string {
		return `{"type":"object","required":["title"],"properties":{"title":{"$ref":"#` + anchor + `"}},"$defs":{"t":{"$anchor":"` + anchor + `","type":"string"}}}`
	}
	long := `{"type":"object","required":["title"],"description":"` + strings.Repeat("mooring ", 1000) + `"}`
	answers := []string{problem, problem, named("a"), named("b"), long, long, problem}
	var paths []string
	for i, s := range answers {
		paths = append(paths, fmt.Sprintf(`"/berths-%d":{"get":{"responses":{"422":{"description":"refused","content":{"application/json":{"schema":%s}}}}}}`, i, s))
	}
	doc, err := oad.Read("berths.json", []byte(`{"openapi":"3.1.0","info":{"title":"Berths","version":"1"},"servers":[{"url":"http://127.0.0.1:1"}],
		"components":{"schemas":{"Title":{"type":"string"}}},"paths":{`+strings.Join(paths, ",")+`}}`))
	if err != nil {
		t.Fatal(err)
	}
	p, err := New(doc, Options{})
	if err != nil {
		t.Fatal(err)
	}
	for op := range p.Operations() {
		if op.IsWholeAPI() {
			continue
		}
		for _, c := range []struct{ body, want string }{{`{"title":"taken"}`, ""}, {`{"detail":"taken"}`, "/title"}} {
			a := exchange.Answer{Status: http.StatusUnprocessableEntity, Header: http.Header{"Content-Type": {"application/json"}}, Body: []byte(c.body)}.Once()
			if d := op.Describe(a); d == nil || d.At != c.want {
				t.Errorf("%s: %s is described as %+v", op.Name(), c.body, d)
			}
		}
	}
}
