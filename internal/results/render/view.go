package render

import (
	"cmp"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"html/template"
	"slices"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
	"obiter/internal/results/record"
	"obiter/internal/results/report"
)

// What the template is given.
type (
	pageView struct {
		Title, Sentence, Incomplete string
		Good                        bool
		Totals                      record.Totals
		Facts                       [][2]string
		Reached, NotReached         int
		Missed                      []missedView
		Substance, Form, Known      []*causeView
		Resources                   []*resourceView
		Marks                       []markView
		Layouts                     []layoutView
		Learned                     *judge.Layout
		Usual                       *layoutView
		Messages                    []messageView
		MoreMessages                int
		Operations                  []operationView
		MoreCases                   int
		Codes, Names                []string
		Data                        *exchanges
		CSS                         template.CSS
		JS                          template.JS
		Policy                      string
	}
	missedView struct{ Operation, Why, Case string }
	causeView  struct {
		*report.Cause
		Number                         int
		Title, Means, Remedy, Sentence string
		Ops, Where                     string // for the filters, a line each
		Example                        *exampleView
		Others                         []report.Example
	}
	exampleView struct {
		ID, Name, Took        string
		Sent, Answered, Right []line
		Findings              []judge.Finding
		Log                   []line
		Like                  string
		Succeeds              bool // a right answer is any success
	}
	markView     struct{ Word, Sign, Class, Means string }
	resourceView struct {
		*report.Resource
		Columns []string // those that have a cell
		Fields  []fieldView
		Whole   []wholeView
	}
	fieldView struct {
		In, Field string
		Rows      []rowView
	}
	rowView struct {
		Operation, Short string
		Cells            []*cellView
	}
	cellView struct {
		markView
		*report.Cell
		Column string
		All    string
	}
	wholeView struct {
		Operation, Short string
		Cells            []*cellView
	}
	layoutView struct {
		*report.Layout
		Lines            []line
		Lacks, More      []string
		Some             string
		Ops, ShownStatus string
	}
	messageView struct {
		report.Message
		Notes []string
		Where string
	}
	operationView struct {
		*report.Line
		ID    string
		Cases []caseView
		Skip  string
	}
	caseView struct {
		Result
		Outcome, Class, Codes, Severity string
	}
)

var markViews = map[report.Mark]markView{
	report.NotKept:   {"not kept", "✗", "no", "a request that breaks the rule was accepted"},
	report.Crash:     {"crash", "‼", "crash", "the service failed, or gave no answer"},
	report.TooStrict: {"too strict", "▲", "strict", "a valid request was refused"},
	report.Mistold:   {"wrongly told", "≠", "told", "rejected, and the answer is not what it should be"},
	report.NotProven: {"unproven", "?", "open", "the operation's valid request was refused, or the answer settles nothing"},
	report.Kept:      {"kept", "✓", "yes", "rejected as it should be"},
	report.NotTried:  {"not tried", "○", "none", "the description has such a rule, and no request broke it"},
}

func (p *Page) view() *pageView {
	r := p.run
	v := &pageView{Title: r.Head.Description, Sentence: r.Sentence(), Incomplete: r.Incomplete, Totals: r.Report.Totals(), Learned: r.Report.Layout, Data: &p.held, CSS: template.CSS(pageCSS), JS: template.JS(pageJS)}
	v.Policy = fmt.Sprintf("default-src 'none'; style-src '%s'; script-src '%s'; base-uri 'none'; form-action 'none'", hashOf(pageCSS), hashOf(pageJS))
	for _, f := range [][2]string{{"Description", r.Head.Description}, {"Service", r.Head.At}, {"Started", r.Head.Started}, {"Depth", r.Head.Depth}, {"Seed", fmt.Sprint(r.Head.Seed)}, {"Options", r.Head.Options}, {"Shard", r.Head.Shard}, {"Obiter", r.Program}} {
		if f[1] != "" {
			v.Facts = append(v.Facts, [2]string{f[0], visible(f[1])})
		}
	}
	for _, m := range report.Marks {
		v.Marks = append(v.Marks, markViews[m])
	}
	p.causes(v)
	p.reached(v)
	p.matrix(v)
	p.layouts(v)
	p.messages(v)
	p.operations(v)
	v.Good = len(v.Substance)+len(v.Form) == 0 && v.Totals.Cases > 0
	return v
}

func hashOf(text string) string {
	sum := sha256.Sum256([]byte(text))
	return "sha256-" + base64.StdEncoding.EncodeToString(sum[:])
}

// grouped is a number with its digits in groups.
func grouped(n int) string {
	text := fmt.Sprint(n)
	for i := len(text) - 3; i > 0 && text[i-1] != '-'; i -= 3 {
		text = text[:i] + "," + text[i:]
	}
	return text
}

