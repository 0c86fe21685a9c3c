package judge

import (
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"sync"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/core/rule"
	"obiter/internal/evaluate/layout"
	"obiter/internal/evaluate/problem"
)

// contradicts reports whether the refusal of a valid request contradicts the
// description: the service fails, does not know the method or the media type, or
// blames a field whose value obeys every rule. What is refused for want of
// credentials, of a record or of a state that the description cannot know is no
// contradiction: it was not reached.
func contradicts(c exchange.Case, a exchange.Answer, doc problem.Document) bool {
	switch {
	case a.Status >= 500 || a.Status == http.StatusMethodNotAllowed || a.Status == http.StatusUnsupportedMediaType:
		return true
	case a.Status != http.StatusBadRequest && a.Status != http.StatusUnprocessableEntity:
		return false
	}
	for _, in := range []string{"body", "query", "header", "cookie"} { // what is in the path names a record
		part := partOf(c, in)
		reading := layout.Read(doc.Value, layout.NewVocabulary(part, nil, nil))
		if slices.ContainsFunc(reading.Fields, func(n layout.Named) bool {
			if slices.Contains(c.Unchecked, exchange.Flaw{In: in, Pointer: n.Name.Path()}.Where()) {
				return false // its value was made without knowing all that it has to be
			}
			return (n.InRequest || lacks(part, n.Name)) && !namesRecord(n.Name.Raw) && !ofRecords().MatchString(n.Message)
		}) {
			return true
		}
	}
	return false
}

// partOf is what a valid request holds in a place.
func partOf(c exchange.Case, in string) any {
	if in == "body" {
		return c.Body
	}
	return c.Parts[in]
}

// lacks reports whether a pointer names a member that an object of the request
// does not have: an optional one that is demanded.
func lacks(body any, n layout.Name) bool {
	if !n.IsPointer() || n.Path() == "" {
		return false
	}
	parent, _ := instance.Get(body, instance.Parent(n.Path()))
	_, isObject := parent.(map[string]any)
	return isObject
}

