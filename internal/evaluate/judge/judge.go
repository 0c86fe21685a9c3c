// Package judge holds an answer against what its case expects and says what is
// wrong with it: findings under stable codes, and a verdict. It accuses only
// where the description or a standard is plain; what they leave open it passes
// over. It is pure: the same case and answer give the same findings.
package judge

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/core/rule"
	"obiter/internal/evaluate/layout"
	"obiter/internal/evaluate/problem"
)

// Finding is one thing wrong with an answer.
type Finding struct {
	Code     string   `json:"code"`
	Severity Severity `json:"severity"`
	Message  string   `json:"message"`
	At       string   `json:"at,omitempty"`    // header name, or pointer into the answer
	Field    string   `json:"field,omitempty"` // pointer of the request field concerned
	Cites    string   `json:"cites,omitempty"`
	Count    int      `json:"count,omitempty"` // of a finding of the whole run: how many answers show it
	Known    bool     `json:"-"`               // the team knows it
	Variant  string   `json:"-"`               // tells causes of one code apart, where the rest of the finding does not
}

// Verdict is the outcome of a case.
type Verdict string

// The verdicts. A pass is unproven where the operation's control was refused,
// for then a rejection shows nothing. Form is that of an answer which is wrong only
// in how it is written.
const (
	Pass     Verdict = "pass"
	Fail     Verdict = "fail"
	Form     Verdict = "form"
	Unproven Verdict = "unproven"
)

// Context is what is known in addition to a case and its answer.
type Context struct {
	Proven        bool                 // the operation's control was accepted; not used for a control itself
	Control       time.Duration        // how long that took; 0: not known
	Signs         []string             // in which its answer looks like an error all the same
	ControlFailed bool                 // the control was answered with a 5xx
	Layout        *layout.Layout       // how fields are named, where that is configured
	Knowledge     *layout.Knowledge    // how they are, as the run taught; nil: nothing is known
	Documented    *exchange.Documented // what the description says of this answer; nil: nothing
}

// Judgement is what a case comes to.
type Judgement struct {
	Verdict     Verdict
	Findings    []Finding
	Fingerprint *Fingerprint // of a rejection; nil for anything else
	Said        string       // the service's own words about the one flawed field, else about all; "" where there are none
	Epoch       int          // of what was known when it was judged (Run.Epoch)
}

// Case judges one answer.
func Case(c exchange.Case, a exchange.Answer, ctx Context) Judgement {
	return lookAt(&c, &a).judge(ctx)
}

func (l *look) judge(ctx Context) Judgement {
	var out Judgement
	c, a, doc := *l.c, *l.a, l.doc
	if c.Kind == exchange.Flawed {
		out.Findings, out.Fingerprint = l.flawed(ctx)
		if out.Fingerprint != nil {
			out.Said = l.said(ctx)
		}
	} else {
		out.Findings = valid(c, a, doc)
	}
	if a.Err == "" {
		out.Findings = append(out.Findings, beyond(c, a, ctx, doc)...)
	}
	if slices.ContainsFunc(out.Findings, func(f Finding) bool { return Has(f.Code, Departs) }) {
		out.Findings = slices.DeleteFunc(out.Findings, func(f Finding) bool { return f.Code == "undocumented" }) // it is the same thing
	}
	unproven := c.Kind != exchange.Control && !ctx.Proven
	if unproven {
		out.Findings = slices.DeleteFunc(out.Findings, func(f Finding) bool {
			return !Has(f.Code, Independent)
		})
	}
	slices.SortStableFunc(out.Findings, byRank)
	out.Verdict = verdict(out.Findings, unproven)
	return out
}

func byRank(a, b Finding) int { return cmp.Compare(Rank(a.Code), Rank(b.Code)) }

func verdict(found []Finding, unproven bool) Verdict {
	out := Pass
	for _, f := range found {
		switch {
		case f.Severity == Error && !Has(f.Code, OfWriting):
			return Fail
		case f.Severity == Error:
			out = Form
		case Has(f.Code, Answers):
			unproven = true
		}
	}
	if unproven || slices.ContainsFunc(found, func(f Finding) bool { return Has(f.Code, Unproves) }) {
		return Unproven
	}
	return out
}

func finding(code, field, at, message string) Finding {
	known, ok := Find(code)
	if !ok {
		panic("judge: no code " + code)
	}
	return Finding{Code: code, Severity: known.Severity, Message: message, At: at, Field: field, Cites: known.Cites}
}

