package send

import (
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strings"

	"golang.org/x/net/http/httpguts"

	"obiter/internal/core/usage"
)

// userInfo is what may stand before the host, a password too.
var userInfo = regexp.MustCompile(`[^/@]*@`)

// Address checks the URL of a service.
func Address(text string) (*url.URL, error) {
	fail := func(problem string) (*url.URL, error) {
		return nil, usage.New(fmt.Sprintf("--at %q %s", userInfo.ReplaceAllString(text, "…@"), problem), "write it with scheme and host, such as http://localhost:8080")
	}
	u, err := url.Parse(text)
	switch {
	case err != nil && !strings.Contains(text, "://"), err == nil && u.Scheme != "http" && u.Scheme != "https":
		return fail("has no scheme http or https")
	case err != nil:
		return fail("is not a URL")
	case u.Hostname() == "":
		return fail("names no host")
	case u.RawQuery != "" || u.Fragment != "":
		return fail("has a query or fragment, which no path can follow")
	case u.User != nil:
		return fail("holds a user name; credentials go into --header")
	}
	return u, nil
}

// Headers are header lines, as a command line has them.
func Headers(list []string) ([][2]string, error) {
	var out [][2]string
	for _, h := range list {
		name, value, ok := strings.Cut(h, ":")
		name, value = strings.TrimSpace(name), strings.TrimSpace(value)
		if !ok || !httpguts.ValidHeaderFieldName(name) || !httpguts.ValidHeaderFieldValue(value) {
			return nil, usage.New(fmt.Sprintf("invalid value %q for --header", name), "write it as 'Name: value'")
		}
		out = append(out, [2]string{http.CanonicalHeaderKey(name), value})
	}
	return out, nil
}