// ofRecords matches what is said of a record, and not of the form of a value.
var ofRecords = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)\b(not (be )?found|no such|not exist|doesn['’]t exist|(could|can) ?not find|can['’]t find|unknown|unrecogni[sz]ed|on record|invalid (id|pk|reference|foreign)|already|taken|must be unique|not unique|duplicate)`)
})

// recordWords end the names of fields that stand for a record.
var recordWords = []string{"id", "ids", "uuid", "uuids", "guid", "key", "slug", "ref", "refs"}

var words = regexp.MustCompile(`[A-Z]?[a-z]+|[A-Z]+`)

// namesRecord reports whether a field's name says that its value names a record,
// so that an invented one is as good as none: vessel_id, vesselId, tug_ids.
func namesRecord(name string) bool {
	all := words.FindAllString(strings.TrimRight(name, "/.[]0123456789'\""), -1)
	return len(all) > 0 && slices.Contains(recordWords, strings.ToLower(all[len(all)-1]))
}

// standsForRecord reports whether the value of a flaw's or an edge's field names a
// record: the last part of a path, or a field that is called so.
func standsForRecord(f exchange.Flaw) bool { return f.In == "path" || namesRecord(f.Pointer) }

// speaksOfRecords reports whether a status speaks of records, their state or
// credentials, and not of the form of a value.
func speaksOfRecords(status int) bool {
	switch status {
	case http.StatusUnauthorized, http.StatusForbidden, http.StatusProxyAuthRequired, http.StatusNotFound, http.StatusGone, http.StatusConflict:
		return true
	}
	return false
}

// notReached is the note on an operation whose valid request was refused for what
// lies in its values, records or credentials.
func notReached(what string, c exchange.Case, a exchange.Answer, doc problem.Document) Finding {
	advice := "give it a body or parameters that the service takes: body: in obiter.yaml, or examples in the description"
	why := reasons(c, a, doc)
	switch {
	case taken().MatchString(why):
		advice = "a rule unique: in obiter.yaml makes a new value for each request"
	case ofRecords().MatchString(why):
		advice = "let a fixture in obiter.yaml make the record, and name it in body:"
	}
	switch a.Status {
	case http.StatusUnauthorized, http.StatusForbidden, http.StatusProxyAuthRequired:
		advice = "give credentials: credentials: in obiter.yaml, or --header"
	case http.StatusNotFound, http.StatusGone:
		advice = "let a fixture in obiter.yaml make the record, or name one that exists in the examples of the path parameters"
		if !strings.Contains(c.Operation, "{") {
			advice = "if the address is not the right one, correct --at"
		}
	case http.StatusConflict:
		advice = "a rule unique: in obiter.yaml makes a new value for each request"
	}
	if len(c.LeavesOut) > 0 {
		advice = "it is tried without; to try it as well, give values that the service takes: query:, header: or body: in obiter.yaml"
	}
	if a.Status < 400 {
		advice = "give the address that it leads to, or the credentials that it asks for"
	}
	return finding("not-reached", "", "", fmt.Sprintf("%s was refused with %s%s; %s", what, StatusText(a.Status), why, advice))
}

// conflict is the note on an answer that speaks of what is there, and not of the
// request's own flaw or value.
func conflict(field, what string, a exchange.Answer) Finding {
	advice := "a rule unique: in obiter.yaml makes a new value for each request"
	switch a.Status {
	case http.StatusConflict, http.StatusBadRequest, http.StatusUnprocessableEntity:
		if a.Status != http.StatusConflict && !taken().Match(a.Body) {
			advice = "the value names a record: a rule exists: in obiter.yaml says where there are some"
		}
	case http.StatusUnauthorized, http.StatusForbidden, http.StatusProxyAuthRequired:
		advice = "whether the value is allowed stays open"
	default:
		advice = "the value names a record: a rule exists: in obiter.yaml says where there are some"
	}
	return finding("conflict", field, "", fmt.Sprintf("%s was answered with %s%s; %s", what, StatusText(a.Status), quoted(a), advice))
}

// isConflict reports whether a rejection is a conflict that is not about the flaw:
// an earlier request is in the way, and the flaw was not looked at.
func (l *look) isConflict() bool {
	c, a := *l.c, *l.a
	if a.Status == http.StatusBadRequest || a.Status == http.StatusUnprocessableEntity {
		return l.isTaken()
	}
	if a.Status != http.StatusConflict || slices.Contains(c.Expect.Statuses, a.Status) {
		return false
	}
	if slices.ContainsFunc(c.Flaws, func(f exchange.Flaw) bool { return f.In == "request" && rule.Of(f).Success != rule.Doubtful }) {
		return false // what cannot be read cannot be in conflict with anything
	}
	reading := l.reading(Context{})
	return !slices.ContainsFunc(reading.Fields, func(n layout.Named) bool {
		return !ofRecords().MatchString(n.Message) && slices.ContainsFunc(c.Flaws, func(f exchange.Flaw) bool { return fit(f, n) > rule.Missed })
	})
}

// taken matches what is said of a value that another record has; inTaken are words of which
// one is in each match.
var inTaken = []string{"already", "taken", "unique", "duplicate"}

var taken = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)\b(already (exists?|taken|in use|been taken|registered|used)|(is|was|been) taken|must be unique|not unique|duplicate)\b`)
})

// MayBeTaken reports whether a text has one of these words in it; most say nothing of the
// kind.
func MayBeTaken(text []byte) bool {
	for i := 0; i+1 < len(text); i++ {
		word := ""
		switch text[i+1] | 0x20 { // in either case
		case 'l':
			word = inTaken[0]
		case 'a':
			word = inTaken[1]
		case 'n':
			word = inTaken[2]
		case 'u':
			word = inTaken[3]
		default:
			continue
		}
		if text[i]|0x20 == word[0] && len(text)-i >= len(word) && strings.EqualFold(string(text[i:i+len(word)]), word) {
			return true
		}
	}
	return false
}

