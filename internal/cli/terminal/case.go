package terminal

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
	"obiter/internal/results/record"
)

func (w Printer) Show(head record.Head, res record.Result, log []string, controls map[string]string, whole bool) {
	out := w.Out
	fmt.Fprintln(out, w.Style.Bold(res.ID)+"  "+Clean(res.Operation)+"  "+Clean(res.Name))
	w.about(out, res, cmp.Or(head.Layout.OwnMediaType(), "a problem document"))

	fmt.Fprintln(out, "\n"+w.Style.Bold("Sent"))
	wrong := parameterMarks(res.Case)
	fmt.Fprintln(out, "  "+Clean(w.folded(res.Request.Method+" "+res.Request.URL, whole)))
	for _, mark := range wrong[""] {
		fmt.Fprintln(out, w.Style.In(Yellow, "    # "+Clean(mark)))
	}
	for _, h := range res.Request.Headers {
		line := "  " + Clean(w.folded(h[0]+": "+h[1], whole))
		if mark := wrong[strings.ToLower(h[0])]; mark != nil {
			line = w.Style.In(Yellow, line+"   # "+Clean(strings.Join(mark, "; ")))
			delete(wrong, strings.ToLower(h[0]))
		}
		fmt.Fprintln(out, line)
	}
	delete(wrong, "")
	for _, name := range slices.Sorted(maps.Keys(wrong)) { // what is left out
		fmt.Fprintln(out, w.Style.In(Yellow, "  # "+Clean(strings.Join(wrong[name], "; "))))
	}
	for _, name := range head.Headers {
		fmt.Fprintln(out, "  "+Clean(name)+": "+w.Style.Dim("(not kept)"))
	}
	for _, c := range res.Credentials {
		fmt.Fprintln(out, "  "+Clean(c.Name)+": "+w.Style.Dim("("+credentialWords(c)+")"))
	}
	fmt.Fprintln(out, "  Obiter-Case: "+res.ID)
	w.body(res.Request.Body, marks(res.Case), whole)

	fmt.Fprintln(out, "\n"+w.Style.Bold("Answered")+w.Style.Dim(fmt.Sprintf(" after %.1f ms", float64(res.Response.Took.Microseconds())/1000)))
	w.answer(res.Response, whole)

	if len(log) > 0 {
		fmt.Fprintln(out, "\n"+w.Style.Bold("Logged"))
	}
	for _, line := range log {
		fmt.Fprintln(out, "  "+Clean(w.folded(line, whole)))
	}
	if len(res.Findings) > 0 {
		fmt.Fprintln(out, "\n"+w.Style.Bold("Findings"))
	}
	for _, f := range res.Findings {
		fmt.Fprintln(out, "  "+w.Style.Severity(f.Severity, string(f.Severity)+" "+f.Code))
		fmt.Fprintln(out, w.Style.Wrap(Clean(f.Message), 4))
		if known, ok := judge.Find(f.Code); ok && f.Cites != "" {
			fmt.Fprintln(out, w.Style.Dim(w.Style.Wrap(known.Title+" ("+f.Cites+")", 4)))
		}
	}
	fmt.Fprintln(out, "\n"+w.Style.Bold("Reproduce"))
	line := Curl(res.Case, head)
	fmt.Fprintln(out, "  "+line)
	for _, name := range variablesOf(credentialsIn(res.Case, head)) {
		if by := head.Kept[name]; by != "" {
			fmt.Fprintln(out, w.Style.Dim("  # $"+Clean(name)+" is in the answer to "+Clean(by)+howToResend(controls, by)))
		}
	}
	for _, by := range res.MadeBy {
		fmt.Fprintln(out, w.Style.Dim("  # its record of "+Clean(by)+" is taken away: make one"+howToResend(controls, by)+", and name that instead"))
	}
}

// credentialsIn is what of a curl line is not kept.
func credentialsIn(c exchange.Case, head record.Head) string {
	c.Request = exchange.Request{}
	c.ID = ""
	return Curl(c, head)
}

// howToResend says how a request of an operation is sent howToResend.
func howToResend(controls map[string]string, operation string) string {
	if id := controls[operation]; id != "" {
		return " (obiter show " + id + ")"
	}
	return ""
}

// folded is a line of a request, cut where it is long.
func (w Printer) folded(line string, whole bool) string {
	const longest = 400
	if n := utf8.RuneCountInString(line); n > longest && !whole {
		return string([]rune(line)[:longest]) + fmt.Sprintf("… (%s characters)", Number(n))
	}
	return line
}

// parameterMarks are the notes on parameters: by the name of the header, and under ""
// those on the address.
func parameterMarks(c exchange.Case) map[string][]string {
	out := map[string][]string{}
	flaws := c.Flaws
	if c.Edge != nil {
		flaws = []exchange.Flaw{*c.Edge}
	}
	for _, f := range flaws {
		switch f.In {
		case "path", "query":
			out[""] = append(out[""], f.Where()+": "+f.Reason)
		case "header":
			name := strings.ToLower(instance.Last(f.Pointer))
			out[name] = append(out[name], f.Where()+": "+f.Reason)
		case "cookie":
			out["cookie"] = append(out["cookie"], f.Where()+": "+f.Reason)
		}
	}
	return out
}

// credentialWords tells what was sent of a credential.
func credentialWords(c exchange.Credential) string {
	what := map[string]string{"header": "", "query": " in the query", "cookie": " in a cookie"}[c.In]
	switch c.Flaw {
	case "missing":
		return "the credential " + c.Scheme + " was left out" + what
	case "":
		return "the credential " + c.Scheme + what + ", not kept"
	}
	return "a " + c.Flaw + " credential " + c.Scheme + what
}