// StatusText is a code with its phrase: "404 Not Found".
func StatusText(code int) string {
	if text := http.StatusText(code); text != "" {
		if code == http.StatusUnprocessableEntity {
			text = "Unprocessable Content" // its name since RFC 9110
		}
		return strconv.Itoa(code) + " " + text
	}
	return strconv.Itoa(code)
}

// describeValid says what a valid request is.
func describeValid(c exchange.Case) string {
	switch {
	case c.Kind == exchange.Edge:
		return fmt.Sprintf("a valid request (%s: %s)", c.Edge.Where(), c.Edge.Reason)
	case len(c.LeavesOut) > 0:
		return "a valid request (accepted only without " + strings.Join(c.LeavesOut, ", ") + ")"
	case c.Captured:
		return "a valid request"
	}
	return "a valid request (" + c.Base + " control)"
}

// valid judges the answer to a control or an edge: any 2xx is right.
func valid(c exchange.Case, a exchange.Answer, doc problem.Document) []Finding {
	code, field, what := "control-rejected", "", describeValid(c)
	edge := c.Kind == exchange.Edge
	if edge {
		code, field = "edge-rejected", c.Edge.Pointer
	}
	switch {
	case a.Err != "":
		return []Finding{unanswered(field, what, a)}
	case a.Success():
		return nil
	case c.Captured && !(edge && blames(doc, c, c.Edge.Pointer)) && a.Status < 500 && a.Status != http.StatusMethodNotAllowed && a.Status != http.StatusUnsupportedMediaType:
		return []Finding{finding("unexplained-refusal", "", "", fmt.Sprintf("a request that obeys the description was refused with %s%s", StatusText(a.Status), reasons(c, a, doc)))}
	case !edge && !contradicts(c, a, doc):
		return []Finding{notReached(what, c, a, doc)}
	case edge && (speaksOfRecords(a.Status) || a.Status < 500 && (standsForRecord(*c.Edge) || ofRecords().MatchString(reasons(c, a, doc)))):
		return []Finding{conflict(field, what, a)}
	}
	f := finding(code, field, "", fmt.Sprintf("%s was refused with %s%s", what, StatusText(a.Status), reasons(c, a, doc)))
	if edge && c.Expect.Rare && a.Status < 500 {
		f.Severity = Warning
		f.Message += "; such values are right, and seldom met"
	}
	return []Finding{f}
}

// blames reports whether an answer names a field.
func blames(doc problem.Document, c exchange.Case, pointer string) bool {
	reading := layout.Read(doc.Value, layout.NewVocabulary(c.Body, c.Control, nil))
	return slices.ContainsFunc(reading.Fields, func(n layout.Named) bool { return n.Name.Fits(pointer) == layout.Exact })
}

// unanswered is the finding for a request that got no answer. One that was not sent says
// nothing of the service. A service that asks for patience, and needs more than there
// is, is no error.
func unanswered(field, what string, a exchange.Answer) Finding {
	if a.NotSent {
		return finding("not-judged", "", "", "a request was not sent: "+a.Err)
	}
	if a.Died != "" {
		return finding("crashed", field, "", what+" ended the service ("+a.Died+")")
	}
	if a.Shared {
		return finding("not-judged", "", "", what+" was cut off when the service ended; other requests were in flight, and any of them may have ended it")
	}
	f := finding("no-answer", field, "", what+" got no answer: "+a.Err)
	if busy(a) {
		f.Severity = Warning
	}
	return f
}

// reasons is why the API refused a valid request: the field errors it gives,
// else its own words.
func reasons(c exchange.Case, a exchange.Answer, doc problem.Document) string {
	reading := layout.Read(doc.Value, layout.NewVocabulary(c.Body, c.Control, nil))
	for _, n := range reading.Fields {
		if n.InRequest && n.Message != "" {
			return fmt.Sprintf(": %q “%s”", n.Name.Raw, shorten(n.Message))
		}
	}
	if listed := firstListed(doc.Value); listed != "" {
		return ": “" + shorten(listed) + "”"
	}
	return quoted(a)
}

// firstListed is the first message in a list of an answer: a text of several words. It
// tells more than the answer's own words, which often only point at the list.
func firstListed(v any) (text string) {
	instance.Walk(v, func(at string, inner any) bool {
		s, is := inner.(string)
		if is && strings.Contains(s, " ") && inList.MatchString(at) && !strings.HasSuffix(at, "/stack") {
			text = s
		}
		return text == ""
	})
	return text
}

