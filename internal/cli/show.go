package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/urfave/cli/v3"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
	"obiter/internal/execute/session"
	"obiter/internal/results/record"
)

func (a *app) showCommand() *cli.Command {
	return &cli.Command{
		Name:      "show",
		Usage:     "one case in full: sent, answered, why it falls short, and a curl line",
		ArgsUsage: "CASE",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "run", Usage: "the run `FILE` to look in (default: the last run)"},
			&cli.BoolFlag{Name: "whole", Usage: "print long values whole"},
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Len() != 1 {
				return usage("show takes one case id", "obiter try prints the ids; for example: obiter show 0123abcdef")
			}
			controls := map[string]string{}
			head, res, log, err := find(cmp.Or(c.String("run"), store.Last()), strings.ToLower(c.Args().First()), controls)
			if err != nil {
				return err
			}
			a.show(head, res, log, controls, c.Bool("whole"))
			return nil
		},
	}
}

// find looks a case up in a run file: by its id, or the beginning of one. It collects
// the ids of valid requests that were accepted, by operation, and gives what the service logged.
func find(name, id string, controls map[string]string) (record.Head, record.Result, []string, error) {
	var none record.Result
	f, r, err := session.OpenOne(name)
	if err != nil {
		return record.Head{}, none, nil, err
	}
	defer f.Close()
	var found []record.Result
	var exact *record.Result
	for res, err := range r.Results() {
		if err != nil {
			return r.Head, none, nil, fmt.Errorf("%s: %w", name, err)
		}
		if res.ID == id {
			exact = &res
		}
		if res.Kind == exchange.Control && res.Response.Success() && controls[res.Operation] == "" {
			controls[res.Operation] = res.ID
		}
		if len(id) >= 3 && strings.HasPrefix(res.ID, id) && len(found) < 8 {
			found = append(found, res)
		}
	}
	if exact != nil { // read to the end, where the findings of the whole run are
		return r.Head, withRunFindings(*exact, r), r.Logs[exact.ID], nil
	}
	switch len(found) {
	case 1:
		return r.Head, withRunFindings(found[0], r), r.Logs[found[0].ID], nil
	case 0:
		return r.Head, none, nil, usage(fmt.Sprintf("%s has no case %q", name, id), "obiter try prints the ids of what it found; obiter cases lists all")
	}
	var ids []string
	for _, res := range found {
		ids = append(ids, res.ID)
	}
	return r.Head, none, nil, usage(fmt.Sprintf("%q is the beginning of several cases", id), "which one: "+strings.Join(ids, ", "))
}

// withRunFindings adds what the whole run shows of a case.
func withRunFindings(res record.Result, r *record.Reader) record.Result {
	res.Findings = append(res.Findings, r.RunFindings[res.ID]...)
	return res
}

func (a *app) show(head record.Head, res record.Result, log []string, controls map[string]string, whole bool) {
	out := a.streams.Out
	fmt.Fprintln(out, a.style.bold(res.ID)+"  "+clean(res.Operation)+"  "+clean(res.Name))
	a.about(out, res, cmp.Or(head.Layout.OwnMediaType(), "a problem document"))

	fmt.Fprintln(out, "\n"+a.style.bold("Sent"))
	wrong := parameterMarks(res.Case)
	fmt.Fprintln(out, "  "+clean(a.folded(res.Request.Method+" "+res.Request.URL, whole)))
	for _, mark := range wrong[""] {
		fmt.Fprintln(out, a.style.in(codeYellow, "    # "+clean(mark)))
	}
	for _, h := range res.Request.Headers {
		line := "  " + clean(a.folded(h[0]+": "+h[1], whole))
		if mark := wrong[strings.ToLower(h[0])]; mark != nil {
			line = a.style.in(codeYellow, line+"   # "+clean(strings.Join(mark, "; ")))
			delete(wrong, strings.ToLower(h[0]))
		}
		fmt.Fprintln(out, line)
	}
	delete(wrong, "")
	for _, name := range slices.Sorted(maps.Keys(wrong)) { // what is left out
		fmt.Fprintln(out, a.style.in(codeYellow, "  # "+clean(strings.Join(wrong[name], "; "))))
	}
	for _, name := range head.Headers {
		fmt.Fprintln(out, "  "+clean(name)+": "+a.style.dim("(not kept)"))
	}
	for _, c := range res.Credentials {
		fmt.Fprintln(out, "  "+clean(c.Name)+": "+a.style.dim("("+credentialWords(c)+")"))
	}
	fmt.Fprintln(out, "  Obiter-Case: "+res.ID)
	a.body(res.Request.Body, marks(res.Case), whole)

	fmt.Fprintln(out, "\n"+a.style.bold("Answered")+a.style.dim(fmt.Sprintf(" after %.1f ms", float64(res.Response.Took.Microseconds())/1000)))
	a.answer(res.Response, whole)

	if len(log) > 0 {
		fmt.Fprintln(out, "\n"+a.style.bold("Logged"))
	}
	for _, line := range log {
		fmt.Fprintln(out, "  "+clean(a.folded(line, whole)))
	}
	if len(res.Findings) > 0 {
		fmt.Fprintln(out, "\n"+a.style.bold("Findings"))
	}
	for _, f := range res.Findings {
		fmt.Fprintln(out, "  "+a.style.severity(f.Severity, string(f.Severity)+" "+f.Code))
		fmt.Fprintln(out, a.style.wrap(clean(f.Message), 4))
		if known, ok := judge.Find(f.Code); ok && f.Cites != "" {
			fmt.Fprintln(out, a.style.dim(a.style.wrap(known.Title+" ("+f.Cites+")", 4)))
		}
	}
	fmt.Fprintln(out, "\n"+a.style.bold("Reproduce"))
	line := curl(res.Case, head)
	fmt.Fprintln(out, "  "+line)
	for _, name := range variablesOf(credentialsIn(res.Case, head)) {
		if by := head.Kept[name]; by != "" {
			fmt.Fprintln(out, a.style.dim("  # $"+clean(name)+" is in the answer to "+clean(by)+howToResend(controls, by)))
		}
	}
	for _, by := range res.MadeBy {
		fmt.Fprintln(out, a.style.dim("  # its record of "+clean(by)+" is taken away: make one"+howToResend(controls, by)+", and name that instead"))
	}
}

