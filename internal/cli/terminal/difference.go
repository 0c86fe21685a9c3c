package terminal

import (
	"fmt"

	"obiter/internal/core/instance"
	"obiter/internal/results/compare"
)

// changesShown bounds the changes that are printed.
const changesShown = 20

// Difference prints what is otherwise, the most serious first.
func (w Printer) Difference(d compare.Difference, all bool) {
	out := w.Out
	colour := Green
	if d.Wrong > 0 {
		colour = Red
	}
	fmt.Fprintln(out, w.Style.In(colour, d.Sentence())+".")
	var kind compare.Kind
	for i, ch := range d.Changes {
		if i == changesShown && !all {
			fmt.Fprintf(out, "\nThese are the gravest %d; %d more: --all\n", i, len(d.Changes)-i)
			break
		}
		if ch.Kind != kind {
			kind = ch.Kind
			fmt.Fprintln(out, "\n"+w.Style.Bold(kind.Title()))
		}
		w.change(ch)
	}
}

func (w Printer) change(ch compare.Change) {
	out := w.Out
	head := ch.Code
	if head == "" {
		head = "in the answer"
		if ch.Kind == compare.Gone || ch.Kind == compare.Fresh {
			head = "cases"
		}
	}
	if ch.Family != "" {
		head += " (" + ch.Family + ")"
	}
	colour := map[compare.Kind]string{compare.Wrong: Red, compare.Right: Green}[ch.Kind]
	if colour != "" {
		head = w.Style.In(colour, head)
	}
	fmt.Fprintln(out, "\n  "+head+w.Style.Dim(" · "+Plural(ch.Count, "case")))
	fmt.Fprintln(out, w.Style.Wrap(Clean(JoinMax(ch.Operations, 6)), 4))
	if len(ch.Fields) > 0 {
		fmt.Fprintln(out, w.Style.Wrap(Clean(JoinMax(ch.Fields, 12)), 4))
	}
	fmt.Fprintln(out, w.Style.Wrap(Clean(instance.Shorten(instance.OneLine(ch.Says), 600)), 4))
	text := "show"
	for i, x := range ch.Cases {
		if i == 3 {
			break
		}
		text += " " + x.ID
	}
	fmt.Fprintln(out, w.Style.Dim("    "+text))
}