// inList matches the pointer of what is an element of a list, or a member of one.
var inList = regexp.MustCompile(`/[0-9]+(/[^/]+)?$`)

// Reasons is why a valid request was refused, in the API's own words: what it says of
// a field, else of all.
func Reasons(c exchange.Case, a exchange.Answer) string {
	doc, _ := problem.Of(a)
	return reasons(c, a, doc)
}

// flawed judges the answer to a request that must be rejected. What rules out
// the rest comes first: a success, a crash and a redirect are each the one
// thing to say.
func (l *look) flawed(ctx Context) ([]Finding, *Fingerprint) {
	c, a, doc := *l.c, *l.a, l.doc
	field := fieldOf(c)
	success := a.Status >= 200 && a.Status < 300
	one := func(f Finding) ([]Finding, *Fingerprint) { return []Finding{f}, nil }
	switch {
	case a.Err != "" && c.Expect.Class == exchange.TooLarge && a.ClosedEarly && a.Died == "":
		return nil, nil // a service need not read on (RFC 9110, section 15.5.14)
	case a.Err != "":
		return one(unanswered(field, describe(c), a))
	case success && c.Expect.Class.SuccessIsRight():
		return kept(c, a), nil
	case success:
		return one(accepted(c, a, ctx, doc, field))
	case a.Status >= 500 && ctx.ControlFailed:
		return nil, nil // the control fails as well, which is the one thing to say
	case a.Status >= 500:
		return one(finding("crashed", field, "", fmt.Sprintf("%s was answered with %s%s", describe(c), StatusText(a.Status), quoted(a))))
	case a.Status >= 300 && a.Status < 400:
		where := a.Header.Get("Location")
		if where == "" {
			where = "nowhere"
		}
		return one(finding("redirected", field, "Location", fmt.Sprintf("%s was answered with %s to %s", describe(c), StatusText(a.Status), where)))
	case a.Status < 200:
		return one(finding("wrong-status", field, "", fmt.Sprintf("%s was answered with %s", describe(c), StatusText(a.Status))))
	}
	found, fingerprint := l.rejected(ctx)
	if isBlankText(c) {
		found = append(found, ofBlanks(c, "refused", "is refused"))
	}
	return found, fingerprint
}

// describe tells in a few words what was wrong with the request.
func describe(c exchange.Case) string {
	switch {
	case len(c.Flaws) > 1:
		return fmt.Sprintf("a request with %d invalid fields", len(c.Flaws))
	case c.Flaws[0].In == "request":
		return "a request (" + c.Flaws[0].Reason + ")"
	}
	return fmt.Sprintf("%s (%s)", c.Flaws[0].Where(), c.Flaws[0].Reason)
}

// fieldOf is the flawed field, where there is one.
func fieldOf(c exchange.Case) string {
	if len(c.Flaws) == 1 {
		return c.Flaws[0].Pointer
	}
	return ""
}

func accepted(c exchange.Case, a exchange.Answer, ctx Context, doc problem.Document, field string) Finding {
	f := finding("accepted", field, "", fmt.Sprintf("%s was accepted with %s%s", describe(c), StatusText(a.Status), stored(c, a)))
	if slices.ContainsFunc(errorSigns(doc), func(sign string) bool { return !slices.Contains(ctx.Signs, sign) }) {
		f.Message += ", although its body reports an error" + quoted(a)
	}
	if c.Expect.Class == exchange.Method {
		f.Message = fmt.Sprintf("the description has no %s on this path, and yet it was answered with %s", c.Request.Method, StatusText(a.Status))
	}
	if isReading(c) {
		f.Severity = Warning
		f.Message += "; no standard says how such a value is read from text"
	}
	if isBlank(c) {
		f.Severity = Warning
		f.Message += "; many readers treat an empty value as absent"
	}
	if rule.Of(c.Flaws[0]).Success == rule.Doubtful || c.Request.Method == http.MethodDelete && c.Flaws[0].In == "path" { // what is not there is gone
		f.Severity = Warning
	}
	return f
}

// signsOf are the errorSigns of an answer.
func signsOf(a exchange.Answer) []string {
	doc, _ := problem.Of(a)
	return errorSigns(doc)
}

