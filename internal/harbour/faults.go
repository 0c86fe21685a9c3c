package harbour

import (
	"fmt"
	"slices"
)

// Fault is a named mistake that the harbour office can be made to make.
type Fault struct {
	Name      string
	Operation string   // where it shows
	Code      string   // of the finding that tells it
	Says      string   // what the service does wrong
	Demo      bool     // switched on in the demo
	Also      []string // codes of what follows from it
}

// Operations of the harbour that take a body.
const (
	listVessels    = "GET /vessels"
	createVessel   = "POST /vessels"
	replaceVessel  = "PUT /vessels/{vessel_id}"
	changeVessel   = "PATCH /vessels/{vessel_id}"
	bookBerth      = "POST /berth-bookings"
	replaceBooking = "PUT /berth-bookings/{booking_id}"
	orderPilot     = "POST /pilot-orders"
	openSession    = "POST /sessions"
	orderTow       = "POST /tow-orders"
	replaceTow     = "PUT /tow-orders/{tow_id}"
)

// Faults are all of them, each a mistake seen in practice.
var Faults = []Fault{
	{"update-unchecked", replaceVessel, "accepted", "the rules of the create endpoint were forgotten on the update", true, []string{"read-only-stored"}},
	{"numbers-coerced", createVessel, "accepted", "numbers in quotes and fractions are quietly made to fit", true, nil},
	{"unknown-kept", orderPilot, "accepted", "members that nobody described are taken", false, nil},
	{"duplicates-kept", bookBerth, "accepted", "the rule that services differ is written and never runs", true, nil},
	{"media-type-ignored", createVessel, "accepted", "any Content-Type is read as JSON", false, nil},
	{"success-with-error", openSession, "accepted", "a rejection comes as 200 with an error text", false, []string{"undocumented"}},
	{"wrong-type-fails", orderPilot, "crashed", "a value of the wrong type ends in 500", true, nil},
	{"malformed-fails", bookBerth, "crashed", "malformed JSON ends in 500", false, nil},
	{"redirects-home", openSession, "redirected", "a rejection sends the client to a page", false, nil},
	{"hangs-up", openSession, "no-answer", "malformed JSON makes the handler drop the connection", false, nil},
	{"not-found-for-all", replaceVessel, "wrong-status", "whatever is wrong, the answer is 404", false, nil},
	{"syntax-as-422", orderPilot, "wrong-status", "malformed JSON is answered with 422", true, []string{"title-drift"}},
	{"no-allow", openSession, "missing-header", "405 comes without Allow", true, nil},
	{"html-page", replaceBooking, "not-problem", "a rejection is an HTML page", false, []string{"odd-status"}},
	{"own-layout", orderPilot, "not-problem", "one endpoint answers in a layout of its own", false, []string{"odd-status"}},
	{"cut-answer", openSession, "unreadable", "the answer's JSON breaks off", false, nil},
	{"cut-in-a-character", orderPilot, "bad-encoding", "a text is cut in the middle of a character", false, nil},
	{"status-as-text", changeVessel, "bad-member", "the member status is text", true, nil},
	{"status-differs", createVessel, "status-mismatch", "the member status and the status line differ", false, nil},
	{"bare-rejection", changeVessel, "no-field-errors", "a rejection does not say which field", false, nil},
	{"sentence-only", openSession, "no-field-errors", "the field is named only inside a sentence", true, nil},
	{"field-withheld", createVessel, "missed-field", "for one field another is blamed", false, []string{"wrong-field", "one-at-a-time"}},
	{"first-error-only", bookBerth, "one-at-a-time", "only the first of several errors is reported", true, nil},
	{"neighbour-blamed", orderPilot, "wrong-field", "a field that was right is blamed as well", false, nil},
	{"index-shifted", replaceBooking, "wrong-field", "errors inside lists are reported at the first entry", false, []string{"one-at-a-time"}},
	{"index-missing", bookBerth, "broken-pointer", "errors inside lists lack the index", false, nil},
	{"parent-named", replaceBooking, "vague-field", "the object is named and not the field in it", true, nil},
	{"other-spelling", createVessel, "broken-pointer", "fields are named in another spelling", false, nil},
	{"paths-prefixed", createVessel, "foreign-path", "names of fields begin with the name of the record", false, nil},
	{"no-pointers", bookBerth, "broken-pointer", "what is called pointer is not one", false, []string{"odd-layout"}},
	{"maximum-exclusive", createVessel, "edge-rejected", "the largest number allowed is refused", true, nil},
	{"bytes-counted", replaceBooking, "edge-rejected", "lengths are counted in bytes", true, nil},
	{"filter-unchecked", listVessels, "accepted", "query parameters are taken as they come", false, nil},
	{"half-written", changeVessel, "changed-state", "a patch is written before it is checked", false, nil},
	{"stored-first", createVessel, "rejected-but-stored", "a vessel is stored before it is checked", false, nil},
	{"trace-shown", orderPilot, "leaks-internals", "a value of the wrong type shows the stack", false, nil},
	{"phrase-returned", openSession, "echoes-secret", "field errors carry the rejected value, the pass phrase too", false, nil},
	{"page-with-input", orderPilot, "unsafe-html", "a rejection is a page that repeats the input", false, []string{"not-problem", "odd-status"}},
	{"decoder-layout", bookBerth, "not-problem", "malformed JSON is answered in another layout", false, nil},
	{"map-for-list", changeVessel, "odd-layout", "fields are named in a map where other operations list them", false, []string{"undocumented"}},
	{"words-missing", orderPilot, "empty-message", "fields are named without a word", false, []string{"undocumented"}},
	{"answer-differs", openSession, "undocumented", "the answer to a success lacks a documented member", false, nil},
	{"type-relative", openSession, "weak-problem", "the problem's type is relative", false, []string{"title-drift"}},
	{"titles-vary", replaceBooking, "title-drift", "one problem type has the field's name in its title", false, nil},
	{"lists-as-400", bookBerth, "odd-status", "rules of lists are answered with 400 and all others with 422", false, []string{"title-drift"}},
	{"slow-minutes", openSession, "slow-rejection", "one rule takes more than a second to check", false, nil},
	{"moody", changeVessel, "unstable", "the same request is rejected with 422 first and with 400 then", false, []string{"odd-status", "title-drift"}},
	{"backward-tows", orderTow, "accepted", "a tow may end before it begins", true, nil},
	{"past-tows", orderTow, "accepted", "a tow may begin in the past", false, nil},
	{"unnumbered-tows", replaceTow, "accepted", "hazardous cargo needs no UN number on the update", false, nil},
	{"overpulled-tows", orderTow, "accepted", "nobody counts what the tugs can pull", false, nil},
	{"ghost-tows", orderTow, "accepted", "a tow may be for a vessel that is not there", false, nil},
	{"repeated-tows", orderTow, "accepted", "two orders may have one reference", true, nil},
	{"blanks-counted", orderTow, "accepted", "spaces count towards a length", false, nil},
	{"phrases-unchecked", openSession, "accepted", "a pass phrase needs no digit", false, nil},
	{"open-door", replaceTow, "accepted", "the token is not required", false, nil},
	{"any-token", orderTow, "accepted", "any token will do", false, nil},
	{"no-challenge", orderTow, "missing-header", "401 comes without WWW-Authenticate", false, nil},
	{"other-words", orderTow, "wrong-message", "a message does not say what is wrong", false, nil},
	{"minute-demanded", orderTow, "edge-rejected", "a tow of less than a minute is refused", false, nil},
	{"no-pilot", orderPilot, "not-reached", "no pilot is on duty, so every order is refused", false, nil},
	{"one-booking", bookBerth, "conflict", "a second booking is refused before it is looked at", false, []string{"not-reached"}},
	{"causes-nested", openSession, "not-judged", "a rejection holds its causes, each inside the last, a thousand deep", false, nil},
	{"read-only-kept", createVessel, "read-only-stored", "the time of registration is taken from the request", false, nil},
	{"fractions-refused", orderPilot, "edge-rejected", "times with fractions of a second are refused", false, nil},
	{"optional-demanded", orderPilot, "control-rejected", "an optional field is demanded", false, nil},
}

// Field is the field that a fault shows at, where its operation and its code do
// not tell it from others; "" elsewhere.
func (f Fault) Field() string {
	return map[string]string{"backward-tows": "/ends_at", "past-tows": "/starts_at", "unnumbered-tows": "/un_number", "overpulled-tows": "/pull_t", "ghost-tows": "/vessel_id",
		"repeated-tows": "/reference", "blanks-counted": "/purpose", "phrases-unchecked": "/pass_phrase"}[f.Name]
}

// DemoFaults are the names of those that the demo switches on.
func DemoFaults() []string {
	var out []string
	for _, f := range Faults {
		if f.Demo {
			out = append(out, f.Name)
		}
	}
	return out
}

// checkFaults makes a set of names. An unknown one is an error.
func checkFaults(names []string) (map[string]bool, error) {
	on := map[string]bool{}
	for _, n := range names {
		if !slices.ContainsFunc(Faults, func(f Fault) bool { return f.Name == n }) {
			return nil, fmt.Errorf("the harbour has no mistake %q", n)
		}
		on[n] = true
	}
	return on, nil
}
