package judge

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/core/rule"
	"obiter/internal/evaluate/layout"
	"obiter/internal/evaluate/problem"
)

// quoted is the API's own words, shortened.
func quoted(a exchange.Answer) string {
	words := Words(a)
	if words == "" {
		return ""
	}
	return ": “" + words + "”"
}

// maxWords bounds how much of an answer is quoted in a message, in characters.
const maxWords = 160

// Words is what the answer says in its own words: a problem's detail or title,
// a message, or the beginning of its text.
func Words(a exchange.Answer) string {
	doc, _ := problem.Of(a)
	return ownWords(a, doc)
}

func ownWords(a exchange.Answer, doc problem.Document) string {
	for _, member := range []string{"detail", "message", "error", "title", "error_description"} {
		if s := doc.Text(member); s != "" {
			return shorten(s)
		}
	}
	if !utf8.Valid(a.Body) {
		return ""
	}
	text := string(a.Body[:min(len(a.Body), maxSearched)])
	if media := exchange.MediaTypeOf(a.Header.Get("Content-Type")); media == "text/html" || media == "application/xhtml+xml" {
		text = markup.ReplaceAllString(unseen().ReplaceAllString(text, " "), " ")
	}
	return shorten(strings.TrimSpace(strings.ToValidUTF8(text, "")))
}

// What a page has between its words, and what of it nobody sees.
var (
	unseen = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`(?is)<(head|style|script)\b.*?</(head|style|script)>|<!doctype[^>]*>`)
	})
	markup = regexp.MustCompile(`<[^>]*>`)
)

// shorten is a text of an answer for a message.
func shorten(s string) string { return instance.Shorten(instance.OneLine(s), maxWords) }

// maxSaid bounds the words that are kept of one message, in characters.
const maxSaid = 2_000

// said are the words of a rejection about the one flawed field, where it names it, else
// its own words.
func (l *look) said(ctx Context) string {
	if c := *l.c; len(c.Flaws) == 1 && l.doc.Value != nil && asksForField(c, l.a.Status) {
		for _, n := range l.reading(ctx).Fields {
			if n.Message != "" && fit(c.Flaws[0], n) > rule.Missed {
				return instance.Shorten(n.Message, maxSaid)
			}
		}
	}
	return ownWords(*l.a, l.doc)
}

// wrongWords tells where the message is not the one that the configuration asks
// for. Where no field has to be named, the answer's own words count; where one is
// missing, that is reported already.
func wrongWords(c exchange.Case, a exchange.Answer, reading layout.Reading) []Finding {
	if c.Expect.Says == "" || len(c.Flaws) == 0 {
		return nil
	}
	says, err := regexp.Compile(c.Expect.Says)
	if err != nil {
		return nil
	}
	var words []string
	for _, n := range reading.Fields {
		if n.Message != "" && slices.ContainsFunc(c.Flaws, func(f exchange.Flaw) bool { return f.Pointer == "" || fit(f, n) > rule.Missed }) {
			words = append(words, n.Message)
		}
	}
	if len(words) == 0 && !asksForField(c, a.Status) {
		words = append(words, Words(a))
	}
	if len(words) == 0 || slices.ContainsFunc(words, says.MatchString) {
		return nil // if the field is not named, that is reported
	}
	return []Finding{finding("wrong-message", c.Flaws[0].Pointer, "", fmt.Sprintf("the message is “%s”; it must match %s", shorten(words[0]), c.Expect.Says))}
}
