package render

import (
	"bufio"
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"net/http"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
	"obiter/internal/results/record"
	"obiter/internal/results/report"
)

// The parts of the page.
var (
	//go:embed page/page.html
	pageHTML string
	//go:embed page/parts.html
	pageParts string
	//go:embed page/page.css
	pageCSS string
	//go:embed page/page.js
	pageJS string
)

// Bounds of the page.
const (
	maxPageRows     = 20_000   // cases that are listed, those that are not right first
	maxPageMessages = 5_000    // messages
	maxPageBytes    = 10 << 20 // of exchanges that are in it
	maxPageBody     = 4 << 10  // of a body in such an exchange
)

// Page is a run as one HTML file that needs nothing else. It is made of what the report
// arranged, and of exchanges that are read once more.
type Page struct {
	run      Run
	entries  []*report.Cause
	examples map[string]record.Result // by case, for the causes
	held     exchanges
	logs     map[string][]string
}

// NewPage begins a page. Add is to be told each exchange of the run then.
func NewPage(r Run) *Page {
	p := &Page{run: r, entries: r.Report.Entries(), examples: map[string]record.Result{}}
	for _, e := range p.entries {
		p.examples[e.Examples[0].Case] = record.Result{}
	}
	p.held = exchanges{index: map[string]int{}, Cases: map[string][]any{}}
	return p
}

// Add takes in an exchange.
func (p *Page) Add(res record.Result) {
	if _, is := p.examples[res.ID]; is {
		res.Parts, res.Control, res.Body = nil, nil, nil
		p.examples[res.ID] = res
	}
	room := maxPageBytes
	if res.Verdict == judge.Pass {
		room = maxPageBytes / 2 // the rest is for those that are not
	}
	if p.held.size < room {
		p.held.add(res, p.run.Head.Headers)
	}
}

// Logs takes in what the service logged of cases.
func (p *Page) Logs(logs map[string][]string) {
	p.logs = logs
	for id, lines := range logs {
		if x, has := p.held.Cases[id]; has {
			p.held.Cases[id] = append(x, p.held.text(visible(strings.Join(lines, "\n"))))
		}
	}
}

// exchanges are requests and answers for the script of the page, each text once.
type exchanges struct {
	Texts []string         `json:"texts"`
	Cases map[string][]any `json:"cases"` // by id: the request line, its headers and its body, the status, the answer's headers and its body as numbers of texts, ms, perhaps the number of what was logged

	index map[string]int
	size  int
}

func (x *exchanges) text(s string) int {
	i, has := x.index[s]
	if !has {
		i = len(x.Texts)
		x.index[s] = i
		x.Texts = append(x.Texts, s)
		x.size += len(s)
	}
	return i
}

func (x *exchanges) body(body []byte) int {
	text, ok := asText(body)
	if ok && len(text) > maxPageBody {
		text = strings.ToValidUTF8(text[:maxPageBody], "") + fmt.Sprintf("\n… (%d bytes in all)", len(body))
	}
	return x.text(visible(text))
}

func (x *exchanges) add(res record.Result, withheld []string) {
	var headers []string
	for _, h := range res.Request.Headers {
		headers = append(headers, h[0]+": "+h[1])
	}
	for _, name := range withheld {
		headers = append(headers, name+": (not kept)")
	}
	for _, c := range res.Credentials {
		headers = append(headers, c.Name+": (not kept)")
	}
	answered := res.Response.Err
	if answered == "" {
		answered = judge.StatusText(res.Response.Status)
	}
	x.Cases[res.ID] = []any{visible(instance.Shorten(res.Request.Method+" "+res.Request.URL, 600)), x.text(visible(strings.Join(headers, "\n"))), x.body(res.Request.Body),
		visible(answered), x.text(visible(joined(res.Response.Header))), x.body(res.Response.Body), float64(res.Response.Took.Microseconds()) / 1000}
	x.size += 200
}

func joined(h http.Header) string {
	var out []string
	for _, l := range headerLines(h) {
		out = append(out, l.Text)
	}
	return strings.Join(out, "\n")
}

// pageFuncs are what templates do to texts.
var pageFuncs = template.FuncMap{
	"visible": visible, "number": func(n int) string { return grouped(n) }, "where": func(in, field string) string { return place(in, field) },
	"join": func(list []string) string { return visible(strings.Join(list, ", ")) }, "fields": fieldNames, "lines": func(list []string) string { return strings.Join(list, "\n") },
	"short": func(n int, s string) string { return visible(instance.Shorten(instance.OneLine(s), n)) }, "showWhere": judge.ShownWhere, "notation": judge.NotationWords,
}

// Write writes the page.
func (p *Page) Write(w io.Writer) error {
	t, err := template.New("page").Funcs(pageFuncs).Parse(pageHTML + pageParts)
	if err != nil {
		return err
	}
	out := bufio.NewWriterSize(w, 64<<10)
	if err := t.Execute(out, p.view()); err != nil {
		return err
	}
	return out.Flush()
}