// isTaken reports whether all that a rejection says of fields is that a value, which
// obeys its rules and is in the valid request as well, is taken: by the record that
// an earlier request made.
func (l *look) isTaken() bool {
	c := *l.c
	if c.Expect.Class == exchange.Duplicate || len(c.Flaws) != 1 {
		return false
	}
	if !MayBeTaken(l.a.Body) {
		return false
	}
	fields := l.reading(Context{}).Fields
	return len(fields) > 0 && !slices.ContainsFunc(fields, func(n layout.Named) bool {
		if fit(c.Flaws[0], n) > rule.Missed || !taken().MatchString(n.Message) {
			return true
		}
		sent, there := instance.Get(c.Body, n.Name.Path())
		valid, usual := instance.Get(c.Control, n.Name.Path())
		return !there || !usual || !instance.Equal(sent, valid)
	})
}

// Blamed is the member of a valid request that an answer blames, with what it says of
// it; false where it names none.
func Blamed(c exchange.Case, a exchange.Answer) (in, pointer, message string, is bool) {
	doc, _ := problem.Of(a)
	for _, in := range []string{"body", "query", "header", "path", "cookie"} {
		part := partOf(c, in)
		if part == nil {
			continue
		}
		for _, n := range layout.Read(doc.Value, layout.NewVocabulary(part, nil, nil)).Fields {
			if at := n.Name.Path(); at != "" && (n.InRequest || in == "body" && lacks(part, n.Name)) {
				return in, at, shorten(n.Message), true
			}
		}
	}
	return "", "", "", false
}

// Taken is the field of a valid request of which the answer says that another record
// has its value; false where it says nothing of the kind. Where it names no field, it is
// the one whose value it quotes, or whose name it mentions, or that records are usually
// known by. Fields that are known have new values already.
func Taken(c exchange.Case, a exchange.Answer, known ...string) (pointer string, is bool) {
	if a.Err != "" || a.Status < http.StatusBadRequest {
		return "", false
	}
	usable := func(at string) bool {
		v, there := instance.Get(c.Body, at)
		kind := instance.Type(v)
		return there && (kind == "string" || kind == "integer") && !slices.Contains(known, at)
	}
	l := lookAt(&c, &a)
	for _, n := range l.reading(Context{}).Fields {
		if at := n.Name.Path(); taken().MatchString(n.Message) && usable(at) {
			return at, true
		}
	}
	why := reasons(c, a, l.doc)
	if !taken().MatchString(why) && a.Status != http.StatusConflict {
		return "", false
	}
	object, _ := c.Body.(map[string]any)
	said := words.FindAllString(why, -1)
	best, rank := "", 0
	for _, name := range instance.Names(object) {
		at := instance.Join("", name)
		if text, is := object[name].(string); usable(at) {
			r := 0
			switch {
			case is && len(text) > 2 && strings.Contains(why, text):
				r = 3
			case slices.ContainsFunc(said, func(w string) bool { return strings.EqualFold(w, name) }):
				r = 2
			case is && slices.Contains(knownBy, strings.ToLower(name)):
				r = 1
			}
			if r > rank {
				best, rank = at, r
			}
		}
	}
	return best, rank > 0
}

// knownBy are names of fields that no two records share.
var knownBy = []string{"name", "key", "slug", "code", "reference", "email", "username", "login", "title", "number", "value", "label"}

// busy reports whether no answer came because the service was asked too much, or
// is not available to anyone, and still was so after the wait it requested.
func busy(a exchange.Answer) bool {
	return a.Err != "" && (a.Status == http.StatusTooManyRequests || a.Status == http.StatusServiceUnavailable)
}
