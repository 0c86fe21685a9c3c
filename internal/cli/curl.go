package cli

import (
	"encoding/base64"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"obiter/internal/config"
	"obiter/internal/exchange"
	"obiter/internal/record"
)

// curl is a command line that sends the case again. What is not kept, headers and
// credentials, is in it as variables of the shell: those of obiter.yaml where it says
// what they are made of.
func curl(c exchange.Case, head record.Head) string {
	parts := []string{"curl -sS -i -X", c.Request.Method, quote(c.Request.URL)}
	for _, h := range c.Request.Headers {
		parts = append(parts, "-H", quote(h[0]+": "+h[1]))
	}
	for _, h := range head.Headers {
		if slices.ContainsFunc(c.Credentials, func(o exchange.Credential) bool { return o.In == "header" && strings.EqualFold(o.Name, h) }) {
			continue // it follows, with what is wrong with it
		}
		value := "$" + strings.ToUpper(strings.ReplaceAll(h, "-", "_"))
		for key, text := range head.Variables {
			if strings.EqualFold(key, "header "+h) {
				value = inShell(text)
			}
		}
		parts = append(parts, "-H", `"`+h+`: `+value+`"`)
	}
	for _, credential := range c.Credentials {
		value := "$" + config.Variable(credential.Scheme)
		if text, said := head.Variables[credential.Key()]; said {
			value = inShell(text)
		}
		parts = append(parts, authorised(credential, value)...)
	}
	parts = append(parts, "-H", quote("Obiter-Case: "+c.ID))
	body := string(c.Request.Body)
	if body != "" && c.Request.Header("Content-Type") == "" {
		parts = append(parts, "-H", "'Content-Type:'") // curl would add one
	}
	switch {
	case body == "" && c.Request.Header("Content-Type") == "":
		return strings.Join(parts, " ")
	case plainText(body):
		return strings.Join(append(parts, "--data-binary", quote(body)), " ")
	}
	encoded := base64.StdEncoding.EncodeToString(c.Request.Body)
	return "printf %s " + encoded + " | base64 -d | " + strings.Join(append(parts, "--data-binary @-"), " ")
}

// plainText reports whether a shell's quotes carry a text unchanged, and whether
// curl takes it for data and not for a file's name.
func plainText(s string) bool {
	return utf8.ValidString(s) && !strings.HasPrefix(s, "@") && !strings.ContainsFunc(s, func(r rune) bool {
		return unicode.IsControl(r) || unicode.Is(unicode.Cf, r)
	})
}

func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// inShell is a text of the configuration with ${NAME} as the shell has it.
func inShell(text string) string { return reference.ReplaceAllString(text, "$$$1") }

var reference = regexp.MustCompile(`\$\{(\w+)\}`)

// variablesOf are the names of the shell's variables in a line.
func variablesOf(line string) (out []string) {
	for _, m := range variable.FindAllStringSubmatch(line, -1) {
		if !slices.Contains(out, m[1]) {
			out = append(out, m[1])
		}
	}
	return out
}

var variable = regexp.MustCompile(`\$(\w+)`)

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
		return []string{"-H", `"Authorization: Bearer ` + value + `"`}
	case c.Kind == "basic":
		return []string{"-u", `"` + value + `"`}
	case c.In == "query":
		return []string{"--url-query", `"` + c.Name + "=" + value + `"`}
	case c.In == "cookie":
		return []string{"-b", `"` + c.Name + "=" + value + `"`}
	}
	return []string{"-H", `"` + c.Name + ": " + value + `"`}
}
