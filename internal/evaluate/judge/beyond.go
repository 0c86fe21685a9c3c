package judge

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/core/rule"
	"obiter/internal/evaluate/problem"
)

// beyond looks at what no status and no layout tells: what the answer gives
// away, and whether it is the documented one.
func beyond(c exchange.Case, a exchange.Answer, ctx Context, doc problem.Document) []Finding {
	found := echoesSecret(c, a)
	if c.Kind == exchange.Flawed && a.Status >= 400 {
		found = append(found, leaksInternals(a.Body)...)
		found = append(found, badEncoding(a, doc)...)
	}
	found = append(found, unsafeHTML(c, a)...)
	return append(found, undocumented(c, a, ctx, doc)...)
}

// badEncoding finds JSON that is not UTF-8 (RFC 8259, section 8.1). What was cut
// off while it was read may end in the middle of a character.
func badEncoding(a exchange.Answer, doc problem.Document) []Finding {
	if a.Truncated || utf8.Valid(a.Body) || !exchange.IsJSON(doc.Media) {
		return nil
	}
	return []Finding{finding("bad-encoding", "", "", fmt.Sprintf("the answer is %s, and its bytes are not UTF-8", doc.Media))}
}

// minSecret is the shortest secret that is looked for: shorter texts are in
// answers by chance.
const minSecret = 8

func echoesSecret(c exchange.Case, a exchange.Answer) []Finding {
	for _, s := range c.Secrets() {
		if len(s) >= minSecret && (bytes.Contains(a.Body, []byte(s)) || bytes.Contains(a.Body, instance.Escaped(s))) {
			return []Finding{finding("echoes-secret", "", "", fmt.Sprintf("the value of a writeOnly or password field comes back in an answer of %s", StatusText(a.Status)))}
		}
	}
	return nil
}

func unsafeHTML(c exchange.Case, a exchange.Answer) []Finding {
	media := exchange.MediaTypeOf(a.Header.Get("Content-Type"))
	if media != "text/html" && media != "application/xhtml+xml" || !bytes.Contains(a.Body, []byte(exchange.Markup)) {
		return nil
	}
	return []Finding{finding("unsafe-html", fieldOf(c), "", fmt.Sprintf("%s came back unescaped in an answer of type %s", exchange.Markup, media))}
}

// slow is when a rejection is slow, in itself and against the control.
const (
	slow       = time.Second
	slowFactor = 20
)

func slowly(c exchange.Case, a exchange.Answer, ctx Context) (Finding, bool) {
	if ctx.Control <= 0 || a.Took <= slow || a.Took <= slowFactor*ctx.Control || c.Expect.Class == exchange.TooLarge {
		return Finding{}, false
	}
	return finding("slow-rejection", fieldOf(c), "", fmt.Sprintf("%s was rejected after %.1f s, and the valid request took %.0f ms", describe(c), a.Took.Seconds(), float64(ctx.Control.Microseconds())/1000)), true
}

// undocumented holds an answer against the description.
func undocumented(c exchange.Case, a exchange.Answer, ctx Context, doc problem.Document) []Finding {
	if ctx.Documented == nil || a.Status >= 500 || a.Status >= 300 && a.Status < 400 || len(c.Flaws) == 1 && rule.Of(c.Flaws[0]).Layer == rule.Server {
		return nil
	}
	wronglyAccepted := c.Kind == exchange.Flawed && a.Status < 300 && !c.Expect.Class.SuccessIsRight()
	if wronglyAccepted || c.Kind != exchange.Flawed && a.Status >= 400 { // that is what is to be said
		return nil
	}
	d := ctx.Documented
	one := func(at, message string, args ...any) []Finding {
		return []Finding{finding("undocumented", "", at, fmt.Sprintf(message, args...))}
	}
	switch {
	case !d.Status:
		return one("", "%s is not among the documented answers (%s)", StatusText(a.Status), strings.Join(d.Known, ", "))
	case d.Media == nil || len(a.Body) == 0:
		return nil
	case !slices.ContainsFunc(d.Media, func(m string) bool { return exchange.Covers(m, doc.Media) }):
		return one("Content-Type", "the answer %s is %s, but %s is documented", StatusText(a.Status), orNothing(doc.Media), strings.Join(d.Media, " or "))
	case d.How == "" || doc.Value == nil || a.Truncated || strings.HasSuffix(doc.Media, "xml"):
		return nil
	}
	return one(d.At, "the body of %s does not match its documented schema at %s: %s", StatusText(a.Status), shownPlace(d.At), d.How)
}

func orNothing(media string) string {
	if media == "" {
		return "without a media type"
	}
	return media
}

func shownPlace(at string) string {
	if at == "" {
		return "its top"
	}
	return at
}