// place says in words where a field is.
func place(in, field string) string {
	switch {
	case in == report.Request:
		return "the request as a whole"
	case field == "":
		return "the " + in
	case in == "body":
		return visible(field)
	}
	return in + " " + visible(strings.TrimPrefix(field, "/"))
}

// fieldNames are places in words; a pointer alone is of the body.
func fieldNames(places []string) string {
	var out []string
	for _, p := range places {
		out = append(out, strings.TrimPrefix(p, "body "))
	}
	return visible(strings.Join(out, ", "))
}

func (p *Page) causes(v *pageView) {
	for i, e := range p.entries {
		if !slices.Contains(v.Codes, e.Code) {
			v.Codes = append(v.Codes, e.Code)
		}
		if e.Code == "not-reached" {
			continue
		}
		known, _ := judge.Find(e.Code)
		c := &causeView{Cause: e, Number: i + 1, Title: known.Title, Means: known.Means, Remedy: known.Remedy, Sentence: cmp.Or(e.Summary, e.Examples[0].Message), Ops: strings.Join(e.Operations, "\n"), Where: strings.Join(e.Fields, "\n"), Others: e.Examples[1:]}
		c.Example = p.example(e.Examples[0], e.Form)
		if e.Known {
			v.Known = append(v.Known, c)
		} else if e.Form {
			v.Form = append(v.Form, c)
		} else {
			v.Substance = append(v.Substance, c)
		}
	}
	slices.Sort(v.Codes)
}

// example is a case in full; nil where its exchange is not there.
func (p *Page) example(x report.Example, form bool) *exampleView {
	res := p.examples[x.Case]
	if res.ID == "" {
		return nil
	}
	out := &exampleView{ID: res.ID, Name: visible(res.Name), Sent: sentLines(res, p.run.Head.Headers), Answered: answeredLines(res.Response, res.Findings), Findings: slices.Clone(res.Findings)}
	for i := range out.Findings {
		out.Findings[i].Message = visible(out.Findings[i].Message)
	}
	right := p.run.Report.Right(res.Case, form)
	if out.Succeeds = len(res.Flaws) == 0; !out.Succeeds {
		out.Right, out.Like = rightLines(right), right.Like
	}
	for _, text := range p.logs[res.ID] {
		out.Log = append(out.Log, line{Text: text})
	}
	out.Log = shortened(out.Log)
	if res.Response.Err == "" {
		out.Took = fmt.Sprintf("%.1f ms", float64(res.Response.Took.Microseconds())/1000)
	}
	return out
}

// reached counts what was reached, and lists what was not, with the reason.
func (p *Page) reached(v *pageView) {
	missed := map[string]bool{}
	for _, e := range p.entries {
		if e.Code != "not-reached" {
			continue
		}
		for _, o := range e.Operations {
			missed[o] = true
			v.Missed = append(v.Missed, missedView{o, visible(e.Examples[0].Message), e.Examples[0].Case})
		}
	}
	for _, l := range p.run.Report.Lines {
		switch skip := p.run.Report.Described(l.Operation).Skip; {
		case skip != "":
			v.Missed = append(v.Missed, missedView{l.Operation, "left out: " + visible(instance.Shorten(skip, 400)), ""})
		case !missed[l.Operation] && l.Cases > 0:
			v.Reached++
		}
	}
	v.NotReached = len(v.Missed)
}

func cellOf(c *report.Cell, column string) *cellView {
	if c == nil {
		return nil
	}
	return &cellView{markView: markViews[c.Mark], Cell: c, Column: column, All: strings.Join(c.Shows, " ")}
}

func (p *Page) matrix(v *pageView) {
	for _, res := range p.run.Report.Matrix() {
		out := &resourceView{Resource: res}
		for _, column := range report.Columns {
			if slices.ContainsFunc(res.Rows, func(row *report.Row) bool { return row.In != report.Request && row.Cells[column] != nil }) {
				out.Columns = append(out.Columns, column)
			}
		}
		for _, row := range res.Rows {
			if row.In == report.Request {
				w := wholeView{Operation: row.Operation, Short: within(row.Operation, res.Name)}
				for _, column := range sortedColumns(row) {
					w.Cells = append(w.Cells, cellOf(row.Cells[column], column))
				}
				out.Whole = append(out.Whole, w)
				continue
			}
			if n := len(out.Fields); n == 0 || out.Fields[n-1].In != row.In || out.Fields[n-1].Field != row.Field {
				out.Fields = append(out.Fields, fieldView{In: row.In, Field: row.Field})
			}
			one := rowView{Operation: row.Operation, Short: within(row.Operation, res.Name)}
			for _, column := range out.Columns {
				one.Cells = append(one.Cells, cellOf(row.Cells[column], column))
			}
			last := &out.Fields[len(out.Fields)-1]
			last.Rows = append(last.Rows, one)
		}
		v.Resources = append(v.Resources, out)
	}
}

