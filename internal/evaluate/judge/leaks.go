package judge

import (
	"bytes"
	"fmt"
	"regexp"
	"sync"
)

// A leak is a trace of the inside of a service. One of the literals is in every
// match, so that only texts with one of them are searched.
type leak struct {
	what     string
	literals []string
	find     func(text []byte) []byte
}

// lazily compiles a pattern when it is first needed: most are never, and all take longer than
// the start of the program may.
func lazily(pattern string) func([]byte) []byte {
	compiled := sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(pattern) })
	return func(text []byte) []byte { return compiled().Find(text) }
}

// ofSQL finds only where there is a word that SQL statements begin with: from, into and set
// are in many a sentence.
func ofSQL(find func([]byte) []byte) func([]byte) []byte {
	return func(text []byte) []byte {
		lower := bytes.ToLower(text)
		for _, verb := range []string{"select", "insert", "update", "delete"} {
			if bytes.Contains(lower, []byte(verb)) {
				return find(text)
			}
		}
		return nil
	}
}

// leaks are what the common platforms let out. Each has a true example and a
// near miss in the tests.
var leaks = []leak{
	{"a Java stack trace", []string{".java", ".kt", ".scala", ".groovy", "Native Method", "Unknown Source"}, lazily(`\bat [\w$.]+\.[\w$<>]+\((?:[\w$]+\.(?:java|kt|scala|groovy)(?::\d+)?|Native Method|Unknown Source)\)`)},
	{"a Java class name", []string{"Exception"}, lazily(`\b(?:java|javax|jakarta|kotlin|scala|org\.springframework|org\.hibernate|com\.fasterxml\.jackson|com\.sun|io\.micronaut|io\.quarkus)(?:\.[a-z]\w*)*\.[A-Z]\w*(?:Exception|Error)\b`)},
	{"a Java type name", []string{"`java."}, lazily("`java\\.(?:lang|util|time|math)\\.\\w+`")},
	{"a Python stack trace", []string{"Traceback (most recent call last)"}, lazily(`Traceback \(most recent call last\)`)},
	{"a Python source line", []string{`File "`}, lazily(`File "[^"]+\.py", line \d+`)},
	{"a Node.js stack trace", []string{"    at "}, lazily(`\n\s+at (?:.+ \()?(?:file://|node:|/|[A-Z]:\\)[^\s()]*:\d+:\d+\)?`)},
	{"a path of a Node.js package", []string{"/node_modules/"}, lazily(`/node_modules/[@\w.-]+/`)},
	{"a .NET stack trace", []string{"   at "}, lazily(`\s+at [\w.<>` + "`" + `]+\([^)\n]*\) in \S+\.(?:cs|fs|vb):line \d+`)},
	{"a .NET class name", []string{"System."}, lazily(`\b(?:System|Microsoft)(?:\.\w+)+(?:Exception|\.JsonException)\b`)},
	{"a .NET type name", []string{"could not be converted to System."}, lazily(`could not be converted to System\.\w+`)},
	{"a Go stack trace", []string{"goroutine "}, lazily(`goroutine \d+ \[\w+`)},
	{"a Go run-time error", []string{"runtime error: "}, lazily(`runtime error: (?:index out of range|invalid memory address|slice bounds|integer divide)`)},
	{"a Go decoder's words", []string{"json: cannot unmarshal"}, lazily(`json: cannot unmarshal \w+ into Go (?:value|struct field)`)},
	{"a Ruby stack trace", []string{".rb:"}, lazily(`[\w/.-]+\.rb:\d+:in [` + "`" + `']`)},
	{"a PHP error", []string{" on line "}, lazily(`(?:Fatal error|Warning|Notice|Parse error|Stack trace)[^\n]*\.php(?:</b>)? on line (?:<b>)?\d+`)},
	{"a PHP stack trace", []string{".php("}, lazily(`#\d+ \S+\.php\(\d+\): `)},
	{"a Rust panic", []string{"panicked at "}, lazily(`thread '[^']*' panicked at `)},
	{"an SQL statement", []string{" FROM ", " from ", " INTO ", " into ", " SET ", " set "}, ofSQL(lazily(`(?i)\b(?:select\s+(?:\*|[\w".]+(?:\s*,\s*[\w".]+)+|["\w]+\.["\w]+)\s+from\s+["\w.]|insert\s+into\s+["\w.]+\s*\([\w",\s]+\)\s*values\b|update\s+["\w.]+\s+set\s+["\w]+\s*=|delete\s+from\s+["\w.]+\s+where\b)`))},
	{"a PostgreSQL message", []string{"violates "}, lazily(`violates (?:unique|foreign key|not-null|check|exclusion) constraint`)},
	{"an SQLSTATE", []string{"SQLSTATE"}, lazily(`SQLSTATE[ \[:=]`)},
	{"a MySQL message", []string{"You have an error in your SQL syntax"}, lazily(`You have an error in your SQL syntax`)},
	{"a database's message", []string{"constraint failed"}, lazily(`\b(?:UNIQUE|NOT NULL|FOREIGN KEY|CHECK) constraint failed`)},
	{"an Oracle message", []string{"ORA-"}, lazily(`\bORA-\d{5}\b`)},
	{"a MongoDB message", []string{"E11000"}, lazily(`\bE11000 duplicate key`)},
	{"a framework's error page", []string{"Whitelabel Error Page"}, lazily(`Whitelabel Error Page`)},
	{"a framework's debug page", []string{"DEBUG = True"}, lazily(`DEBUG = True`)},
	{"a debugger's page", []string{"Werkzeug"}, lazily(`Werkzeug (?:Debugger|powered)`)},
	{"a path of the server", []string{"/home/", "/usr/", "/var/", "/opt/", "/srv/", "/root/"}, lazily(`(?:^|[\s"'(])/(?:home|usr/(?:local|src|lib|app)|var/(?:www|lib|task)|opt|srv|root)/[\w.-]+/[\w./-]+\.(?:js|ts|py|rb|php|go|java|jar|rs|cs|dll|so)\b`)},
}

