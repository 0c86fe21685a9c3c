package exchange

import (
	"encoding/json"
	"net/http"
	"reflect"
	"slices"
	"testing"
	"time"
)

// TestLinesComeBackAsTheyWere writes and reads cases and answers, with bodies
// that are text, bytes and nothing.
func TestLinesComeBackAsTheyWere(t *testing.T) {
	for _, body := range [][]byte{nil, []byte(`{"name":"<Ærø>"}`), {0xff, 0x00}} {
		c := Case{ID: "0123456789", Name: "n", Operation: "POST /vessels", OperationID: "addVessel", Kind: Flawed,
			Request: Request{Method: "POST", URL: "http://127.0.0.1:1/vessels?a=%3C", Headers: [][2]string{{"Accept", "*/*"}, {"Accept", "b"}}, Body: body},
			Flaws:   []Flaw{{In: "body", Pointer: "/name", Rule: "minLength", Variant: "empty", Reason: "r"}}, Edge: &Flaw{In: "query"},
			Expect:      Expect{Constraint, []int{400, 422}, "digit", true},
			Credentials: []Credential{{"session", "bearer", "header", "Authorization", "missing", "POST /vessels"}}, MayBlame: []string{"/imo"}}
		data, err := json.Marshal(c)
		if err != nil {
			t.Fatal(err)
		}
		var back Case
		if err := json.Unmarshal(data, &back); err != nil || !reflect.DeepEqual(back, c) {
			t.Errorf("%v\n%+v\n%+v\n%s", err, back, c, data)
		}
		a := Answer{Status: 422, Header: http.Header{"Content-Type": {"a/b"}, "X": {"1", "2"}}, Body: body, Truncated: true, ClosedEarly: true, Took: 1500 * time.Microsecond, Err: "e"}
		if data, err = json.Marshal(a); err != nil {
			t.Fatal(err)
		}
		var again Answer
		if err := json.Unmarshal(data, &again); err != nil || !reflect.DeepEqual(again, a) {
			t.Errorf("%v\n%+v\n%+v\n%s", err, again, a, data)
		}
	}
	var r Request
	if err := json.Unmarshal([]byte(`{"bodyBase64":"%"}`), &r); err == nil {
		t.Error("what is not base64 is read")
	}
	var a Answer
	if err := json.Unmarshal([]byte(`{"status":"x"}`), &a); err == nil {
		t.Error("a status in words is read")
	}
}

func TestHeadersAreFoundInAnyCase(t *testing.T) {
	r := Request{Headers: [][2]string{{"Content-Type", "a/b"}}}
	if r.Header("content-TYPE") != "a/b" || r.Header("Accept") != "" {
		t.Error(r.Header("content-TYPE"), r.Header("Accept"))
	}
}

// TestStatusesOfEachClass holds the table: what is right for a sort of flaw, and
// what a hasty reader would take for right.
func TestStatusesOfEachClass(t *testing.T) {
	for _, c := range []struct {
		class        Class
		right, wrong []int
	}{
		{Accepted, nil, []int{200, 400}},
		{Syntax, []int{400}, []int{422, 415, 500}},
		{Type, []int{400, 422}, []int{404, 409}},
		{Constraint, []int{400, 422}, []int{404, 413}},
		{UnknownField, []int{400, 422}, []int{404}},
		{EmptyBody, []int{400, 422}, []int{411, 415}},
		{Parameter, []int{400, 422}, []int{404}},
		{PathParameter, []int{400, 404, 422}, []int{405}},
		{MediaType, []int{415}, []int{400, 406}},
		{UntypedBody, []int{400, 415, 422}, []int{406}},
		{ContentCoding, []int{400, 415}, []int{422}},
		{NotAcceptable, []int{400, 406, 422}, []int{404}},
		{NotFound, []int{403, 404, 410}, []int{400, 405}},
		{TooLarge, []int{400, 413, 422}, []int{431}},
		{Method, []int{405}, []int{404, 501}},
		{Either, []int{400, 415, 422}, []int{404}},
		{Ignorable, []int{400, 412, 416, 422}, []int{404}},
	} {
		have := c.class.Statuses()
		for _, s := range c.right {
			if !slices.Contains(have, s) {
				t.Errorf("%s: %d is not right", c.class, s)
			}
		}
		for _, s := range c.wrong {
			if slices.Contains(have, s) {
				t.Errorf("%s: %d is right", c.class, s)
			}
		}
	}
}

func TestWhereAFlawIs(t *testing.T) {
	for want, f := range map[string]Flaw{
		"/crew/0/name": {In: "body", Pointer: "/crew/0/name"}, "the body": {In: "body"}, "the request": {In: "request"}, "the query": {In: "query"},
		"query limit": {In: "query", Pointer: "/limit"}, "header X-Watch": {In: "header", Pointer: "/X-Watch"}, "query filter/colour": {In: "query", Pointer: "/filter/colour"}, "cookie a/b": {In: "cookie", Pointer: "/a~1b"},
	} {
		if got := f.Where(); got != want {
			t.Errorf("%+v is at %q, want %q", f, got, want)
		}
	}
}
