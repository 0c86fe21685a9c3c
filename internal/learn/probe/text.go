package probe

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/learn/draft"
)

// text probes a text: whether it may be empty or blank, whether any text is taken, which
// form it has to have, how long and how short it may be.
func (p *prober) text(at, v string) {
	p.try(at, "")
	n := length(v)
	p.blanks(at, max(n, 3))
	p.trims(at, v)
	junk := strings.Repeat("#", min(n, maxText))
	any := p.try(at, junk)
	if any == taken {
		p.lengths(at, v)
		return
	}
	said := p.said
	p.number++
	switch other := p.try(at, alike(v, p.number)); {
	case any != refused:
		return
	case draft.FormatOf(v) != "":
		if other == refused && draft.FormatOf(v) == "uuid" {
			p.sink.Remark(at, "only ids that the service knows are taken")
		}
		return // its form is known
	case other == refused:
		if words := p.listed(at, v, said); len(words) > 1 {
			p.words[at] = words
			p.sink.Form(at, "", words)
			return
		}
		if !strings.ContainsAny(v, " ") && p.form(at, v) {
			p.lengths(at, v)
			return
		}
		p.sink.Remark(at, "only values that the service knows are taken")
	case strings.Contains(v, " ") || !p.form(at, v):
		p.sink.Remark(at, "not every text is taken")
		p.lengths(at, v)
	default:
		p.lengths(at, v)
	}
}

// fresh is a text to start from: one that must be new is another each time.
func (p *prober) fresh(at, v string) string {
	if slices.Contains(p.unique, at) {
		p.number++
		return alike(v, p.number)
	}
	return v
}

// lengths finds how long and how short a text may be.
func (p *prober) lengths(at, v string) {
	n := length(v)
	p.between(n, maxText, func(k int) result { return p.try(at, resized(p.fresh(at, v), k)) })
	if n > 1 {
		p.between(n, 1, func(k int) result {
			text := p.fresh(at, v)
			if r := p.try(at, resized(text, k)); r != refused {
				return r
			}
			all := []rune(text) // what is needed may be at its end
			return p.try(at, string(all[len(all)-k:]))
		})
	}
}

// blanks asks with nothing but spaces, and with spaces around.
func (p *prober) blanks(at string, n int) {
	switch p.try(at, strings.Repeat(" ", min(n, 40))) {
	case taken:
		p.sink.Remark(at, "blanks are accepted")
	case refused:
		p.sink.Remark(at, "blanks are refused")
	}
}

// trims looks whether spaces around a text are deleted, as far as the answer shows it.
func (p *prober) trims(at, v string) {
	if strings.ContainsAny(at, "*") || formed(v) || p.try(at, "  "+p.fresh(at, v)+" ") != taken {
		return
	}
	if doc, err := instance.Decode([]byte(p.said)); err == nil {
		if stored, _ := instance.Get(doc, at); stored != nil {
			if text, is := stored.(string); is && text == strings.TrimSpace(text) {
				p.sink.Remark(at, "is trimmed")
			}
		}
	}
}

// between quotation marks, commas and the like are the values that a message lists.
var separators = regexp.MustCompile(`[,;|"'“”‘’\[\](){}]+|\bor\b|\band\b|\bof\b|:`)

// maxListed bounds the values of a message that are asked.
const maxListed = 40

// listed are the values that a message names, each of them accepted: the value itself has
// to be among them.
func (p *prober) listed(at, v, said string) []string {
	var message string
	if doc, err := instance.Decode([]byte(said)); err == nil {
		instance.Walk(doc, func(_ string, inner any) bool {
			if text, is := inner.(string); is && strings.Contains(text, v) && len(text) > len(message) {
				message = text
			}
			return true
		})
	}
	var candidates []string
	for _, part := range separators.Split(message, -1) {
		part = strings.Trim(strings.TrimSpace(part), ".")
		if part != "" && len(part) <= 60 && !slices.Contains(candidates, part) {
			candidates = append(candidates, part)
		}
	}
	if !slices.Contains(candidates, v) || len(candidates) > maxListed {
		return nil
	}
	words := []string{v}
	for _, c := range candidates {
		if c != v && p.try(at, c) == taken {
			words = append(words, c)
		}
	}
	slices.Sort(words)
	return words
}

// part is a run of characters of a text that has a form: of one class, of letters and
// digits mixed, or literal.
type part struct {
	text  string
	class string // as in a pattern; empty: literal
	least int
	most  int
}

// form looks which form a text has, character by character, and tells the sink a pattern.
// False where it has none that could be found.
func (p *prober) form(at, v string) bool {
	if length(v) > 40 || strings.ContainsFunc(v, func(r rune) bool { return r > '~' || r < '!' }) {
		return false
	}
	if set, mixed := p.mixed(at, v, v, ""); mixed && !strings.ContainsAny(v, "-_./:") {
		p.sink.Form(at, "^["+set+"]+$", nil)
		return true
	}
	if p.try(at, backwards(p.fresh(at, v))) == taken {
		return false // it matters what is in it, and not where
	}
	parts := split(v)
	for i := range parts {
		p.part(at, parts, i)
	}
	if !slices.ContainsFunc(parts, func(x part) bool { return x.class != "" }) {
		return false
	}
	p.sink.Form(at, pattern(parts), nil)
	return true
}

// backwards is a text from its end to its beginning.
func backwards(text string) string {
	out := []rune(text)
	slices.Reverse(out)
	return string(out)
}

