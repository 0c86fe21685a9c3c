package judge

// Severity of a finding: an error fails the run, a warning and a note do not.
type Severity string

// The severities.
const (
	Error   Severity = "error"
	Warning Severity = "warning"
	Note    Severity = "note"
)

// Code is what is said of a kind of finding, for every place that shows one.
type Code struct {
	Code     string
	Severity Severity
	Title    string // one line
	Cites    string // the standard it rests on; may be empty
	Itself   bool   // wrong whether or not the operation's control was accepted
}

// Codes are all findings, gravest first.
var Codes = []Code{
	{"accepted", Error, "a flawed request was accepted", "", true},
	{"crashed", Error, "a flawed request made the service fail", "RFC 9110, section 15.6", true},
	{"no-answer", Error, "no answer came", "", true},
	{"control-rejected", Error, "a valid request was refused", "", true},
	{"edge-rejected", Error, "a valid boundary value was refused", "", false},
	{"redirected", Error, "a flawed request was answered with a redirect", "RFC 9110, section 15.4", true},
	{"wrong-status", Error, "the status is not the one for this sort of flaw", "RFC 9110, section 15.5", false},
	{"missing-header", Error, "a header that must accompany this status is missing", "RFC 9110, sections 10.2.1 and 11.6.1", true},
	{"not-problem", Error, "the rejection is no problem document", "RFC 9457, section 3", true},
	{"unreadable", Error, "no JSON object could be read from the rejection", "RFC 9457, section 3", true},
	{"bad-member", Error, "a member of the problem document has the wrong form", "RFC 9457, section 3.1", true},
	{"status-mismatch", Error, "the status member is not the HTTP status", "RFC 9457, section 3.1.2", true},
	{"no-field-errors", Error, "nothing machine-readable names the field that was wrong", "RFC 9457, section 3", false},
	{"missed-field", Error, "field errors are there, the flawed field is not among them", "RFC 9457, section 3", false},
	{"one-at-a-time", Error, "several fields were wrong and only some are reported", "RFC 9457, section 3", false},
	{"wrong-field", Error, "a field that was right is blamed", "", false},
	{"broken-pointer", Error, "what should be a JSON Pointer leads nowhere", "RFC 6901, section 4; RFC 9457, section 3", false},
	{"vague-field", Warning, "the field is named imprecisely", "RFC 9457, section 3", false},
}

// Find is the entry of a code; false where there is none.
func Find(code string) (Code, bool) {
	for _, c := range Codes {
		if c.Code == code {
			return c, true
		}
	}
	return Code{}, false
}

// Rank orders codes from the gravest.
func Rank(code string) int {
	for i, c := range Codes {
		if c.Code == code {
			return i
		}
	}
	return len(Codes)
}
