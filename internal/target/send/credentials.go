package send

import (
	"crypto/sha256"
	"math/rand/v2"
	"net/http"
	"net/url"
	"strings"
	"unicode"

	"obiter/internal/core/exchange"
)

// authorise puts credentials into a request, or what is to be wrong with them.
// Without a value of its own a scheme takes the header that every request carries.
func (s *Sender) authorise(req *http.Request, credentials []exchange.Credential) {
	for _, c := range credentials {
		value, own := s.opt.Credentials[c.Key()]
		if !own {
			if c.In != "header" {
				continue
			}
			_, value, _ = strings.Cut(req.Header.Get(c.Name), " ")
			if c.Kind == "apiKey" {
				value = req.Header.Get(c.Name)
			}
		}
		if c.In == "header" {
			req.Header.Del(c.Name)
		}
		if c.Flaw == "missing" {
			continue
		}
		if c.Flaw == "wrong" {
			value = another(value, s.opt.RunID+c.Key())
		}
		switch {
		case c.Kind == "bearer" && c.Flaw == "malformed":
			value = "Bearer no token, but words" // no token68 (RFC 9110, section 11.2)
		case c.Kind == "bearer":
			value = "Bearer " + value
		case c.Kind == "basic" && c.Flaw == "malformed":
			value = "Basic %%%"
		case c.Kind == "basic" && own:
			name, password, _ := strings.Cut(value, ":")
			req.SetBasicAuth(name, password)
			continue
		case c.Kind == "basic":
			value = "Basic " + value
		}
		switch c.In {
		case "header":
			req.Header.Set(c.Name, value)
		case "query":
			part := url.Values{c.Name: {value}}.Encode()
			if req.URL.RawQuery != "" { // the rest stays as it was planned
				part = req.URL.RawQuery + "&" + part
			}
			address := *req.URL // which other requests have, too
			address.RawQuery = part
			req.URL = &address
		case "cookie":
			req.AddCookie(&http.Cookie{Name: c.Name, Value: value})
		}
	}
}

// another is a text of the form of a credential, its letters and digits drawn anew by
// a seed: nothing of the right one can be read from it.
func another(value, seed string) string {
	draw := rand.New(rand.NewChaCha8(sha256.Sum256([]byte(seed))))
	for {
		drawn := strings.Map(func(r rune) rune {
			switch {
			case r >= '0' && r <= '9':
				return '0' + draw.Int32N(10)
			case r >= 'a' && r <= 'z', r > '~':
				return 'a' + draw.Int32N(26)
			case r >= 'A' && r <= 'Z':
				return 'A' + draw.Int32N(26)
			}
			return r
		}, value)
		if drawn != value || strings.IndexFunc(value, letterOrDigit) < 0 {
			return drawn
		}
	}
}

func letterOrDigit(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) || r > '~' }
