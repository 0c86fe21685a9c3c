package render

import (
	"bufio"
	_ "embed"
	"fmt"
	"html/template"
	"io"
)

// Probed is what probing found out of a service.
type Probed struct {
	At          string
	Description string // that it was held against; empty: none
	When        string
	Operations  []ProbedOperation
}

// ProbedOperation is one operation, or why it was not probed.
type ProbedOperation struct {
	Name             string
	Why              string // not; empty: it was
	Doubt            string // why it was not probed to the end; empty: it was
	Requests, Fields int
	Lines            []ProbedLine
}

// ProbedLine is what is enforced at a field, in words, and what the description has
// otherwise.
type ProbedLine struct {
	Field, Says               string
	NotEnforced, NotDescribed []string
}

// Sentence is what was found in a sentence.
func (p Probed) Sentence() string {
	fields, differ := 0, 0
	for _, o := range p.Operations {
		fields += o.Fields
		for _, l := range o.Lines {
			if len(l.NotEnforced)+len(l.NotDescribed) > 0 {
				differ++
			}
		}
	}
	text := fmt.Sprintf("%s fields of %s operations were probed", grouped(fields), grouped(len(p.Operations)))
	if p.Description == "" {
		return text
	}
	if differ == 0 {
		return text + "; the service enforces what is described"
	}
	return fmt.Sprintf("%s; at %s the service and the description differ", text, grouped(differ))
}

//go:embed page/probed.html
var probedHTML string

// ProbedPage writes a page that needs nothing else.
func ProbedPage(w io.Writer, p Probed) error {
	for i, o := range p.Operations {
		p.Operations[i].Name, p.Operations[i].Why, p.Operations[i].Doubt = visible(o.Name), visible(o.Why), visible(o.Doubt)
		for k, l := range o.Lines {
			o.Lines[k].Field, o.Lines[k].Says = visible(l.Field), visible(l.Says)
		}
	}
	t, err := template.New("probed").Funcs(pageFuncs).Parse(probedHTML + pageParts)
	if err != nil {
		return err
	}
	out := bufio.NewWriter(w)
	if err := t.Execute(out, struct {
		Probed
		CSS    template.CSS
		Policy string
	}{p, template.CSS(pageCSS), fmt.Sprintf("default-src 'none'; style-src '%s'; base-uri 'none'; form-action 'none'", hashOf(pageCSS))}); err != nil {
		return err
	}
	return out.Flush()
}
