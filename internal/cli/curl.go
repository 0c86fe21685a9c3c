package cli

import (
	"encoding/base64"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"obiter/internal/config"
	"obiter/internal/exchange"
)

// curl is a command line that sends the case again. Headers given by --header
// are in it as variables of the shell, because their values are not kept.
func curl(c exchange.Case, headers []string) string {
	parts := []string{"curl -sS -i -X", c.Request.Method, quote(c.Request.URL)}
	for _, h := range c.Request.Headers {
		parts = append(parts, "-H", quote(h[0]+": "+h[1]))
	}
	for _, h := range headers {
		if slices.ContainsFunc(c.Credentials, func(o exchange.Credential) bool { return o.In == "header" && strings.EqualFold(o.Name, h) }) {
			continue // it follows, with what is wrong with it
		}
		name := strings.ToUpper(strings.ReplaceAll(h, "-", "_"))
		parts = append(parts, "-H", `"`+h+`: $`+name+`"`)
	}
	for _, credential := range c.Credentials {
		parts = append(parts, authorised(credential)...)
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

// authorised is how curl sends a credential, by the name of a variable.
func authorised(c exchange.Credential) []string {
	value := "$" + config.Variable(c.Scheme)
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
