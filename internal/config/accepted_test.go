package config

import (
	"reflect"
	"strings"
	"testing"
)

var someCodes = []string{"accepted", "bad-member", "no-field-errors"}

func TestKnownIsReadAsItIsWritten(t *testing.T) {
	list := []Known{
		{Code: "accepted", Families: []string{"bounds", "null"}, Operations: []string{"POST /vessels", "PUT /vessels/{id}"}, Fields: []string{WholeRequest, "/crew/*/name", "query limit"}, Reason: "ticket: 12 # later", Until: "2027-01-31"},
		{Code: "bad-member", Operations: []string{"PATCH /vessels/{id}"}, Fields: []string{WholeRequest}, At: "/status"},
	}
	for i := range list {
		list[i].Comment = "seen: \x1b[2J\n- code: x"
	}
	text := WriteKnown(list)
	got, err := ReadKnown(AcceptedFile, []byte(text), someCodes)
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	for i := range got {
		got[i].Line, list[i].Comment = 0, ""
	}
	if !reflect.DeepEqual(got, list) {
		t.Errorf("%+v\nwant %+v\n%s", got, list, text)
	}
	if got, err := ReadKnown(AcceptedFile, []byte(WriteKnown(nil)), someCodes); err != nil || len(got) > 0 {
		t.Errorf("%v, %v", got, err)
	}
}

// TestKnownCoversWhatItSays and nothing else.
func TestKnownCoversWhatItSays(t *testing.T) {
	k := Known{Code: "accepted", Families: []string{"bounds"}, Operations: []string{"POST /a", "PUT /a"}, Fields: []string{"/n"}}
	form := Known{Code: "bad-member", Operations: []string{"POST /a"}, Fields: []string{WholeRequest}, At: "/status"}
	for _, c := range []struct {
		k                                  Known
		code, operation, field, family, at string
		want                               bool
	}{
		{k, "accepted", "POST /a", "/n", "bounds", "", true},
		{k, "accepted", "PUT /a", "/n", "bounds", "/x", true},
		{k, "crashed", "POST /a", "/n", "bounds", "", false},
		{k, "accepted", "PATCH /a", "/n", "bounds", "", false},
		{k, "accepted", "POST /a", "/m", "bounds", "", false},
		{k, "accepted", "POST /a", WholeRequest, "bounds", "", false},
		{k, "accepted", "POST /a", "/n", "length", "", false},
		{k, "accepted", "POST /a", "/n", "", "", false},
		{form, "bad-member", "POST /a", WholeRequest, "", "/status", true},
		{form, "bad-member", "POST /a", WholeRequest, "", "/type", false},
		{form, "bad-member", "POST /a", WholeRequest, "bounds", "/status", false},
	} {
		if got := c.k.Covers(c.code, c.operation, c.field, c.family, c.at); got != c.want {
			t.Errorf("%+v: %v", c, got)
		}
	}
}

func TestBadKnown(t *testing.T) {
	const entry = "accepted:\n  - code: accepted\n    operations: [POST /a]\n"
	for text, want := range map[string]string{
		"- a":                                  "is not an object",
		"accepted: 7":                          "obiter.accepted.yaml:1:1: accepted is an integer; expected a list",
		"known: []":                            `unknown key "known"`,
		"accepted: [7]":                        "1:12: 0 is an integer where an object is expected",
		entry + "    reasons: x\n":             `4:5: unknown key "reasons"`,
		entry + "    until: soon\n":            `4:5: "soon" is not a date`,
		entry + "    until: '2027-02-30'\n":    `"2027-02-30" is not a date`,
		entry + "    fields: /n\n":             "fields is a string; expected a list",
		"accepted:\n  - operations: [POST /a]": `"" is not the code of a finding`,
		"accepted:\n  - {code: acepted, operations: [POST /a]}":   `"acepted" is not the code of a finding`,
		"accepted:\n  - code: accepted\n":                         "2:5: the entry names no operation",
		entry + "  - code: accepted\n    operations: [POST /a]\n": "4:5: the entry is there twice",
		"accepted:\n  - code: [":                                  "obiter.accepted.yaml:3:1: not readable as YAML",
	} {
		_, err := ReadKnown(AcceptedFile, []byte(text), someCodes)
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}
