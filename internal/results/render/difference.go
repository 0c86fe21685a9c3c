package render

import (
	"bufio"
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
	"obiter/internal/results/compare"
	"obiter/internal/results/record"
)

// Named is a run by the name of its file.
type Named struct {
	Name       string
	Head       record.Head
	Incomplete string
}

func (n Named) String() string {
	out := fmt.Sprintf("%s, %s, at %s, %s", n.Name, n.Head.Description, n.Head.At, n.Head.Started)
	if n.Incomplete != "" {
		out += " (" + n.Incomplete + ")"
	}
	return out
}

// Difference is what is otherwise between two runs.
type Difference struct {
	compare.Difference
	Older, Newer Named
}

// DifferenceMarkdown writes a comment for a change: what is newly wrong first.
func DifferenceMarkdown(w io.Writer, d Difference) error {
	var b strings.Builder
	fmt.Fprintf(&b, markdownBegins+"## %s\n\nolder: %s\nnewer: %s\n", plain(d.Sentence()), plain(d.Older.String()), plain(d.Newer.String()))
	room := maxMarkdown - len([]rune(b.String())) - 200
	var kind compare.Kind
	for i, ch := range d.Changes {
		text := ""
		if ch.Kind != kind {
			kind = ch.Kind
			text = fmt.Sprintf("\n### %s\n", kind.Title())
		}
		text += changeText(ch)
		if room -= len([]rune(text)); room < 0 {
			fmt.Fprintf(&b, "\n%d more do not fit here: `obiter compare --all`.\n", len(d.Changes)-i)
			break
		}
		b.WriteString(text)
	}
	_, err := io.WriteString(w, b.String())
	return err
}

func changeText(ch compare.Change) string {
	var b strings.Builder
	head := ""
	if ch.Code != "" {
		head = code(ch.Code) + " "
	}
	if ch.Family != "" {
		head += "(" + plain(ch.Family) + ") "
	}
	fmt.Fprintf(&b, "\n- %s%s", head, plain(some(ch.Operations, 6)))
	if len(ch.Fields) > 0 {
		fmt.Fprintf(&b, " at %s", plain(some(ch.Fields, 6)))
	}
	fmt.Fprintf(&b, " · %d\n\n  > %s\n", ch.Count, plain(instance.Shorten(instance.OneLine(ch.Says), 500)))
	return b.String()
}

//go:embed page/difference.html
var differenceHTML string

// DifferencePage shows the answers of two runs side by side.
type DifferencePage struct {
	d       Difference
	was, is map[string]record.Result // by case, of those that are wanted
	wanted  map[string]bool
}

// NewDifferencePage begins a page. AddOlder and AddNewer are to be told the exchanges of
// the runs then.
func NewDifferencePage(d Difference) *DifferencePage {
	p := &DifferencePage{d: d, was: map[string]record.Result{}, is: map[string]record.Result{}, wanted: map[string]bool{}}
	for _, ch := range d.Changes {
		if len(ch.Cases) > 0 {
			p.wanted[ch.Cases[0].ID] = true
		}
	}
	return p
}

// AddOlder takes in an exchange of the older run.
func (p *DifferencePage) AddOlder(res record.Result) { p.add(p.was, res) }

// AddNewer takes in an exchange of the newer run.
func (p *DifferencePage) AddNewer(res record.Result) { p.add(p.is, res) }

func (p *DifferencePage) add(to map[string]record.Result, res record.Result) {
	if p.wanted[res.ID] {
		res.Body, res.Control, res.Parts = nil, nil, nil
		to[res.ID] = res
	}
}

type (
	differenceView struct {
		Sentence     string
		Older, Newer string
		Wrong        bool
		Kinds        []kindView
		CSS          template.CSS
		Policy       string
	}
	kindView struct {
		Title   string
		Class   string
		Changes []changeView
	}
	changeView struct {
		compare.Change
		Sent, Was, Is []line
		Took          string
	}
)

// Write writes the page.
func (p *DifferencePage) Write(w io.Writer) error {
	v := differenceView{Sentence: p.d.Sentence(), Older: visible(p.d.Older.String()), Newer: visible(p.d.Newer.String()), Wrong: p.d.Wrong > 0, CSS: template.CSS(pageCSS),
		Policy: fmt.Sprintf("default-src 'none'; style-src '%s'; base-uri 'none'; form-action 'none'", hashOf(pageCSS))}
	classes := map[compare.Kind]string{compare.Wrong: "error", compare.Right: "right", compare.Changed: "warning"}
	for _, kind := range compare.Kinds {
		k := kindView{Title: kind.Title(), Class: classes[kind]}
		for _, ch := range p.d.Changes {
			if ch.Kind == kind {
				k.Changes = append(k.Changes, p.change(ch))
			}
		}
		if len(k.Changes) > 0 {
			v.Kinds = append(v.Kinds, k)
		}
	}
	t, err := template.New("difference").Funcs(pageFuncs).Parse(differenceHTML + pageParts)
	if err != nil {
		return err
	}
	out := bufio.NewWriter(w)
	if err := t.Execute(out, v); err != nil {
		return err
	}
	return out.Flush()
}

func (p *DifferencePage) change(ch compare.Change) changeView {
	out := changeView{Change: ch}
	if len(ch.Cases) == 0 {
		return out
	}
	id := ch.Cases[0].ID
	side := func(in map[string]record.Result) []line {
		res, has := in[id]
		if !has {
			return []line{{Text: "(not in this run)"}}
		}
		if out.Sent == nil {
			out.Sent = sentLines(res, nil)
		}
		var found []judge.Finding
		for _, f := range res.Findings {
			if f.Severity != judge.Note {
				found = append(found, f)
			}
		}
		return answeredLines(res.Response, found)
	}
	out.Is = side(p.is) // the request of the newer run
	out.Was = side(p.was)
	return out
}