// credentialsIn is what of a curl line is not kept.
func credentialsIn(c exchange.Case, head record.Head) string {
	c.Request = exchange.Request{}
	c.ID = ""
	return curl(c, head)
}

// howToResend says how a request of an operation is sent howToResend.
func howToResend(controls map[string]string, operation string) string {
	if id := controls[operation]; id != "" {
		return " (obiter show " + id + ")"
	}
	return ""
}

// folded is a line of a request, cut where it is long.
func (a *app) folded(line string, whole bool) string {
	const longest = 400
	if n := utf8.RuneCountInString(line); n > longest && !whole {
		return string([]rune(line)[:longest]) + fmt.Sprintf("… (%s characters)", number(n))
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
func (a *app) about(out io.Writer, res record.Result, form string) {
	for i, f := range res.Flaws {
		if i == 12 && len(res.Flaws) > 13 {
			fmt.Fprintf(out, "           and %d more\n", len(res.Flaws)-i)
			break
		}
		where := f.Where()
		if f.In == "request" {
			where = f.Rule
		}
		fmt.Fprintln(out, "flaw       "+clean(where+": "+f.Reason))
	}
	if res.Edge != nil {
		fmt.Fprintln(out, "edge       "+clean(res.Edge.Where()+": "+res.Edge.Reason))
	}
	want := "any 2xx"
	if s := expected(res.Case); s != "2xx" {
		want = strings.ReplaceAll(s, " ", " or ") + ", as " + form
		if len(res.Flaws) > 0 && res.Flaws[0].In != "request" && res.Flaws[0].Pointer != "" {
			want += " that names the field"
		}
	}
	if res.Expect.Says != "" {
		want += ", with a message that matches " + clean(res.Expect.Says)
	}
	fmt.Fprintln(out, "expected   "+want)
	if len(res.MayBlame) > 0 {
		fmt.Fprintln(out, "also       "+clean(strings.Join(res.MayBlame, ", "))+" may be blamed, for a rule of the configuration")
	}
	verdict := a.verdict(res.Verdict)
	if res.Verdict == judge.Unproven && !slices.ContainsFunc(res.Findings, func(f judge.Finding) bool {
		return judge.Has(f.Code, judge.Unproves) || judge.Has(f.Code, judge.Answers)
	}) {
		verdict += ": the operation's control was refused, so a rejection proves nothing"
	}
	fmt.Fprintln(out, "verdict    "+verdict)
}

// verdict says a verdict as the totals do.
func (a *app) verdict(v judge.Verdict) string {
	switch v {
	case judge.Pass:
		return a.style.in(codeGreen, "right")
	case judge.Fail:
		return a.style.in(codeRed, "wrong")
	case judge.Form:
		return a.style.in(codeYellow, "wrong in form only")
	}
	return a.style.in(codeYellow, string(v))
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

func (a *app) answer(r exchange.Answer, whole bool) {
	out := a.streams.Out
	if r.Err != "" {
		fmt.Fprintln(out, "  "+a.style.in(codeRed, clean(r.Err)))
		if r.Status == 0 {
			return
		}
	}
	fmt.Fprintln(out, "  "+a.style.bold(judge.StatusText(r.Status)))
	for _, name := range slices.Sorted(maps.Keys(r.Header)) {
		for _, v := range r.Header[name] {
			fmt.Fprintln(out, "  "+clean(name+": "+v))
		}
	}
	a.body(r.Body, nil, whole)
	if r.Truncated {
		fmt.Fprintln(out, a.style.dim("  (the answer is longer; this much of it is read)"))
	}
}

// maxShown is how much of a text that is no JSON is printed, in bytes.
const maxShown = 8 << 10

// body prints JSON indented with its marks, and anything else as it is.
func (a *app) body(body []byte, marks map[string]string, whole bool) {
	out := a.streams.Out
	if len(body) == 0 {
		fmt.Fprintln(out, "\n  "+a.style.dim("(no body)"))
		return
	}
	fmt.Fprintln(out)
	if v, err := instance.Decode(body); err == nil {
		p := printer{look: a.style, marks: marks, whole: whole}
		p.value("", "", v, "  ", false)
		fmt.Fprint(out, p.out.String())
		return
	}
	text, rest := string(body), 0
	if len(text) > maxShown && !whole {
		text, rest = text[:maxShown], len(text)-maxShown
	}
	for _, line := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
		fmt.Fprintln(out, "  "+clean(strings.ToValidUTF8(strings.TrimSuffix(line, "\r"), "\uFFFD")))
	}
	if rest > 0 {
		fmt.Fprintln(out, a.style.dim(fmt.Sprintf("  (and %s more bytes)", number(rest))))
	}
}