// errorSigns are the ways in which the body of a success says that it failed: the
// members of a problem document, a status in words, errors that are not empty.
func errorSigns(doc problem.Document) []string {
	var out []string
	code, _ := doc.Object["status"].(json.Number)
	if n, err := code.Int64(); err == nil && n >= 400 && n <= 599 {
		out = append(out, "status")
	}
	if doc.Text("title") != "" && doc.Text("type") != "" && doc.Media == "application/problem+json" {
		out = append(out, "problem")
	}
	if slices.Contains([]string{"error", "fail", "failed", "failure"}, strings.ToLower(doc.Text("status"))) {
		out = append(out, "status in words")
	}
	for _, name := range []string{"error", "errors"} {
		switch v := doc.Object[name].(type) {
		case nil:
		case bool:
			if v {
				out = append(out, name)
			}
		case string:
			if v != "" {
				out = append(out, name)
			}
		case []any:
			if len(v) > 0 {
				out = append(out, name)
			}
		case map[string]any:
			if len(v) > 0 {
				out = append(out, name)
			}
		}
	}
	return out
}

// isReading reports whether a value is of the wrong type that many read from text
// as the right one: 1 for true.
func isReading(c exchange.Case) bool {
	f := c.Flaws[0]
	return len(c.Flaws) == 1 && f.Rule == "type" && slices.Contains([]string{"one-for-true", "zero-for-false"}, f.Variant) && isText(c)
}

// isText reports whether the flawed part travels as text.
func isText(c exchange.Case) bool {
	media := exchange.MediaTypeOf(c.Request.Header("Content-Type"))
	return c.Part() != "body" || media == "application/x-www-form-urlencoded" || media == "multipart/form-data" || strings.HasPrefix(media, "text/")
}

// stored tells what an answer shows in the place of the flawed value.
func stored(c exchange.Case, a exchange.Answer) string {
	if len(c.Flaws) != 1 || c.Flaws[0].In != "body" || c.Flaws[0].Pointer == "" {
		return ""
	}
	answer, err := a.JSON()
	sent, was := instance.Get(c.Body, c.Flaws[0].Pointer)
	shown, is := instance.Get(answer, c.Flaws[0].Pointer)
	switch {
	case err != nil || !is && !was:
		return ""
	case !is:
		if _, isObject := answer.(map[string]any); !isObject || c.Flaws[0].Rule != "additionalProperties" {
			return ""
		}
		return "; the answer does not show it"
	case !was:
		return fmt.Sprintf("; the answer shows %s in its place", instance.Shown(shown))
	case instance.Equal(sent, shown):
		return "; the answer shows it as it was sent"
	}
	return fmt.Sprintf("; sent was %s, and the answer shows %s", instance.Shown(sent), instance.Shown(shown))
}

// isBlank reports whether what is wrong is a field in a query or a form that is
// sent with nothing in it. OpenAPI requires allowEmptyValue for that
// (3.0.3, "Parameter Object"), yet untouched fields of a form are sent so.
func isBlank(c exchange.Case) bool {
	if len(c.Flaws) != 1 {
		return false
	}
	f := c.Flaws[0]
	if f.In != "query" && f.In != "body" || !isText(c) {
		return false
	}
	v, there := instance.Get(c.Body, f.Pointer)
	return there && (v == nil || v == "")
}

// writing are the methods that a body comes with.
var writing = []string{http.MethodPost, http.MethodPut, http.MethodPatch}

// ofContent are statuses of a rejection that looked at the request's content.
var ofContent = []int{http.StatusBadRequest, http.StatusConflict, http.StatusPreconditionFailed, http.StatusUnsupportedMediaType, http.StatusUnprocessableEntity, http.StatusPreconditionRequired}

// owed are the headers that answers of a status have to come with.
var owed = map[int]string{http.StatusMethodNotAllowed: "Allow", http.StatusUnauthorized: "WWW-Authenticate"}

// wrongStatus is the finding for a rejection with a status that is not right.
func wrongStatus(c exchange.Case, a exchange.Answer) Finding {
	f := finding("wrong-status", "", "", fmt.Sprintf("%s was answered with %s; expected %s", describe(c), StatusText(a.Status), oneOf(c.Expect.Statuses)))
	if c.Expect.Class != exchange.Method {
		return f
	}
	if a.Status == http.StatusNotFound { // what is there is for the service to say (RFC 9110, sections 9.1 and 15.5.5)
		f.Severity = Warning
	}
	if slices.Contains(writing, c.Request.Method) && slices.Contains(ofContent, a.Status) {
		f.Severity = Warning
		f.Message += "; the service seems to have the method, and the description does not"
	}
	return f
}