// literals are all of them, by the two bytes that they begin with; begins tells which those
// are.
var (
	begins   [1 << 16]bool
	literals = map[uint16][]literal{}
)

type literal struct {
	text string
	leak int
}

func init() {
	for i, l := range leaks {
		for _, text := range l.literals {
			at := uint16(text[0])<<8 | uint16(text[1])
			begins[at], literals[at] = true, append(literals[at], literal{text, i})
		}
	}
}

// suspected are the leaks of which a text has a literal: all are looked for at once, since
// every answer is looked through.
func suspected(text []byte) (out []bool) {
	for i := 0; i+1 < len(text); i++ {
		at := uint16(text[i])<<8 | uint16(text[i+1])
		if !begins[at] {
			continue
		}
		for _, l := range literals[at] {
			if rest := text[i:]; len(rest) >= len(l.text) && string(rest[:len(l.text)]) == l.text {
				if out == nil {
					out = make([]bool, len(leaks))
				}
				out[l.leak] = true
			}
		}
	}
	return out
}

// maxSearched is how much of an answer is searched, in bytes.
const maxSearched = 64 << 10

// leaked finds what an answer shows of the inside of the service.
func leaked(body []byte) (what, passage string) {
	text := body[:min(len(body), maxSearched)]
	if bytes.IndexByte(text, '\\') >= 0 {
		text = bytes.ReplaceAll(bytes.ReplaceAll(text, []byte(`\n`), []byte("\n")), []byte(`\"`), []byte(`"`)) // as JSON writes them
	}
	for i, is := range suspected(text) {
		if !is {
			continue
		}
		if found := leaks[i].find(text); len(found) > 0 {
			return leaks[i].what, shorten(string(found))
		}
	}
	return "", ""
}

func leaksInternals(body []byte) []Finding {
	what, passage := leaked(body)
	if what == "" {
		return nil
	}
	return []Finding{finding("leaks-internals", "", "", fmt.Sprintf("the answer shows %s: “%s”", what, passage))}
}
