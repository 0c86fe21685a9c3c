package harbour

import (
	"fmt"
	"slices"
)

// Fault is a named mistake that the harbour office can be made to make.
type Fault struct {
	Name      string
	Operation string // where it shows
	Code      string // of the finding that tells it
	Says      string // what the service does wrong
	Demo      bool   // switched on in the demo
}

// Operations of the harbour that take a body.
const (
	createVessel   = "POST /vessels"
	replaceVessel  = "PUT /vessels/{vessel_id}"
	changeVessel   = "PATCH /vessels/{vessel_id}"
	bookBerth      = "POST /berth-bookings"
	replaceBooking = "PUT /berth-bookings/{booking_id}"
	orderPilot     = "POST /pilot-orders"
	openSession    = "POST /sessions"
)

// Faults are all of them, each a mistake seen in practice.
var Faults = []Fault{
	{"update-unchecked", replaceVessel, "accepted", "the rules of the create endpoint were forgotten on the update", true},
	{"numbers-coerced", createVessel, "accepted", "numbers in quotes and fractions are quietly made to fit", true},
	{"unknown-kept", orderPilot, "accepted", "members that nobody described are taken", false},
	{"duplicates-kept", bookBerth, "accepted", "the rule that services differ is written and never runs", true},
	{"media-type-ignored", createVessel, "accepted", "any Content-Type is read as JSON", false},
	{"success-with-error", openSession, "accepted", "a rejection comes as 200 with an error text", false},
	{"wrong-type-fails", orderPilot, "crashed", "a value of the wrong type ends in 500", true},
	{"malformed-fails", bookBerth, "crashed", "malformed JSON ends in 500", false},
	{"redirects-home", openSession, "redirected", "a rejection sends the client to a page", false},
	{"hangs-up", openSession, "no-answer", "malformed JSON makes the handler drop the connection", false},
	{"not-found-for-all", replaceVessel, "wrong-status", "whatever is wrong, the answer is 404", false},
	{"syntax-as-422", orderPilot, "wrong-status", "malformed JSON is answered with 422", true},
	{"no-allow", openSession, "missing-header", "405 comes without Allow", true},
	{"html-page", replaceBooking, "not-problem", "a rejection is an HTML page", false},
	{"own-layout", orderPilot, "not-problem", "one endpoint answers in a layout of its own", false},
	{"cut-answer", openSession, "unreadable", "the answer's JSON breaks off", false},
	{"status-as-text", changeVessel, "bad-member", "the member status is text", true},
	{"status-differs", createVessel, "status-mismatch", "the member status and the status line differ", false},
	{"bare-rejection", changeVessel, "no-field-errors", "a rejection does not say which field", false},
	{"sentence-only", openSession, "no-field-errors", "the field's name stands only inside a sentence", true},
	{"field-withheld", createVessel, "missed-field", "for one field the whole body is blamed", false},
	{"first-error-only", bookBerth, "one-at-a-time", "only the first of several errors is reported", true},
	{"neighbour-blamed", orderPilot, "wrong-field", "a field that was right is blamed as well", false},
	{"index-missing", bookBerth, "vague-field", "errors inside lists lack the index", false},
	{"parent-named", replaceBooking, "vague-field", "the object is named and not the field in it", true},
	{"other-spelling", createVessel, "vague-field", "fields are named in another spelling than the request's", false},
	{"no-pointers", bookBerth, "broken-pointer", "what is called pointer is none", false},
	{"maximum-exclusive", createVessel, "edge-rejected", "the largest number allowed is refused", true},
	{"bytes-counted", replaceBooking, "edge-rejected", "lengths are counted in bytes", true},
	{"optional-demanded", orderPilot, "control-rejected", "an optional field is demanded", false},
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
			return nil, fmt.Errorf("there is no mistake %q in the harbour", n)
		}
		on[n] = true
	}
	return on, nil
}
