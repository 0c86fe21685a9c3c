package config

import (
	"fmt"
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
	got, _, err := ReadKnown(KnownFile, []byte(text), someCodes)
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	for i := range got {
		got[i].Line, list[i].Comment = 0, ""
	}
	if !reflect.DeepEqual(got, list) {
		t.Errorf("%+v\nwant %+v\n%s", got, list, text)
	}
	if got, _, err := ReadKnown(KnownFile, []byte(WriteKnown(nil)), someCodes); err != nil || len(got) > 0 {
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
	const entry = "known:\n  - code: accepted\n    operations: [POST /a]\n"
	for text, want := range map[string]string{
		"- a":                               "is not an object",
		"known: 7":                          "obiter.known.yaml:1:1: known is an integer; expected a list",
		"causes: []":                        `unknown key "causes"`,
		"accepted: [7]":                     "1:12: 0 is an integer where an object is expected",
		entry + "    reasons: x\n":          `4:5: unknown key "reasons"`,
		entry + "    until: soon\n":         `4:5: "soon" is not a date`,
		entry + "    until: '2027-02-30'\n": `"2027-02-30" is not a date`,
		entry + "    fields: /n\n":          "fields is a string; expected a list",
		"known:\n  - operations: [POST /a]": `"" is not the code of a finding`,
		"known:\n  - {code: acepted, operations: [POST /a]}": `"acepted" is not the code of a finding`,
		"known:\n  - code: accepted\n":                       "2:5: the entry names no operation",
		"known:\n  - code: [":                                "obiter.known.yaml:3:1: not readable as YAML",
	} {
		_, _, err := ReadKnown(KnownFile, []byte(text), someCodes)
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
}

// TestKnownTwice: an entry that is there twice is written once, and read once with a warning.
func TestKnownTwice(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long, and nothing of it is done side by side")
	}
	one := Known{Code: someCodes[0], Operations: []string{"POST /a", "PUT /a"}, Fields: []string{"/n"}, Comment: "seen"}
	same := one
	same.Operations, same.Comment = []string{"PUT /a", "POST /a"}, "seen as a warning"
	other := one
	other.At = "/errors"
	if text := WriteKnown([]Known{one, same, other}); strings.Count(text, "- code:") != 2 || strings.Contains(text, "as a warning") {
		t.Errorf("written is\n%s", text)
	}
	text := WriteKnown([]Known{one})
	_, entries, _ := strings.Cut(text, "known:\n")
	list, twice, err := ReadKnown(KnownFile, []byte(text+entries), someCodes)
	if err != nil || len(list) != 1 || len(twice) != 1 || twice[0].Line != 15 || !strings.HasPrefix(twice[0].Hint, "line 7 ") {
		t.Errorf("%v, %+v, %v", err, list, twice)
	}
	var many []Known
	for i := range 50_000 {
		many = append(many, Known{Code: someCodes[0], Operations: []string{"POST /a"}, Fields: []string{fmt.Sprint("/", i)}})
	}
	if list, _, err := ReadKnown(KnownFile, []byte(WriteKnown(many)), someCodes); err != nil || len(list) != len(many) {
		t.Errorf("%d of %d are read: %v", len(list), len(many), err)
	}
}
