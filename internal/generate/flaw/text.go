package flaw

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// plantLength makes texts shorter than minLength and longer than maxLength,
// counted in code points. Next to an enum, a length says nothing of its own.
func plantLength(s *site) {
	now, ok := s.value.(string)
	if !ok || s.shape.HasEnum {
		return
	}
	if least := s.shape.MinLength; least != nil && *least > 0 {
		s.plantShorter(now, *least)
	}
	if most := s.shape.MaxLength; most != nil {
		s.plantLonger(now, *most)
	}
}

func (s *site) plantShorter(now string, least int) {
	if least > maxText {
		s.p.dropped(Drop{s.flaw("minLength", "one-below", ""), TooLarge})
		return
	}
	if least > 1 {
		s.replace("minLength", "one-below", Usual, ofLength(now, least-1), fmt.Sprintf("%s; at least %d are required", characters(least-1), least))
	}
	s.replace("minLength", "empty", Usual, "", fmt.Sprintf("the string is empty; at least %s required", are(least)))
}

func (s *site) plantLonger(now string, most int) {
	reason := func(n int) string { return fmt.Sprintf("%s; at most %d are allowed", characters(n), most) }
	if most+1 > maxText {
		s.p.dropped(Drop{s.flaw("maxLength", "one-above", ""), TooLarge})
		return
	}
	s.replace("maxLength", "one-above", Usual, ofLength(now, most+1), reason(most+1))
	if far := 10*most + 1000; far <= maxText {
		s.replace("maxLength", "far-above", Usual, ofLength(now, far), reason(far))
	}
	if len(s.shape.Patterns)+len(s.shape.Formats) == 0 {
		s.replace("maxLength", "one-above-multibyte", Usual, strings.Repeat("ø", most+1), reason(most+1)+", each of two bytes")
	}
}

func characters(n int) string {
	if n == 1 {
		return "1 character"
	}
	return fmt.Sprintf("%d characters", n)
}

func are(n int) string {
	if n == 1 {
		return "1 character is"
	}
	return characters(n) + " are"
}

// ofLength cuts a text to n code points or repeats its letters up to them, so
// that the rest of what is asked of it stays as right as can be.
func ofLength(s string, n int) string {
	runes := []rune(s)
	if len(runes) >= n {
		cut := string(runes[:n])
		if strings.TrimSpace(cut) == cut {
			return cut
		}
		return strings.Repeat("a", n)
	}
	filler := "a"
	if last, _ := utf8.DecodeLastRuneInString(s); last >= '0' && last <= '9' || last >= 'A' && last <= 'Z' {
		filler = string(last)
	}
	return s + strings.Repeat(filler, n-len(runes))
}

// plantPattern sends near misses of a text that matches.
func plantPattern(s *site) {
	now, ok := s.value.(string)
	if !ok || len(s.shape.Patterns) == 0 || s.shape.HasEnum {
		return
	}
	shown := strings.Join(s.shape.Patterns, " and ")
	runes := []rune(now)
	miss := func(variant string, at Depth, v, words string) {
		s.replace("pattern", variant, at, v, words+", so that it no longer matches "+shown)
	}
	if len(runes) > 0 {
		miss("wrong-class", Usual, "#"+string(runes[1:]), "its first character is changed")
		middle := len(runes) / 2
		miss("wrong-class-inside", Deep, string(runes[:middle])+"#"+string(runes[middle+1:]), "one character inside is changed")
		miss("cut", Usual, string(runes[:len(runes)-1]), "the last character is cut off")
	}
	miss("extended", Usual, now+"#", "a character is added at the end")
	miss("trailing-newline", Usual, now+"\n", "a line break is added at the end")
	miss("buried", Usual, "## "+now+" ##", "other text is around it")
	for _, v := range []string{"#", "!!", "~~~", "_", "x", "0", "ZZZZ", "#a b#", ""} {
		if s.shape.Breaks("pattern", v) {
			miss("no-match", Usual, v, "it is a different string")
			break
		}
	}
	miss("letter-case", Deep, swapCase(now), "it is written in another letter case")
}
