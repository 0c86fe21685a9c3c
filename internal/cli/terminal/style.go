package terminal

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

// Style is how text looks: with or without colour, and how wide it is.
type Style struct {
	Colour bool
	Width  int // 0: not a terminal, lines are left whole
}

// NewStyle decides about colour once; false for an unknown wish.
func NewStyle(wish string, w io.Writer) (Style, bool) {
	s := Style{}
	terminal := IsTerminal(w)
	if f, ok := w.(*os.File); ok && terminal {
		if width, _, err := term.GetSize(int(f.Fd())); err == nil {
			s.Width = max(width, 40)
		}
	}
	switch wish {
	case "always":
		s.Colour = true
	case "never":
	case "auto":
		s.Colour = terminal && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
	default:
		return s, false
	}
	return s, true
}

func IsTerminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

const (
	Bold   = "\x1b[1m"
	Dim    = "\x1b[2m"
	Red    = "\x1b[1;31m"
	Green  = "\x1b[32m"
	Yellow = "\x1b[1;33m"
	Cyan   = "\x1b[36m"
	Reset  = "\x1b[0m"
)

func (s Style) In(code, text string) string {
	if !s.Colour || text == "" {
		return text
	}
	return code + text + Reset
}

func (s Style) Bold(t string) string { return s.In(Bold, t) }
func (s Style) Dim(t string) string  { return s.In(Dim, t) }

func (s Style) Severity(sev judge.Severity, t string) string {
	switch sev {
	case judge.Error:
		return s.In(Red, t)
	case judge.Warning:
		return s.In(Yellow, t)
	}
	return s.In(Cyan, t)
}

// wrap breaks a text into lines that fit the terminal, each indented.
func (s Style) Wrap(t string, indent int) string {
	pad := strings.Repeat(" ", indent)
	if s.Width == 0 {
		return pad + t
	}
	var out []string
	for _, line := range strings.Split(text.WrapSoft(t, max(s.Width-indent, 24)), "\n") {
		out = append(out, pad+strings.TrimRight(line, " "))
	}
	return strings.Join(out, "\n")
}

// NewTable is a table without lines; numbers to the right in the given columns.
func NewTable(indent int, right ...int) table.Writer {
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

// Rendered is the table's lines, indented, without trailing spaces.
func Rendered(t table.Writer, indent int) string {
	var b strings.Builder
	for _, line := range strings.Split(t.Render(), "\n") {
		b.WriteString(strings.TrimRight(strings.Repeat(" ", indent)+line, " ") + "\n")
	}
	return b.String()
}

// Clean escapes what could steer a terminal: control characters, and the
// invisible ones that turn the direction of writing.
func Clean(s string) string {
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

// Plural is "1 case" or "3 cases", with thousands apart.
func Plural(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	if strings.HasSuffix(one, "y") {
		return Number(n) + " " + strings.TrimSuffix(one, "y") + "ies"
	}
	return Number(n) + " " + one + "s"
}

func Number(n int) string {
	s := strconv.Itoa(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}
