package cli

import (
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/urfave/cli/v3"

	"obiter/internal/core/instance"
	"obiter/internal/input/document"
	"obiter/internal/results/render"
	"obiter/internal/results/report"
)

func (a *app) messagesCommand() *cli.Command {
	return &cli.Command{
		Name:      "messages",
		Usage:     "what the service says of each field and rule, one line each",
		ArgsUsage: "[RUN...]",
		Description: "Reads a run file, the last run's where none is named, and lists the words of each rejection of one\n" +
			"wrong field. What stands out: the same rule in several wordings, nothing said, and a limit that is not\n" +
			"named. --as-config prints the words as a block for obiter.yaml, with which a later run tells each change.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "format", Value: "text", Usage: "text, csv or json"},
			&cli.BoolFlag{Name: "as-config", Usage: "print the messages as messages: in obiter.yaml"},
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if err := oneOf("--format", c.String("format"), "text", "csv", "json"); err != nil {
				return err
			}
			if c.Bool("as-config") && c.IsSet("format") {
				return usage("--as-config goes without --format", "it prints YAML")
			}
			return a.messages(runsNamed(c), c.String("format"), c.Bool("as-config"))
		},
	}
}

func (a *app) messages(names []string, format string, asConfig bool) error {
	r, err := a.session().Open(names...)
	if err != nil {
		return err
	}
	defer r.Close()
	rep, err := r.Judge(nil, nil)
	if err != nil {
		return err
	}
	a.warnOf(r)
	list := rep.Messages()
	switch {
	case asConfig:
		fmt.Fprint(a.streams.Out, contract(list))
	case format == "json":
		return render.JSON(a.streams.Out, struct {
			Obiter   int              `json:"obiter"`
			Messages []report.Message `json:"messages"`
		}{1, append([]report.Message{}, list...)})
	case format == "csv":
		return writeCSV(a.streams.Out, list)
	default:
		a.listMessages(list)
	}
	return nil
}

func writeCSV(w io.Writer, list []report.Message) error {
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
	if text = clean(text); text != "" && strings.ContainsRune("=+-@", rune(text[0])) {
		return "'" + text
	}
	return text
}

// maxWordings is how many wordings of one rule are shown one by one.
const maxWordings = 6

func (a *app) listMessages(list []report.Message) {
	out := a.streams.Out
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
		fmt.Fprintln(out, a.style.bold(clean(list[from].Operation)))
		t := newTable(2)
		for _, m := range list[from:i] {
			words := clean(instance.Shorten(instance.OneLine(m.Words), 160))
			for _, note := range m.Notes() {
				words = strings.TrimSpace(words + a.style.in(codeYellow, "  ("+note+")"))
			}
			where := clean(m.Field)
			if m.In != "body" && m.In != "request" {
				where = m.In + " " + strings.TrimPrefix(where, "/")
			} else if where == "" {
				where = "the " + m.In
			}
			t.AppendRow(table.Row{where, clean(m.Rule), m.Status, words})
		}
		fmt.Fprint(out, rendered(t, 2))
	}
	a.wordings(list)
}

// wordings lists the rules that are worded in several ways.
func (a *app) wordings(list []report.Message) {
	out := a.streams.Out
	told := map[string]bool{}
	for _, m := range list {
		if m.Ways < 2 || told[m.Rule] {
			continue
		}
		if len(told) == 0 {
			fmt.Fprintln(out, "\n"+a.style.bold("Worded in several ways")+a.style.dim(", the field's name, numbers and quoted values put aside"))
		}
		told[m.Rule] = true
		fmt.Fprintf(out, "  %s: %d ways\n", clean(m.Rule), m.Ways)
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
				words = "“" + clean(instance.Shorten(instance.OneLine(o.Words), 120)) + "”"
			}
			fmt.Fprintln(out, "    "+words+a.style.dim("  show "+o.Case))
		}
	}
}

// contract is the block of obiter.yaml that makes the words of today the ones to keep: by
// field and rule, the text itself, or an expression for a few. What is worded in more
// ways, or not at all, is left open and told.
func contract(list []report.Message) string {
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
