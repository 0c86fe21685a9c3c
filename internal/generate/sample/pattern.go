package sample

import (
	"errors"
	"math/rand/v2"
	"regexp"
	"regexp/syntax"
	"slices"
	"strings"
	"unicode/utf8"

	"obiter/internal/input/schema"
)

var (
	lookAround = regexp.MustCompile(`\(\?(=|!|<=|<!)`)
	unicodeHex = regexp.MustCompile(`\\u\{?([0-9a-fA-F]{4,6})\}?`)
)

// maxGenerated bounds what a pattern may generate, in code points.
const maxGenerated = 4096

// matching generates texts from a pattern, of a length between least and most
// where that is possible. Look-around is left out of the generating and left to
// the caller's check, which is why there are several tries.
func matching(source string, least, most int, rng *rand.Rand) []string {
	re, err := parsed(withoutLookAround(source))
	if err != nil {
		return nil
	}
	ahead, enough := lookAheads(source), 12
	if lookAround.MatchString(source) { // many of them will not do
		enough = 48
	}
	var out []string
	for _, more := range growth(least, most) {
		g := generator{rng: rng, more: more}
		g.write(re)
		if !g.failed && len(ahead) > 0 {
			out = append(out, overlaid(g.out.String(), ahead, least, most, rng)...)
		}
		if n := utf8.RuneCountInString(g.out.String()); !g.failed && n >= least && n <= most {
			out = append(out, g.out.String())
		}
		// Where the pattern leaves the ends open, padding gives a length it does not.
		if n := utf8.RuneCountInString(g.out.String()); !g.failed && n < least && !strings.HasSuffix(source, "$") {
			out = append(out, g.out.String()+strings.Repeat("a", least-n))
		}
		if len(out) >= enough {
			break
		}
	}
	return out
}

// parsed is a pattern without look-around as Go reads it.
func parsed(source string) (*syntax.Regexp, error) {
	return syntax.Parse(unicodeHex.ReplaceAllString(schema.ShortCategories(source), `\x{$1}`), syntax.Perl|syntax.UnicodeGroups)
}

// lookAheads are what a pattern's positive look-aheads look for, as (?=.*[A-Z]) for a
// capital letter: without what they allow before it.
func lookAheads(source string) []*syntax.Regexp {
	var out []*syntax.Regexp
	for _, at := range lookAround.FindAllStringIndex(source, -1) {
		end := closing(source, at[0])
		if end < 0 || source[at[0]:at[1]] != "(?=" {
			continue
		}
		re, err := parsed(source[at[1]:end])
		if err != nil || re.Op != syntax.OpConcat {
			continue
		}
		rest := re.Sub
		for len(rest) > 0 && (rest[0].Op == syntax.OpStar || rest[0].Op == syntax.OpBeginText) {
			rest = rest[1:]
		}
		if n := len(re.Sub); len(rest) > 0 && len(rest) < n {
			out = append(out, &syntax.Regexp{Op: syntax.OpConcat, Sub: rest})
		}
	}
	return out
}

// overlaid are a text's variants in which there is something that each look-ahead looks
// for: at the end, at the beginning, and after it.
func overlaid(base string, ahead []*syntax.Regexp, least, most int, rng *rand.Rand) []string {
	g := generator{rng: rng}
	for _, re := range ahead {
		g.write(re)
	}
	wanted, runes := []rune(g.out.String()), []rune(base)
	if g.failed {
		return nil
	}
	var out []string
	if len(wanted) <= len(runes) {
		kept := len(runes) - len(wanted)
		out = append(out, string(runes[:kept])+string(wanted), string(wanted)+string(runes[len(wanted):]))
		if kept > 1 {
			out = append(out, string(runes[:1])+string(wanted)+string(runes[1+len(wanted):]))
		}
	}
	out = append(out, base+string(wanted))
	return slices.DeleteFunc(out, func(s string) bool {
		n := utf8.RuneCountInString(s)
		return n < least || n > most
	})
}