// within is an operation as it is called inside of its resource: PUT /{vessel_id}.
func within(operation, resource string) string {
	method, path, _ := strings.Cut(operation, " ")
	if rest, ok := strings.CutPrefix(path, resource); ok {
		return visible(strings.TrimSpace(method + " " + rest))
	}
	return visible(operation)
}

func sortedColumns(row *report.Row) []string {
	var out []string
	for column := range row.Cells {
		out = append(out, column)
	}
	slices.SortFunc(out, func(a, b string) int {
		return cmp.Or(cmp.Compare(slices.Index(report.Marks, row.Cells[a].Mark), slices.Index(report.Marks, row.Cells[b].Mark)), strings.Compare(a, b))
	})
	return out
}

func (p *Page) layouts(v *pageView) {
	list := p.run.Report.Layouts()
	var usual *report.Layout
	for _, l := range list {
		if l.Usual {
			usual = l
		}
	}
	for _, l := range list {
		out := layoutView{Layout: l, Ops: strings.Join(l.Operations, "\n"), Some: some(l.Operations, 4), ShownStatus: judge.StatusText(l.Status)}
		out.Lines = bodyLines(l.Body)
		if l.Departs {
			out.Lacks, out.More = without(usual.Members, l.Members), without(l.Members, usual.Members)
			for i := range out.Lines {
				if slices.ContainsFunc(out.More, func(m string) bool { return out.Lines[i].at == instance.Join("", m) }) {
					out.Lines[i].Notes = []string{"not in the usual layout"}
				}
			}
		}
		out.Lines = shortened(out.Lines)
		if l.Usual {
			v.Usual = &out
		}
		v.Layouts = append(v.Layouts, out)
	}
}

func without(list, other []string) []string {
	var out []string
	for _, s := range list {
		if !slices.Contains(other, s) {
			out = append(out, s)
		}
	}
	return out
}

func (p *Page) messages(v *pageView) {
	for i, m := range p.run.Report.Messages() {
		if i == maxPageMessages {
			v.MoreMessages = len(p.run.Report.Messages()) - i
			break
		}
		out := messageView{Message: m, Notes: m.Notes(), Where: place(m.In, m.Field)}
		if m.Ways > 1 {
			out.Notes = append(out.Notes, fmt.Sprintf("one of %d wordings", m.Ways))
		}
		out.Words = visible(instance.Shorten(instance.OneLine(m.Words), 300))
		v.Messages = append(v.Messages, out)
	}
}

var outcomes = map[judge.Verdict][2]string{judge.Pass: {"right", "yes"}, judge.Fail: {"wrong", "no"}, judge.Form: {"wrong in form only", "told"}, judge.Unproven: {"unproven", "open"}}

func (p *Page) operations(v *pageView) {
	byName := map[string]*operationView{}
	for i, l := range p.run.Report.Lines {
		v.Operations = append(v.Operations, operationView{Line: l, ID: fmt.Sprintf("operation-%d", i+1), Skip: visible(p.run.Report.Described(l.Operation).Skip)})
		v.Names = append(v.Names, l.Operation)
	}
	for i := range v.Operations {
		byName[v.Operations[i].Operation] = &v.Operations[i]
	}
	room := maxPageRows
	for _, wrong := range []bool{true, false} {
		for _, res := range p.run.Results {
			if (res.Verdict != judge.Pass || len(res.Findings) > 0) != wrong {
				continue
			}
			if room--; room < 0 {
				v.MoreCases++
				continue
			}
			o := byName[res.Operation]
			c := caseView{Result: res, Outcome: outcomes[res.Verdict][0], Class: outcomes[res.Verdict][1]}
			if res.Verdict != judge.Unproven && res.Known() {
				c.Outcome, c.Class = "known", "open"
			}
			c.Name = visible(instance.Shorten(res.Name, 300))
			var all, severities []string
			for _, f := range res.Findings {
				all, severities = append(all, f.Code), append(severities, string(f.Severity))
			}
			c.Codes, c.Severity = strings.Join(all, " "), strings.Join(severities, " ")
			o.Cases = append(o.Cases, c)
		}
	}
	for i := range v.Operations {
		slices.SortStableFunc(v.Operations[i].Cases, func(a, b caseView) int { return cmp.Compare(a.Number, b.Number) })
	}
}
