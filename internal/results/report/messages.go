package report

import (
	"cmp"
	"regexp"
	"slices"
	"strings"
	"sync"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
)

// Message is what a service says of one field that breaks one rule.
type Message struct {
	Operation string `json:"operation"`
	In        string `json:"in"`    // body, path, query, header, cookie; request: of the request as a whole
	Field     string `json:"field"` // a JSON Pointer with * for the entries of lists
	Rule      string `json:"rule"`
	Status    int    `json:"status"`
	Words     string `json:"words"` // as the service has them; empty: it says nothing
	Count     int    `json:"count"` // of answers
	Case      string `json:"case"`  // the first that shows it
	// Ways is how many wordings there are of a rule that can be worded in one, where there
	// are several: with the field's name, numbers and quoted values put aside.
	Ways   int `json:"ways,omitempty"`
	number int // of the case
}

// messageKey is what answers have in common that are one message.
type messageKey struct {
	line         uint32 // the id of the operation's
	kind         uint32 // the place of the rule, and of where it is
	field, words uint32 // their places
	status       uint32
}

// messageStats is how often one was said, and by which case first.
type messageStats struct {
	count, number int
	name          caseID
}

// maxMessages bounds the messages that are kept.
const maxMessages = 20_000

// AddAnswer takes in what there is to learn from an answer: the words, the layout.
func (r *Report) AddAnswer(e *exchange.Exchange, j *judge.Judgement) {
	if r.brief {
		return
	}
	r.lay(e, j.Fingerprint)
	r.model(e, j)
	r.say(e, j.Said)
}

// say takes in what a service said of a flawed case that it rejected.
func (r *Report) say(e *exchange.Exchange, words string) {
	if e.Kind != exchange.Flawed || len(e.Flaws) != 1 || e.Response.Err != "" || e.Response.Status < 400 || e.Response.Status > 499 {
		return
	}
	f := e.Flaws[0]
	full := len(r.messages) >= maxMessages
	if _, known := r.short.texts.places[words]; full && !known {
		return
	}
	texts := r.short.texts
	s := messageKey{r.Line(e.Operation).id, r.short.kinds.place(kind{f.In, f.Rule}), texts.place(instance.AnyIndex(f.Pointer)), texts.place(words), uint32(e.Response.Status)}
	h := r.messages[s]
	if h == nil {
		if full {
			return
		}
		h = &messageStats{number: e.Number, name: r.short.name(e.ID)}
		r.messages[s] = h
	}
	h.count++
	if e.Number < h.number {
		h.name, h.number = r.short.name(e.ID), e.Number
	}
}

// uniform are the rules that say the same of each field, but for its name and a number.
var uniform = []string{"required", "additionalProperties", "unevaluatedProperties", "minLength", "maxLength", "minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf", "minItems", "maxItems", "uniqueItems", "minProperties", "maxProperties", "unique", "not-blank", "trimmed"}

// Messages lists what the service says, in the order of the plan.
func (r *Report) Messages() []Message {
	ways := map[string]map[string]bool{}
	var out []Message
	for s, h := range r.messages {
		k, texts := r.short.kinds.values[s.kind], r.short.texts.values
		m := Message{Operation: r.made[s.line].Operation, In: k.in, Field: texts[s.field], Rule: k.what, Status: int(s.status), Words: texts[s.words], Count: h.count, Case: r.short.id(h.name), number: h.number}
		if ways[m.Rule] == nil {
			ways[m.Rule] = map[string]bool{}
		}
		ways[m.Rule][m.Wording()] = true
		out = append(out, m)
	}
	for i, m := range out {
		if n := len(ways[m.Rule]); n > 1 && slices.Contains(uniform, m.Rule) {
			out[i].Ways = n
		}
	}
	slices.SortFunc(out, func(a, b Message) int {
		return cmp.Or(cmp.Compare(a.number, b.number), strings.Compare(a.Words, b.Words), cmp.Compare(a.Status, b.Status))
	})
	return out
}

// Wording is a message without what differs from field to field: the field's name,
// numbers, and what is quoted.
func (m Message) Wording() string {
	words := quotedWords.ReplaceAllString(m.Words, "…")
	if name := instance.Last(m.Field); name != "" && name != "*" {
		words = regexp.MustCompile(`(?i)\b`+regexp.QuoteMeta(name)+`\b`).ReplaceAllString(words, "…")
	}
	return strings.ToLower(anyNumber.ReplaceAllString(words, "#"))
}

// ofLimits are the rules whose message can name a limit.
var ofLimits = []string{"minLength", "maxLength", "minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf", "minItems", "maxItems", "minProperties", "maxProperties"}

var numberWords = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)[0-9]|\b(zero|one|two|three|four|five|six|seven|eight|nine|ten|empty|blank|positive|negative|whole)\b`)
})

// inCode matches words that are of programs, and not of people: qualified class names,
// types of programming languages, what decoders say.
var inCode = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`\b(?:[a-z][a-z0-9_]*\.){2,}[A-Z]\w*|\b\w*[a-z](?:Exception|Dto|DTO)\b|\b(?:NoneType|ValueError|TypeError|u?int(?:8|16|32|64)|float(?:32|64)|BigDecimal|LocalDate(?:Time)?|OffsetDateTime|HashMap|ArrayList|NaN|undefined)\b|\b(?:Go struct|struct field|unmarshal)\b|\b(?:java|javax|System|std)(?:\.|::)\w+|\b(?:List|Map|Set|Optional|Vec)<`)
})

// Notes say in a few words what a reader of the message misses.
func (m Message) Notes() []string {
	var out []string
	switch {
	case m.Words == "":
		out = append(out, "nothing is said")
	case slices.Contains(ofLimits, m.Rule) && !numberWords().MatchString(m.Words):
		out = append(out, "no limit is named")
	}
	if inCode().MatchString(m.Words) {
		out = append(out, "speaks of code")
	}
	return out
}

var (
	quotedWords = regexp.MustCompile(`"[^"]*"|'[^']*'|“[^”]*”|` + "`[^`]*`")
	anyNumber   = regexp.MustCompile(`[0-9]+(?:[.,][0-9]+)*`)
)