// obstacle is the part of a pattern that stands in the way of a text: what is not
// generated, or a look-around without which one is found; "" where it is the whole.
func obstacle(source string, least, most int, rng *rand.Rand) string {
	if _, err := parsed(withoutLookAround(source)); err != nil {
		var wrong *syntax.Error
		if errors.As(err, &wrong) && wrong.Expr != "" {
			return wrong.Expr
		}
		return ""
	}
	for _, at := range lookAround.FindAllStringIndex(source, -1) {
		end := closing(source, at[0])
		if end < 0 {
			continue
		}
		rest := source[:at[0]] + source[end+1:]
		if slices.ContainsFunc(matching(rest, least, most, rng), func(s string) bool { return schema.Matches(rest, s) }) {
			return source[at[0] : end+1]
		}
	}
	return ""
}

// growth is how many repetitions beyond the least are tried.
func growth(least, most int) []int {
	out := []int{1, 0, 2, 3, 4, 5, 6, 7, 8, 10, 12, 14, 16, 20, 24, 32}
	for _, n := range []int{least, least - 1, least + 1, least - 2, least - 3, most, most - 1, most - 2} {
		if n > 0 && n <= maxGenerated {
			out = append(out, n)
		}
	}
	return out
}

// withoutLookAround cuts look-ahead and look-behind groups out of a pattern.
func withoutLookAround(source string) string {
	for {
		at := lookAround.FindStringIndex(source)
		if at == nil {
			return source
		}
		end := closing(source, at[0])
		if end < 0 {
			return source
		}
		source = source[:at[0]] + source[end+1:]
	}
}

// closing finds the parenthesis that closes the one at from; -1 where none does.
func closing(source string, from int) int {
	depth, class := 0, false
	for i := from; i < len(source); i++ {
		switch c := source[i]; {
		case c == '\\':
			i++
		case c == '[':
			class = true
		case c == ']':
			class = false
		case class:
		case c == '(':
			depth++
		case c == ')':
			if depth--; depth == 0 {
				return i
			}
		}
	}
	return -1
}

// generator writes a text that a parsed pattern matches.
type generator struct {
	rng    *rand.Rand
	more   int
	out    strings.Builder
	failed bool
}

func (g *generator) write(re *syntax.Regexp) {
	if g.failed || g.out.Len() > 4*maxGenerated {
		return
	}
	switch re.Op {
	case syntax.OpNoMatch:
		g.failed = true
	case syntax.OpLiteral:
		for _, r := range re.Rune {
			g.out.WriteRune(r)
		}
	case syntax.OpCharClass:
		g.class(re.Rune)
	case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		g.out.WriteByte("abcdefghijklmnopqrstuvwxyz"[g.rng.IntN(26)])
	case syntax.OpCapture, syntax.OpConcat:
		for _, sub := range re.Sub {
			g.write(sub)
		}
	case syntax.OpAlternate:
		g.write(re.Sub[g.rng.IntN(len(re.Sub))])
	case syntax.OpStar:
		g.repeat(re.Sub[0], 0, -1)
	case syntax.OpPlus:
		g.repeat(re.Sub[0], 1, -1)
	case syntax.OpQuest:
		g.repeat(re.Sub[0], 0, 1)
	case syntax.OpRepeat:
		g.repeat(re.Sub[0], re.Min, re.Max)
	}
}

func (g *generator) repeat(re *syntax.Regexp, least, most int) {
	n := least + g.more
	if most >= 0 {
		n = min(n, most)
	}
	for range n {
		g.write(re)
	}
}

// class picks a letter or digit of a character class, else its first character.
func (g *generator) class(ranges []rune) {
	if len(ranges) == 0 {
		g.failed = true
		return
	}
	var plain []rune
	for _, r := range "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789" {
		for i := 0; i+1 < len(ranges); i += 2 {
			if r >= ranges[i] && r <= ranges[i+1] {
				plain = append(plain, r)
				break
			}
		}
	}
	if len(plain) > 0 {
		g.out.WriteRune(plain[g.rng.IntN(len(plain))])
		return
	}
	for i := 0; i+1 < len(ranges); i += 2 {
		for r := max(ranges[i], '!'); r <= ranges[i+1] && r <= ranges[i]+256; r++ {
			g.out.WriteRune(r)
			return
		}
	}
	g.out.WriteRune(ranges[0])
}
