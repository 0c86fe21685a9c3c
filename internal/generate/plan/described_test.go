package plan

import (
	"fmt"
	"net/http"
	"strings"
	"sync"
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
	given := []string{problem, problem, named("a"), named("b"), long, long, problem}
	var paths []string
	for i, s := range given {
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

// TestAnswersComeAtATime: several of one operation are described side by side.
func TestAnswersComeAtATime(t *testing.T) {
	doc, err := oad.Read("berths.json", []byte(`{"openapi":"3.1.0","info":{"title":"Berths","version":"1"},"servers":[{"url":"http://127.0.0.1:1"}],"paths":{"/berths":{"get":{"responses":{
		"422":{"description":"refused","content":{"application/json":{"schema":{"type":"object","required":["title","code"],"properties":{"title":{"type":"string"},"code":{"type":"string","writeOnly":true}}}}}}}}}}}`))
	if err != nil {
		t.Fatal(err)
	}
	p, err := New(doc, Options{})
	if err != nil {
		t.Fatal(err)
	}
	for op := range p.Operations() {
		var wg sync.WaitGroup
		for i := range 64 {
			wg.Go(func() {
				a := exchange.Answer{Status: http.StatusUnprocessableEntity, Header: http.Header{"Content-Type": {"application/json"}}, Body: fmt.Appendf(nil, `{"title":"%d"}`, i)}.Once()
				if d := op.Describe(a); !op.IsWholeAPI() && (d == nil || d.At != "") {
					t.Errorf("%d is described as %+v", i, d)
				}
			})
		}
		wg.Wait()
	}
}