// mixed tells whether letters and digits may stand for one another in a passage, and
// which of them there may be.
func (p *prober) mixed(at, v, passage, before string) (set string, is bool) {
	letters, digits := strings.ContainsFunc(passage, isLetter), strings.ContainsFunc(passage, isDigit)
	if length(passage) < 2 || !letters || !digits {
		return "", false
	}
	put := func(i int, c byte) result {
		fresh := p.fresh(at, v)
		j := len(before) + i
		return p.try(at, fresh[:j]+string(c)+fresh[j+1:])
	}
	i := strings.IndexFunc(passage, isDigit)
	j := strings.LastIndexFunc(passage, isLetter)
	upper := strings.ContainsFunc(passage, func(r rune) bool { return r >= 'A' && r <= 'Z' })
	lower := strings.ContainsFunc(passage, func(r rune) bool { return r >= 'a' && r <= 'z' })
	letter := byte('Q')
	if !upper {
		letter = 'q'
	}
	if put(i, letter) != taken || put(j, '4') != taken {
		return "", false
	}
	if !upper {
		upper = put(j, 'Q') == taken
	}
	if !lower {
		lower = put(j, 'q') == taken
	}
	if upper {
		set += "A-Z"
	}
	if lower {
		set += "a-z"
	}
	set += "0-9"
	for _, sign := range []byte("_.-") {
		if put(j, sign) == taken {
			set += string(sign)
		}
	}
	return set, true
}

func isLetter(r rune) bool { return r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' }
func isDigit(r rune) bool  { return r >= '0' && r <= '9' }

// split takes a text apart at its signs, and what is between into letters and digits.
func split(v string) []part {
	var out []part
	sort := func(r rune) string {
		switch {
		case r >= 'a' && r <= 'z':
			return "a-z"
		case r >= 'A' && r <= 'Z':
			return "A-Z"
		case isDigit(r):
			return "0-9"
		}
		return ""
	}
	// A passage of letters and digits by turns is one of both.
	for passage := range strings.SplitAfterSeq(v, "-") {
		body, sign := strings.TrimSuffix(passage, "-"), strings.HasSuffix(passage, "-")
		var list []part
		for _, r := range body {
			if n := len(list) - 1; n >= 0 && list[n].class == sort(r) {
				list[n].text += string(r)
			} else {
				list = append(list, part{text: string(r), class: sort(r)})
			}
		}
		if len(list) > 2 && !slices.ContainsFunc(list, func(x part) bool { return x.class == "" }) {
			list = []part{{text: body, class: "mixed"}}
		}
		out = append(out, list...)
		if sign {
			out = append(out, part{text: "-"})
		}
	}
	for i := range out {
		out[i].least, out[i].most = len(out[i].text), len(out[i].text)
	}
	return out
}

// maxMore is how many characters more than it has a part is tried with.
const maxMore = 6

// part looks what may stand in the place of one part.
func (p *prober) part(at string, parts []part, i int) {
	x := &parts[i]
	if x.class == "" {
		return
	}
	before, after := "", ""
	for j, other := range parts {
		if j < i {
			before += other.text
		} else if j > i {
			after += other.text
		}
	}
	whole := before + x.text + after
	with := func(text string) result {
		fresh := p.fresh(at, whole)
		return p.try(at, fresh[:len(before)]+text+fresh[len(fresh)-len(after):])
	}
	if x.class == "mixed" {
		set, is := p.mixed(at, whole, x.text, before)
		if !is {
			x.class = ""
			return
		}
		x.class = set
	} else if !p.class(x, with) {
		return
	}
	last := x.text[len(x.text)-1:]
	for n := 1; n <= maxMore; n++ {
		if with(x.text+strings.Repeat(last, n)) != taken {
			break
		}
		x.most = len(x.text) + n
	}
	for n := len(x.text) - 1; n >= 1; n-- {
		if with(x.text[:n]) != taken {
			break
		}
		x.least = n
	}
}

// class looks which characters of its class a part may have; where no other is taken it
// is literal.
func (p *prober) class(x *part, with func(string) result) bool {
	first, n := byte('a'), 26
	switch x.class {
	case "A-Z":
		first = 'A'
	case "0-9":
		first, n = '0', 10
	}
	if len(x.text) > 1 {
		shifted := []byte(x.text)
		for k := range shifted {
			shifted[k] = first + (shifted[k]-first+1)%byte(n)
		}
		if with(string(shifted)) != taken {
			x.class = ""
			return false
		}
		return true
	}
	var set []byte
	for c := first; c < first+byte(n); c++ {
		if string(c) == x.text || with(string(c)) == taken {
			set = append(set, c)
		}
	}
	if len(set) == 1 {
		x.class = ""
		return false
	}
	x.class = ranges(set)
	return true
}

// ranges are characters as a pattern has them: ABCDEF is A-F.
func ranges(set []byte) string {
	var b strings.Builder
	for i := 0; i < len(set); {
		j := i
		for j+1 < len(set) && set[j+1] == set[j]+1 {
			j++
		}
		if j-i > 1 {
			fmt.Fprintf(&b, "%c-%c", set[i], set[j])
		} else {
			b.Write(set[i : j+1])
		}
		i = j + 1
	}
	return b.String()
}

// pattern is what the parts come to.
func pattern(parts []part) string {
	var b strings.Builder
	b.WriteString("^")
	for _, x := range parts {
		switch {
		case x.class == "":
			b.WriteString(regexp.QuoteMeta(x.text))
		case x.least == 1 && x.most == 1:
			b.WriteString("[" + x.class + "]")
		case x.most == len(x.text)+maxMore:
			fmt.Fprintf(&b, "[%s]{%d,}", x.class, x.least)
		case x.least == x.most:
			fmt.Fprintf(&b, "[%s]{%d}", x.class, x.most)
		default:
			fmt.Fprintf(&b, "[%s]{%d,%d}", x.class, x.least, x.most)
		}
	}
	return b.String() + "$"
}
