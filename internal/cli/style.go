package cli

import (
	"io"
	"os"
	"strconv"
	"strings"
	"unicode"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"

	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
)

// style is how text looks: with or without colour, and how wide it is.
type style struct {
	colour bool
	width  int // 0: not a terminal, lines are left whole
}

// newStyle decides about colour once; false for an unknown wish.
func newStyle(wish string, w io.Writer) (style, bool) {
	s := style{}
	terminal := isTerminal(w)
	if f, ok := w.(*os.File); ok && terminal {
		if width, _, err := term.GetSize(int(f.Fd())); err == nil {
			s.width = max(width, 40)
		}
	}
	switch wish {
	case "always":
		s.colour = true
	case "never":
	case "auto":
		s.colour = terminal && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
	default:
		return s, false
	}
	return s, true
}

func isTerminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

const (
	codeBold   = "\x1b[1m"
	codeDim    = "\x1b[2m"
	codeRed    = "\x1b[1;31m"
	codeGreen  = "\x1b[32m"
	codeYellow = "\x1b[1;33m"
	codeCyan   = "\x1b[36m"
	codeReset  = "\x1b[0m"
)

func (s style) in(code, text string) string {
	if !s.colour || text == "" {
		return text
	}
	return code + text + codeReset
}

func (s style) bold(t string) string { return s.in(codeBold, t) }
func (s style) dim(t string) string  { return s.in(codeDim, t) }

func (s style) severity(sev judge.Severity, t string) string {
	switch sev {
	case judge.Error:
		return s.in(codeRed, t)
	case judge.Warning:
		return s.in(codeYellow, t)
	}
	return s.in(codeCyan, t)
}

// wrap breaks a text into lines that fit the terminal, each indented.
func (s style) wrap(t string, indent int) string {
	pad := strings.Repeat(" ", indent)
	if s.width == 0 {
		return pad + t
	}
	var out []string
	for _, line := range strings.Split(text.WrapSoft(t, max(s.width-indent, 24)), "\n") {
		out = append(out, pad+strings.TrimRight(line, " "))
	}
	return strings.Join(out, "\n")
}

// newTable is a table without lines; numbers to the right in the given columns.
func newTable(indent int, right ...int) table.Writer {
	t := table.NewWriter()
	st := table.StyleDefault
	st.Options = table.Options{}
	st.Box.PaddingLeft, st.Box.PaddingRight = "", "  "
	st.Format.Header = text.FormatDefault
	st.Box.Left = strings.Repeat(" ", indent)
	t.SetStyle(st)
	var columns []table.ColumnConfig
	for _, n := range right {
		columns = append(columns, table.ColumnConfig{Number: n, Align: text.AlignRight, AlignHeader: text.AlignRight})
	}
	t.SetColumnConfigs(columns)
	return t
}

// rendered is the table's lines, indented, without trailing spaces.
func rendered(t table.Writer, indent int) string {
	var b strings.Builder
	for _, line := range strings.Split(t.Render(), "\n") {
		b.WriteString(strings.TrimRight(strings.Repeat(" ", indent)+line, " ") + "\n")
	}
	return b.String()
}

// clean escapes what could steer a terminal: control characters, and the
// invisible ones that turn the direction of writing.
func clean(s string) string {
	plain := func(r rune) bool {
		return r != unicode.ReplacementChar && !instance.Unseen(r)
	}
	if !strings.ContainsFunc(s, func(r rune) bool { return !plain(r) }) {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if plain(r) {
			b.WriteRune(r)
			continue
		}
		q := strconv.QuoteRuneToASCII(r)
		b.WriteString(q[1 : len(q)-1])
	}
	return b.String()
}

// plural is "1 case" or "3 cases", with thousands apart.
func plural(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	if strings.HasSuffix(one, "y") {
		return number(n) + " " + strings.TrimSuffix(one, "y") + "ies"
	}
	return number(n) + " " + one + "s"
}

func number(n int) string {
	s := strconv.Itoa(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}