// about prints what is wrong with the request, what is expected, in which form, and
// the verdict.
func (w Printer) about(out io.Writer, res record.Result, form string) {
	for i, f := range res.Flaws {
		if i == 12 && len(res.Flaws) > 13 {
			fmt.Fprintf(out, "           and %d more\n", len(res.Flaws)-i)
			break
		}
		where := f.Where()
		if f.In == "request" {
			where = f.Rule
		}
		fmt.Fprintln(out, "flaw       "+Clean(where+": "+f.Reason))
	}
	if res.Edge != nil {
		fmt.Fprintln(out, "edge       "+Clean(res.Edge.Where()+": "+res.Edge.Reason))
	}
	want := "any 2xx"
	if s := Expected(res.Case); s != "2xx" {
		want = strings.ReplaceAll(s, " ", " or ") + ", as " + form
		if len(res.Flaws) > 0 && res.Flaws[0].In != "request" && res.Flaws[0].Pointer != "" {
			want += " that names the field"
		}
	}
	if res.Expect.Says != "" {
		want += ", with a message that matches " + Clean(res.Expect.Says)
	}
	fmt.Fprintln(out, "expected   "+want)
	if len(res.MayBlame) > 0 {
		fmt.Fprintln(out, "also       "+Clean(strings.Join(res.MayBlame, ", "))+" may be blamed, for a rule of the configuration")
	}
	verdict := w.verdict(res.Verdict)
	if res.Verdict == judge.Unproven && !slices.ContainsFunc(res.Findings, func(f judge.Finding) bool {
		return judge.Has(f.Code, judge.Unproves) || judge.Has(f.Code, judge.Answers)
	}) {
		verdict += ": the operation's control was refused, so a rejection proves nothing"
	}
	fmt.Fprintln(out, "verdict    "+verdict)
}

// verdict says a verdict as the totals do.
func (w Printer) verdict(v judge.Verdict) string {
	switch v {
	case judge.Pass:
		return w.Style.In(Green, "right")
	case judge.Fail:
		return w.Style.In(Red, "wrong")
	case judge.Form:
		return w.Style.In(Yellow, "wrong in form only")
	}
	return w.Style.In(Yellow, string(v))
}

// marks are the notes next to the lines of the body, by pointer.
func marks(c exchange.Case) map[string]string {
	out := map[string]string{}
	for _, f := range c.Flaws {
		if f.In == "body" {
			out[f.Pointer] = f.Reason
		}
	}
	if c.Edge != nil && c.Edge.In == "body" {
		out[c.Edge.Pointer] = c.Edge.Reason
	}
	return out
}

func (w Printer) answer(r exchange.Answer, whole bool) {
	out := w.Out
	if r.Err != "" {
		fmt.Fprintln(out, "  "+w.Style.In(Red, Clean(r.Err)))
		if r.Status == 0 {
			return
		}
	}
	fmt.Fprintln(out, "  "+w.Style.Bold(judge.StatusText(r.Status)))
	for _, name := range slices.Sorted(maps.Keys(r.Header)) {
		for _, v := range r.Header[name] {
			fmt.Fprintln(out, "  "+Clean(name+": "+v))
		}
	}
	w.body(r.Body, nil, whole)
	if r.Truncated {
		fmt.Fprintln(out, w.Style.Dim("  (the answer is longer; this much of it is read)"))
	}
}

// maxShown is how much of a text that is no JSON is printed, in bytes.
const maxShown = 8 << 10

// body prints JSON indented with its marks, and anything else as it is.
func (w Printer) body(body []byte, marks map[string]string, whole bool) {
	out := w.Out
	if len(body) == 0 {
		fmt.Fprintln(out, "\n  "+w.Style.Dim("(no body)"))
		return
	}
	fmt.Fprintln(out)
	if v, err := instance.Decode(body); err == nil {
		p := printer{look: w.Style, marks: marks, whole: whole}
		p.value("", "", v, "  ", false)
		fmt.Fprint(out, p.out.String())
		return
	}
	text, rest := string(body), 0
	if len(text) > maxShown && !whole {
		text, rest = text[:maxShown], len(text)-maxShown
	}
	for _, line := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
		fmt.Fprintln(out, "  "+Clean(strings.ToValidUTF8(strings.TrimSuffix(line, "\r"), "\uFFFD")))
	}
	if rest > 0 {
		fmt.Fprintln(out, w.Style.Dim(fmt.Sprintf("  (and %s more bytes)", Number(rest))))
	}
}

// Expected is what status is right, in short.
func Expected(c exchange.Case) string {
	if len(c.Expect.Statuses) == 0 {
		return "2xx"
	}
	var out []string
	if c.Kind == exchange.Flawed && c.Expect.Class.SuccessIsRight() {
		out = append(out, "2xx")
	}
	for _, s := range c.Expect.Statuses {
		out = append(out, strconv.Itoa(s))
	}
	return strings.Join(out, " ")
}

// Describe is a case in a line: its name and why it is wrong.
func Describe(c exchange.Case) string {
	switch {
	case c.Edge != nil:
		return c.Name + ": " + c.Edge.Reason
	case len(c.Flaws) == 1:
		return instance.Shorten(c.Name+": "+c.Flaws[0].Reason, 200)
	}
	return c.Name
}