// ofForm are the findings for an answer that departs from the RFC.
func (l *look) ofForm(ctx Context) (found []Finding) {
	for _, d := range l.departures {
		if l.a.Truncated && d.Code == "unreadable" {
			d.Code, d.Message, d.Cites = "not-judged", "the answer is longer than is read", ""
		}
		if own := ctx.Layout.OwnMediaType(); own != "" && d.Code == "not-problem" {
			if l.doc.Media == own {
				continue
			}
			d.Message, d.Cites = fmt.Sprintf("the answer is %s where %s is expected, as errors: in obiter.yaml says", cmp.Or(l.doc.Media, "of no media type"), own), ""
		}
		f := finding(d.Code, "", d.At, d.Message)
		f.Cites = d.Cites
		found = append(found, f)
	}
	return found
}

func (l *look) rejected(ctx Context) ([]Finding, *Fingerprint) {
	var found []Finding
	c, a, doc := *l.c, *l.a, l.doc
	right := slices.Contains(c.Expect.Statuses, a.Status)
	inTheWay := l.isConflict()
	if inTheWay {
		found = append(found, conflict(fieldOf(c), describe(c), a))
	} else if !right {
		found = append(found, wrongStatus(c, a))
	}
	if header := owed[a.Status]; header != "" {
		if _, there := a.Header[http.CanonicalHeaderKey(header)]; !there {
			found = append(found, finding("missing-header", "", header, fmt.Sprintf("%s comes without the header %s", StatusText(a.Status), header)))
		}
	}
	found = append(found, l.ofForm(ctx)...)
	print := fingerprint(c, a, doc)
	print.Usual = doc.Claimed || doc.Media == ctx.Layout.OwnMediaType() && doc.Media != ""
	// A rejection by another layer (not found, not allowed …) knows nothing of fields.
	if right && !inTheWay && doc.Value != nil && a.Status != http.StatusNotFound && asksForField(c, a.Status) {
		reading := l.reading(ctx)
		if ctx.Layout != nil && !ctx.Layout.Learned {
			found = append(found, otherwise(reading, ctx.Layout.Notation)...)
		}
		blamed := blame(c, ctx, doc, reading)
		found = append(found, blamed...)
		found = append(found, wrongWords(c, a, reading)...)
		print.fields(c, ctx, doc, reading, blamed)
	}
	if c.Expect.Says != "" && right && !inTheWay && !asksForField(c, a.Status) {
		found = append(found, wrongWords(c, a, layout.Reading{})...)
	}
	if f, slow := slowly(c, a, ctx); slow {
		found = append(found, f)
	}
	return found, print
}

func oneOf(statuses []int) string {
	var out []string
	for _, s := range statuses {
		out = append(out, fmt.Sprint(s))
	}
	return strings.Join(out, " or ")
}

// asksForField reports whether the answer has to name a field: the flaw is one of
// fields, and not of the body or the request as a whole.
func asksForField(c exchange.Case, status int) bool {
	switch c.Expect.Class {
	case exchange.Type, exchange.Constraint, exchange.UnknownField, exchange.Parameter, exchange.PathParameter, exchange.Reference:
	case exchange.Duplicate: // a conflict may be of the record as a whole
		if status == http.StatusConflict {
			return false
		}
	default:
		return false
	}
	return slices.ContainsFunc(c.Flaws, exchange.Flaw.OfField)
}

// otherwise finds a name that is written in another way than the configuration
// says. A name without a path looks the same dotted and in brackets, and one with
// a path but no index is dotted in either.
func otherwise(r layout.Reading, want layout.Notation) []Finding {
	for _, n := range r.Fields {
		is := n.Name.Notation
		plain := is == layout.Plain && (want == layout.Dotted || want == layout.Bracketed || want == layout.Segments)
		dotted := is == layout.Dotted && want == layout.Bracketed && !n.Name.Indexed()
		if want != "" && is != want && is != layout.Nested && !plain && !dotted {
			return []Finding{finding("odd-layout", "", n.At, fmt.Sprintf("the name %q is not written as the configuration says (%s)", n.Name.Raw, want))}
		}
	}
	return nil
}
