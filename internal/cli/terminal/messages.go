package terminal

import (
	"encoding/csv"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"obiter/internal/core/instance"
	"obiter/internal/input/document"
	"obiter/internal/results/report"
)

func WriteCSV(w io.Writer, list []report.Message) error {
	out := csv.NewWriter(w)
	_ = out.Write([]string{"operation", "in", "field", "rule", "status", "message", "answers", "wordings", "case"})
	for _, m := range list {
		_ = out.Write([]string{cell(m.Operation), m.In, cell(m.Field), cell(m.Rule), strconv.Itoa(m.Status), cell(m.Words), strconv.Itoa(m.Count), strconv.Itoa(max(m.Ways, 1)), m.Case})
	}
	out.Flush()
	return out.Error()
}

// cell is a text that no table calculator takes for a formula.
func cell(text string) string {
	if text = Clean(text); text != "" && strings.ContainsRune("=+-@", rune(text[0])) {
		return "'" + text
	}
	return text
}

// maxWordings is how many wordings of one rule are shown one by one.
const maxWordings = 6

func (w Printer) Messages(list []report.Message) {
	out := w.Out
	if len(list) == 0 {
		fmt.Fprintln(out, "No request with one wrong field was rejected, so there are no messages.")
		return
	}
	for i := 0; i < len(list); {
		from := i
		for i < len(list) && list[i].Operation == list[from].Operation {
			i++
		}
		if from > 0 {
			fmt.Fprintln(out)
		}
		fmt.Fprintln(out, w.Style.Bold(Clean(list[from].Operation)))
		t := NewTable(2)
		for _, m := range list[from:i] {
			words := Clean(instance.Shorten(instance.OneLine(m.Words), 160))
			for _, note := range m.Notes() {
				words = strings.TrimSpace(words + w.Style.In(Yellow, "  ("+note+")"))
			}
			where := Clean(m.Field)
			if m.In != "body" && m.In != "request" {
				where = m.In + " " + strings.TrimPrefix(where, "/")
			} else if where == "" {
				where = "the " + m.In
			}
			t.AppendRow(table.Row{where, Clean(m.Rule), m.Status, words})
		}
		fmt.Fprint(out, Rendered(t, 2))
	}
	w.wordings(list)
}

// wordings lists the rules that are worded in several ways.
func (w Printer) wordings(list []report.Message) {
	out := w.Out
	told := map[string]bool{}
	for _, m := range list {
		if m.Ways < 2 || told[m.Rule] {
			continue
		}
		if len(told) == 0 {
			fmt.Fprintln(out, "\n"+w.Style.Bold("Worded in several ways")+w.Style.Dim(", the field's name, numbers and quoted values put aside"))
		}
		told[m.Rule] = true
		fmt.Fprintf(out, "  %s: %d ways\n", Clean(m.Rule), m.Ways)
		seen := map[string]bool{}
		for _, o := range list {
			if o.Rule != m.Rule {
				continue
			}
			wording := o.Wording()
			if seen[wording] {
				continue
			}
			if seen[wording] = true; len(seen) > maxWordings {
				fmt.Fprintf(out, "    and %d more\n", m.Ways-maxWordings)
				break
			}
			words := "nothing is said"
			if o.Words != "" {
				words = "“" + Clean(instance.Shorten(instance.OneLine(o.Words), 120)) + "”"
			}
			fmt.Fprintln(out, "    "+words+w.Style.Dim("  show "+o.Case))
		}
	}
}

// Contract is the block of obiter.yaml that makes the words of today the ones to keep: by
// field and rule, the text itself, or an expression for a few. What is worded in more
// ways, or not at all, is left open and told.
func Contract(list []report.Message) string {
	type place struct{ field, rule string }
	words := map[place][]string{}
	var order []string // of fields
	rules := map[string][]string{}
	for _, m := range list {
		if m.In == "request" || m.Field == "" {
			continue
		}
		p := place{m.Field, m.Rule}
		if rules[m.Field] == nil {
			order = append(order, m.Field)
		}
		if words[p] == nil {
			rules[m.Field] = append(rules[m.Field], m.Rule)
		}
		if !slices.Contains(words[p], m.Words) {
			words[p] = append(words[p], m.Words)
		}
	}
	var b strings.Builder
	b.WriteString("# What the service says today. A later run tells each message that is another one.\nmessages:\n")
	for _, field := range order {
		fmt.Fprintf(&b, "  %s:\n", document.Scalar(field))
		for _, rule := range rules[field] {
			said := words[place{field, rule}]
			switch {
			case len(said) > maxWordings:
				fmt.Fprintf(&b, "    # %s: worded in %d ways\n", document.Comment(rule), len(said))
			case slices.Contains(said, ""):
				fmt.Fprintf(&b, "    # %s: nothing is said\n", document.Comment(rule))
			case len(said) == 1 && !strings.HasPrefix(said[0], "/") && !strings.HasSuffix(said[0], "..."):
				fmt.Fprintf(&b, "    %s: %s\n", document.Scalar(rule), document.Scalar(said[0]))
			default:
				var either []string
				for _, s := range said {
					whole := strings.TrimSuffix(s, "...")
					if either = append(either, regexp.QuoteMeta(whole)); whole != s {
						either[len(either)-1] += ".*"
					}
				}
				fmt.Fprintf(&b, "    %s: %s\n", document.Scalar(rule), document.Scalar("/(?s)^(?:"+strings.Join(either, "|")+")$/"))
			}
		}
	}
	return b.String()
}
