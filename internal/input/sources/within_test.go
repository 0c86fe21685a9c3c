package sources

import (
	"testing"

	"obiter/internal/input/oad"
)

// TestAnotherParentIsOfOthers: a record of this run may be changed at the address that it was
// created at, and not where the file has another parent for it.
func TestAnotherParentIsOfOthers(t *testing.T) {
	doc, err := oad.Read("quays.yaml", []byte(`{"openapi":"3.1.0","info":{"title":"Quays","version":"1"},"paths":{
 "/quays":{"post":{"responses":{"201":{}}}}, "/quays/{quay}":{"put":{},"delete":{}},
 "/quays/{quay}/bollards":{"post":{"responses":{"201":{}}}}, "/quays/{quay}/bollards/{no}":{"put":{},"patch":{},"delete":{}}}}`))
	if err != nil {
		t.Fatal(err)
	}
	c := read(t, `
fixtures:
  - { name: quay, send: POST /quays, keep: { quay_id: $response.body#/id }, undo: "DELETE /quays/{quay}" }
  - { name: bollard, send: "POST /quays/{quay}/bollards", path: { quay: "${quay_id}" }, keep: { no: $response.body#/no }, undo: "DELETE /quays/{quay}/bollards/{no}" }
operations:
  PATCH /quays/{quay}/bollards/{no}: { path: { quay: north } }
`)
	c.Imply(doc)
	for operation, foreign := range map[string]bool{"PUT /quays/{quay}/bollards/{no}": false, "DELETE /quays/{quay}/bollards/{no}": false, "PATCH /quays/{quay}/bollards/{no}": true} {
		if why := c.Foreign(operation); (why != "") != foreign {
			t.Errorf("%s: %q", operation, why)
		}
	}
}

// TestAnActionMakesNothing: what does something to what is there is no fixture, whatever lies below
// its address.
func TestAnActionMakesNothing(t *testing.T) {
	doc, err := oad.Read("quays.yaml", []byte(`{"openapi":"3.1.0","info":{"title":"Quays","version":"1"},"paths":{
 "/quays/{quay}/archive":{"post":{"responses":{"200":{}}}}, "/archive/{id}":{"get":{},"delete":{}},
 "/reset":{"post":{"responses":{"201":{}}}}, "/reset/{no}":{"get":{}}, "/quays":{"post":{"responses":{"201":{}}}}, "/quays/{quay}":{"get":{}}}}`))
	if err != nil {
		t.Fatal(err)
	}
	c := read(t, "{}")
	c.Imply(doc)
	for _, f := range c.Fixtures {
		if f.Send != "POST /quays" {
			t.Errorf("%s makes a record", f.Send)
		}
	}
	if len(c.Fixtures) != 1 {
		t.Errorf("%d fixtures", len(c.Fixtures))
	}
}
