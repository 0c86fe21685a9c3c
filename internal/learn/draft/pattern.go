package draft

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"obiter/internal/core/instance"
)

// patternOf is a pattern that all accepted texts match and none of the refused ones that
// nothing else explains: of their shape where they have one, else of their characters; ""
// where there is none, or no need of one. One text is enough where its length is fixed.
func (n *node) patternOf(fixed bool) (pattern string, restricted bool) {
	var refused []string
	for _, t := range n.refused.texts {
		k := utf8.RuneCountInString(t)
		odd := strings.TrimSpace(t) != t || t == "" || strings.ContainsFunc(t, func(c rune) bool { return c < ' ' || c > '~' }) // of blanks and bytes there are other rules
		if n.texts[t] == 0 && !odd && k >= n.lengths.min && k <= n.lengths.max {
			refused = append(refused, t)
		}
	}
	if len(refused) == 0 {
		return "", false
	}
	texts := instance.Names(anyOf(n.texts))
	for _, candidate := range []string{shape(texts), behind(texts), characters(texts)} {
		if len(texts) < 2 && !fixed {
			break
		}
		re, err := regexp.Compile(candidate)
		if candidate == "" || err != nil {
			continue
		}
		if !slices.ContainsFunc(refused, re.MatchString) && !slices.ContainsFunc(texts, func(t string) bool { return !re.MatchString(t) }) {
			return candidate, true
		}
	}
	return "", true
}

// classes are the sorts of characters that patterns are made of.
var classes = []struct {
	name string
	is   func(c rune) bool
}{
	{"A-Z", func(c rune) bool { return c >= 'A' && c <= 'Z' }},
	{"a-z", func(c rune) bool { return c >= 'a' && c <= 'z' }},
	{"0-9", func(c rune) bool { return c >= '0' && c <= '9' }},
}

// run is a number of characters of one class, or a text that is always the same.
type run struct {
	class   string // empty: literal
	literal string
	min     int
	max     int
}

// maxRuns is how many runs a text has at most that has a shape.
const maxRuns = 8

func runs(text string) []run {
	var out []run
	for _, c := range text {
		class := ""
		for _, k := range classes {
			if k.is(c) {
				class = k.name
			}
		}
		last := len(out) - 1
		switch {
		case class != "" && last >= 0 && out[last].class == class:
			out[last].min++
			out[last].max++
		case class == "" && last >= 0 && out[last].class == "":
			out[last].literal += string(c)
		default:
			r := run{class: class, min: 1, max: 1}
			if class == "" {
				r.literal = string(c)
			}
			out = append(out, r)
		}
	}
	return out
}

// shape is the pattern of texts that have the same runs: IMO9074729 and IMO9251822. A
// beginning that they share is part of it.
func shape(texts []string) string {
	if len(texts) == 0 {
		return ""
	}
	all := runs(texts[0])
	for _, t := range texts[1:] {
		other := runs(t)
		if len(other) != len(all) {
			return ""
		}
		for i, r := range other {
			if r.class != all[i].class || r.literal != all[i].literal {
				return ""
			}
			all[i].min, all[i].max = min(all[i].min, r.min), max(all[i].max, r.max)
		}
	}
	if len(all) == 0 || len(all) > maxRuns {
		return ""
	}
	prefix := ""
	if len(texts) > 1 && all[0].class != "" && all[0].min == all[0].max && len(all) > 1 {
		first := texts[0][:all[0].min]
		if !slices.ContainsFunc(texts, func(t string) bool { return !strings.HasPrefix(t, first) }) {
			prefix = first
			all = all[1:]
		}
	}
	var b strings.Builder
	b.WriteString("^" + regexp.QuoteMeta(prefix))
	for _, r := range all {
		switch {
		case r.class == "":
			b.WriteString(regexp.QuoteMeta(r.literal))
		case r.min == r.max && r.min == 1:
			b.WriteString("[" + r.class + "]")
		case r.min == r.max:
			fmt.Fprintf(&b, "[%s]{%d}", r.class, r.min)
		default:
			fmt.Fprintf(&b, "[%s]{%d,%d}", r.class, r.min, r.max)
		}
	}
	return b.String() + "$"
}

// behind is the pattern of texts of one length that begin alike and go on with letters
// and digits: TW-19A12B and TW-DFN4JR.
func behind(texts []string) string {
	if len(texts) < 2 {
		return ""
	}
	prefix := texts[0]
	for _, t := range texts {
		if len(t) != len(texts[0]) {
			return ""
		}
		for !strings.HasPrefix(t, prefix) {
			prefix = prefix[:len(prefix)-1]
		}
	}
	prefix = prefix[:strings.LastIndexAny(prefix, "-_.:/")+1] // what they share behind that is chance
	var rest []string
	for _, t := range texts {
		rest = append(rest, strings.TrimPrefix(t, prefix))
	}
	of := strings.TrimSuffix(strings.TrimPrefix(characters(rest), "^"), "+$")
	if prefix == "" || of == "" {
		return ""
	}
	return fmt.Sprintf("^%s%s{%d}$", regexp.QuoteMeta(prefix), of, len(texts[0])-len(prefix))
}

// characters is the pattern of texts by the classes of their characters; "" where there
// are others than letters, digits and a few signs.
func characters(texts []string) string {
	used := map[string]bool{}
	signs := ""
	for _, t := range texts {
		for _, c := range t {
			class := ""
			for _, k := range classes {
				if k.is(c) {
					class = k.name
				}
			}
			switch {
			case class != "":
				used[class] = true
			case strings.ContainsRune(" _.-", c):
				if !strings.ContainsRune(signs, c) {
					signs += string(c)
				}
			default:
				return ""
			}
		}
	}
	var b strings.Builder
	for _, k := range classes {
		if used[k.name] {
			b.WriteString(k.name)
		}
	}
	if strings.Contains(signs, "-") { // last, where it stands for itself
		signs = strings.ReplaceAll(signs, "-", "") + "-"
	}
	if b.Len()+len(signs) == 0 {
		return ""
	}
	return "^[" + b.String() + signs + "]+$"
}
