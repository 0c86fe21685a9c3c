package render

import (
	"fmt"
	"io"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
	"obiter/internal/input/config"
	"obiter/internal/results/report"
)

// maxMarkdown is what fits a comment on a change, in characters: 65,536 are taken.
const maxMarkdown = 60_000

// markdownBegins is what a comment begins with, so that it is known by whom it was written.
const markdownBegins = "<!-- Obiter -->\n"

// Markdown writes a comment for a change: the sentence, the causes in full, the most serious
// first, and the operations folded away. What does not fit is counted.
func Markdown(w io.Writer, r Run) error {
	var b strings.Builder
	b.WriteString(markdownBegins)
	toFix, others := 0, 0
	known := 0
	for _, e := range r.Report.Entries() {
		if e.Known {
			known++
		} else if e.Severity == judge.Error {
			toFix++
		} else {
			others++
		}
	}
	switch toFix {
	case 0:
		b.WriteString("## Nothing to fix\n\n")
	case 1:
		b.WriteString("## 1 cause to fix\n\n")
	default:
		fmt.Fprintf(&b, "## %d causes to fix\n\n", toFix)
	}
	if r.Incomplete != "" {
		fmt.Fprintf(&b, "**Not complete: %s.**\n\n", plain(r.Incomplete))
	}
	fmt.Fprintf(&b, "%s %s, at %s, %s.\n", plain(r.Sentence()), plain(r.Head.Description), plain(r.Head.At), plain(r.Head.Started))
	operations := operationTable(r.Report)
	room := maxMarkdown - len([]rune(b.String())) - len([]rune(operations)) - 200
	shown := 0
	entries := r.Report.Entries()
	entries = entries[:len(entries)-known] // which come last
	for i, e := range entries {
		text := causeText(i+1, e)
		if room -= len([]rune(text)); room < 0 {
			break
		}
		b.WriteString(text)
		shown++
	}
	if more := len(entries) - shown; more > 0 {
		fmt.Fprintf(&b, "\n%d more do not fit here: `obiter judge --all`.\n", more)
	}
	if known > 0 {
		fmt.Fprintf(&b, "\n%d known: see %s.\n", known, code(config.KnownFile))
	}
	b.WriteString(operations)
	_, err := io.WriteString(w, b.String())
	return err
}

// causeText is a cause: what and where, in the service's terms, and how to put it right.
func causeText(n int, e *report.Cause) string {
	var b strings.Builder
	family := ""
	if e.Family != "" {
		family = " (" + e.Family + ")"
	}
	answers := "1 answer"
	if e.Count > 1 {
		answers = fmt.Sprintf("%d answers", e.Count)
	}
	fmt.Fprintf(&b, "\n### %d. %s %s %s\n\n", n, e.Severity, code(e.Code), plain(family+where(e)))
	fmt.Fprintf(&b, "%s · %s\n\n", plain(some(e.Operations, 6)), answers)
	if e.Summary != "" {
		fmt.Fprintf(&b, "%s\n\n", plain(e.Summary))
	}
	fmt.Fprintf(&b, "> %s\n\n", plain(instance.Shorten(instance.OneLine(e.Examples[0].Message), 600)))
	if known, ok := judge.Find(e.Code); ok && e.Severity != judge.Note {
		fmt.Fprintf(&b, "%s", plain(known.Remedy))
		if e.Cites != "" {
			fmt.Fprintf(&b, " (%s)", plain(e.Cites))
		}
		b.WriteString("\n\n")
	}
	var ids []string
	for _, x := range e.Examples {
		ids = append(ids, code("obiter show "+x.Case))
	}
	fmt.Fprintf(&b, "%s\n", strings.Join(ids[:min(len(ids), 3)], ", "))
	return b.String()
}

// maxRows bounds the operations that are listed.
const maxRows = 200

// operationTable is the table of operations, folded.
func operationTable(rep *report.Report) string {
	var b strings.Builder
	b.WriteString("\n<details><summary>Operations</summary>\n\n| | cases | right | wrong | in form only | unproven |\n|---|--:|--:|--:|--:|--:|\n")
	for _, l := range rep.Lines[:min(len(rep.Lines), maxRows)] {
		fmt.Fprintf(&b, "| %s | %d | %d | %d | %d | %d |\n", plain(instance.Shorten(l.Operation, 100)), l.Cases, l.Passed, l.Failed, l.Form, l.Unproven)
	}
	if more := len(rep.Lines) - maxRows; more > 0 {
		fmt.Fprintf(&b, "| and %d more | | | | | |\n", more)
	}
	b.WriteString("\n</details>\n")
	return b.String()
}

// some is a list with its end counted.
func some(list []string, n int) string {
	if len(list) <= n {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:n], ", "), len(list)-n)
}

// plain is a text in which nothing is markup: no link, no image, no HTML, nobody is called.
func plain(text string) string {
	var b strings.Builder
	for i, r := range visible(instance.OneLine(text)) {
		switch {
		case i == 0 && strings.ContainsRune("#-+=", r): // which begin something on a line
			b.WriteByte('\\')
			b.WriteRune(r)
		case r == '<':
			b.WriteString("&lt;")
		case r == '>':
			b.WriteString("&gt;")
		case r == '&':
			b.WriteString("&amp;")
		case r == '@':
			b.WriteString("&#64;")
		case strings.ContainsRune("\\`*_[]|~$", r):
			b.WriteByte('\\')
			b.WriteRune(r)
		default:
			b.WriteRune(r)
		}
	}
	return links.Replace(b.String())
}

// links breaks what is made a link of without markup.
var links = strings.NewReplacer("://", "&#58;//", "www.", "www&#46;", "WWW.", "WWW&#46;")

// code is a text of ours as it is written.
func code(text string) string { return "`" + text + "`" }
