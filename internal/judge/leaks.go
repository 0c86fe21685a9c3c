package judge

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// A leak is a trace of the inside of a service. One of the literals is in every
// match, so that only texts with one of them are searched.
type leak struct {
	what     string
	literals []string
	pattern  *regexp.Regexp
}

// leaks are what the common platforms let out. Each has a true example and a
// near miss in the tests.
var leaks = []leak{
	{"a Java stack trace", []string{".java", ".kt", ".scala", ".groovy", "Native Method", "Unknown Source"}, regexp.MustCompile(`\bat [\w$.]+\.[\w$<>]+\((?:[\w$]+\.(?:java|kt|scala|groovy)(?::\d+)?|Native Method|Unknown Source)\)`)},
	{"a Java class name", []string{"Exception"}, regexp.MustCompile(`\b(?:java|javax|jakarta|kotlin|scala|org\.springframework|org\.hibernate|com\.fasterxml\.jackson|com\.sun|io\.micronaut|io\.quarkus)(?:\.[a-z]\w*)*\.[A-Z]\w*(?:Exception|Error)\b`)},
	{"a Java type name", []string{"`java."}, regexp.MustCompile("`java\\.(?:lang|util|time|math)\\.\\w+`")},
	{"a Python stack trace", []string{"Traceback (most recent call last)"}, regexp.MustCompile(`Traceback \(most recent call last\)`)},
	{"a Python source line", []string{`File "`}, regexp.MustCompile(`File "[^"]+\.py", line \d+`)},
	{"a Node.js stack trace", []string{"    at "}, regexp.MustCompile(`\n\s+at (?:.+ \()?(?:file://|node:|/|[A-Z]:\\)[^\s()]*:\d+:\d+\)?`)},
	{"a path of a Node.js package", []string{"/node_modules/"}, regexp.MustCompile(`/node_modules/[@\w.-]+/`)},
	{"a .NET stack trace", []string{"   at "}, regexp.MustCompile(`\s+at [\w.<>` + "`" + `]+\([^)\n]*\) in \S+\.(?:cs|fs|vb):line \d+`)},
	{"a .NET class name", []string{"System."}, regexp.MustCompile(`\b(?:System|Microsoft)(?:\.\w+)+(?:Exception|\.JsonException)\b`)},
	{"a .NET type name", []string{"could not be converted to System."}, regexp.MustCompile(`could not be converted to System\.\w+`)},
	{"a Go stack trace", []string{"goroutine "}, regexp.MustCompile(`goroutine \d+ \[\w+`)},
	{"a Go run-time error", []string{"runtime error: "}, regexp.MustCompile(`runtime error: (?:index out of range|invalid memory address|slice bounds|integer divide)`)},
	{"a Go decoder's words", []string{"json: cannot unmarshal"}, regexp.MustCompile(`json: cannot unmarshal \w+ into Go (?:value|struct field)`)},
	{"a Ruby stack trace", []string{".rb:"}, regexp.MustCompile(`[\w/.-]+\.rb:\d+:in [` + "`" + `']`)},
	{"a PHP error", []string{" on line "}, regexp.MustCompile(`(?:Fatal error|Warning|Notice|Parse error|Stack trace)[^\n]*\.php(?:</b>)? on line (?:<b>)?\d+`)},
	{"a PHP stack trace", []string{".php("}, regexp.MustCompile(`#\d+ \S+\.php\(\d+\): `)},
	{"a Rust panic", []string{"panicked at "}, regexp.MustCompile(`thread '[^']*' panicked at `)},
	{"an SQL statement", []string{" FROM ", " from ", " INTO ", " into ", " SET ", " set "}, regexp.MustCompile(`(?i)\b(?:select\s+(?:\*|[\w".]+(?:\s*,\s*[\w".]+)+|["\w]+\.["\w]+)\s+from\s+["\w.]|insert\s+into\s+["\w.]+\s*\([\w",\s]+\)\s*values\b|update\s+["\w.]+\s+set\s+["\w]+\s*=|delete\s+from\s+["\w.]+\s+where\b)`)},
	{"a PostgreSQL message", []string{"violates "}, regexp.MustCompile(`violates (?:unique|foreign key|not-null|check|exclusion) constraint`)},
	{"an SQLSTATE", []string{"SQLSTATE"}, regexp.MustCompile(`SQLSTATE[ \[:=]`)},
	{"a MySQL message", []string{"You have an error in your SQL syntax"}, regexp.MustCompile(`You have an error in your SQL syntax`)},
	{"a database's message", []string{"constraint failed"}, regexp.MustCompile(`\b(?:UNIQUE|NOT NULL|FOREIGN KEY|CHECK) constraint failed`)},
	{"an Oracle message", []string{"ORA-"}, regexp.MustCompile(`\bORA-\d{5}\b`)},
	{"a MongoDB message", []string{"E11000"}, regexp.MustCompile(`\bE11000 duplicate key`)},
	{"a framework's error page", []string{"Whitelabel Error Page"}, regexp.MustCompile(`Whitelabel Error Page`)},
	{"a framework's debug page", []string{"DEBUG = True"}, regexp.MustCompile(`DEBUG = True`)},
	{"a debugger's page", []string{"Werkzeug"}, regexp.MustCompile(`Werkzeug (?:Debugger|powered)`)},
	{"a path of the server", []string{"/home/", "/usr/", "/var/", "/opt/", "/srv/", "/root/"}, regexp.MustCompile(`(?:^|[\s"'(])/(?:home|usr/(?:local|src|lib|app)|var/(?:www|lib|task)|opt|srv|root)/[\w.-]+/[\w./-]+\.(?:js|ts|py|rb|php|go|java|jar|rs|cs|dll|so)\b`)},
}

func hasAny(text string, literals []string) bool {
	return slices.ContainsFunc(literals, func(l string) bool { return strings.Contains(text, l) })
}

// maxSearched is how much of an answer is searched, in bytes.
const maxSearched = 64 << 10

// leaked finds what an answer shows of the inside of the service.
func leaked(body []byte) (what, passage string) {
	text := string(body[:min(len(body), maxSearched)])
	text = strings.ReplaceAll(strings.ReplaceAll(text, `\n`, "\n"), `\"`, `"`) // as JSON writes them
	for _, l := range leaks {
		if !hasAny(text, l.literals) {
			continue
		}
		if found := l.pattern.FindString(text); found != "" {
			return l.what, shorten(found)
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
