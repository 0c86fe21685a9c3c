package terminal

import (
	"encoding/base64"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/input/sources"
	"obiter/internal/results/record"
)

// Curl is a command line that sends the case again. What is not kept, headers and
// credentials, is in it as variables of the shell: those of obiter.yaml where it says
// what they are made of.
func Curl(c exchange.Case, head record.Head) string {
	begin := "curl -sS -i -X"
	if strings.ContainsAny(c.Request.URL, "[]{}") {
		begin = "curl -g -sS -i -X" // these are no patterns
	}
	parts := []string{begin, shell(c.Request.Method), Quote(c.Request.URL)}
	for _, h := range c.Request.Headers {
		parts = append(parts, "-H", Quote(h[0]+": "+h[1]))
	}
	for _, h := range head.Headers {
		if slices.ContainsFunc(c.Credentials, func(o exchange.Credential) bool { return o.In == "header" && strings.EqualFold(o.Name, h) }) {
			continue // it follows, with what is wrong with it
		}
		value := "${" + variableOf(h) + "}"
		for key, text := range head.Variables {
			if strings.EqualFold(key, "header "+h) {
				value = text
			}
		}
		parts = append(parts, "-H", pair(h+": ", value))
	}
	for _, credential := range c.Credentials {
		value := "${" + variableOf(credential.Scheme) + "}"
		if text, said := head.Variables[credential.Key()]; said {
			value = text
		}
		parts = append(parts, authorised(credential, value)...)
	}
	parts = append(parts, "-H", Quote("Obiter-Case: "+c.ID))
	body := string(c.Request.Body)
	if body != "" && c.Request.Header("Content-Type") == "" {
		parts = append(parts, "-H", "'Content-Type:'") // curl would add one
	}
	switch {
	case body == "" && c.Request.Header("Content-Type") == "":
		return strings.Join(parts, " ")
	case plainText(body):
		return strings.Join(append(parts, "--data-binary", Quote(body)), " ")
	}
	encoded := base64.StdEncoding.EncodeToString(c.Request.Body)
	return "printf %s " + encoded + " | base64 -d | " + strings.Join(append(parts, "--data-binary @-"), " ")
}

// plainText reports whether a shell's quotes carry a text unchanged, and whether
// Curl takes it for data and not for a file's name.
func plainText(s string) bool {
	return utf8.ValidString(s) && !strings.HasPrefix(s, "@") && !strings.ContainsFunc(s, instance.Unseen)
}

// Quote is a text as a word of the shell. What nobody sees is written as octal numbers.
func Quote(s string) string {
	if utf8.ValidString(s) && !strings.ContainsFunc(s, instance.Unseen) {
		return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
	}
	var b strings.Builder
	for i := range len(s) {
		switch c := s[i]; {
		case c < ' ' || c > '~' || c == '\'' || c == '\\':
			fmt.Fprintf(&b, `\%03o`, c)
		case c == '%':
			b.WriteString("%%")
		default:
			b.WriteByte(c)
		}
	}
	return `"$(printf '` + b.String() + `')"`
}

// variableOf is a name that the shell has for a header or a scheme.
func variableOf(name string) string {
	name = sources.Variable(name)
	if name == "" || name[0] >= '0' && name[0] <= '9' {
		return "_" + name
	}
	return name
}

// pair is a name with its value, as the shell has it.
func pair(name, value string) string {
	switch {
	case !reference.MatchString(value):
		return Quote(name + value)
	case name == "":
		return shell(value)
	}
	return Quote(name) + shell(value)
}

// shell is a text as the shell's words have it, with the value of a variable in place of
// each ${NAME}. Nothing else in it means anything to the shell.
func shell(text string) string {
	var b strings.Builder
	from := 0
	for _, m := range reference.FindAllStringSubmatchIndex(text, -1) {
		if m[0] > from {
			b.WriteString(Quote(text[from:m[0]]))
		}
		b.WriteString(`"$` + text[m[2]:m[3]] + `"`)
		from = m[1]
	}
	if rest := text[from:]; plainWord.MatchString(rest) {
		b.WriteString(rest)
	} else if rest != "" {
		b.WriteString(Quote(rest))
	}
	return b.String()
}

var (
	reference = regexp.MustCompile(`\$\{([A-Za-z_]\w*)\}`)
	plainWord = regexp.MustCompile(`^[A-Z]+$`) // such as a method
)

// variablesOf are the names of the shell's variables in a line.
func variablesOf(line string) (out []string) {
	for _, m := range variable.FindAllStringSubmatch(line, -1) {
		if !slices.Contains(out, m[1]) {
			out = append(out, m[1])
		}
	}
	return out
}

var variable = regexp.MustCompile(`"\$(\w+)"`)

// authorised is how curl sends a credential with a value.
func authorised(c exchange.Credential, value string) []string {
	switch c.Flaw {
	case "missing":
		return nil
	case "malformed":
		value = "no token, but words"
	case "wrong":
		value = "nobody"
	}
	switch {
	case c.Kind == "bearer":
		return []string{"-H", pair("Authorization: Bearer ", value)}
	case c.Kind == "basic":
		return []string{"-u", pair("", value)}
	case c.In == "query":
		return []string{"--url-query", pair(c.Name+"=", value)}
	case c.In == "cookie":
		return []string{"-b", pair(c.Name+"=", value)}
	}
	return []string{"-H", pair(c.Name+": ", value)}
}
