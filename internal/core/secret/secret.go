// Package secret keeps the values that may not be written anywhere: credentials,
// headers, and what the environment holds for the configuration. It takes them
// out of exchanges before these are written, value by value, so that what is written
// can still be read: out of the strings of a JSON body, the parts of an address, the
// values of a form, headers, and texts. There a secret is found as it is, as JSON writes
// it, percent-encoded, or in base64.
//
// Each secret leaves a mark with its own name, so that two of them are still told
// apart. One of fewer than six characters would be found everywhere: it is taken out
// only where it is a whole value.
package secret

import (
	"encoding/base64"
	"maps"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"
)

// shortest is how long a secret has to be, in characters, to be looked for inside of texts.
const shortest = 6

// Set is a set of secrets. Its zero value is empty; it is safe for concurrent use.
type Set struct {
	mu    sync.RWMutex
	names map[string]string // by secret
	words []string          // of the secrets: those that may be names of fields
	views map[string]*view  // by the words that it leaves alone
}

// leastLine is how long a line of a secret has to be, in bytes, to be one by itself.
const leastLine = 8

// Learn adds a secret under the name that its mark shows. Of one with several lines, such as a key
// in PEM, each line is one, too.
func (s *Set) Learn(name, value string) {
	if value == "" {
		return
	}
	if strings.Contains(value, "\n") {
		for line := range strings.Lines(value) {
			if line = strings.TrimSpace(line); len(line) >= leastLine && !strings.HasPrefix(line, "-----") {
				s.Learn(name, line)
			}
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, known := s.names[value]; known {
		return
	}
	if s.names == nil {
		s.names = map[string]string{}
	}
	s.names[value], s.views = name, nil
	if word.MatchString(value) {
		s.words = append(s.words, value)
		slices.Sort(s.words)
	}
}

// word is what a name of a field may look like.
var word = regexp.MustCompile(`^[A-Za-z_]{1,24}$`)

// publicHeaders are headers of requests whose values tell nothing of whoever sends them
// (RFC 9110, sections 7.2, 8, 10.1 and 12.5; RFC 7240), and stand in answers too.
var publicHeaders = []string{"Accept", "Accept-Charset", "Accept-Encoding", "Accept-Language", "Cache-Control", "Connection", "Content-Language", "Content-Type", "Host", "Prefer", "Te", "User-Agent"}

// LearnHeader adds the value of a header, and what it is made of: the part after
// the scheme, the name and password of a basic credential, the values of cookies.
func (s *Set) LearnHeader(name, value string) {
	if slices.Contains(publicHeaders, http.CanonicalHeaderKey(name)) {
		return
	}
	s.Learn(name, value)
	if scheme, rest, ok := strings.Cut(value, " "); ok && strings.EqualFold(name, "Authorization") {
		s.Learn(name, strings.TrimSpace(rest))
		if strings.EqualFold(scheme, "basic") {
			s.learnPassword(name, value)
		}
	}
	if strings.EqualFold(name, "Cookie") {
		cookies, _ := http.ParseCookie(value)
		for _, c := range cookies {
			s.Learn("cookie "+c.Name, c.Value)
		}
	}
}

func (s *Set) learnPassword(name, value string) {
	r := http.Request{Header: http.Header{"Authorization": {value}}}
	if _, password, ok := r.BasicAuth(); ok {
		s.Learn(name, password)
	}
}

// LearnKept adds a value that was kept of an answer: of one that sets a cookie, what it sets.
func (s *Set) LearnKept(name, value string) {
	s.Learn(name, value)
	if c, err := http.ParseSetCookie(value); err == nil && strings.Contains(value, "=") {
		s.Learn(name, c.Value)
	}
}

// LearnCredential adds what a security scheme is sent with: a token, a key, or
// for basic "name:password".
func (s *Set) LearnCredential(scheme, value string) {
	s.Learn(scheme, value)
	if _, password, ok := strings.Cut(value, ":"); ok {
		s.Learn(scheme, password)
		s.Learn(scheme, base64.StdEncoding.EncodeToString([]byte(value)))
	}
}

// Short are the names of the secrets that are only taken out where they are a whole value.
func (s *Set) Short() []string {
	s.mu.RLock()
	defer s.mu.RUnlock()
	var out []string
	for value, name := range s.names {
		if short(value) {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func short(value string) bool { return utf8.RuneCountInString(value) < shortest }

// Redact is a text with all secrets taken out.
func (s *Set) Redact(text string) string { return s.view(nil).text(text) }

// maxViews bounds the views that are kept.
const maxViews = 256

// view finds the secrets of a set but for words that mean something else where it looks.
func (s *Set) view(without []string) *view {
	key := strings.Join(without, " ")
	s.mu.RLock()
	v := s.views[key]
	s.mu.RUnlock()
	if v != nil {
		return v
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	names := maps.Clone(s.names)
	for _, w := range without {
		delete(names, w)
	}
	v = newView(names)
	if s.views == nil || len(s.views) >= maxViews {
		s.views = map[string]*view{}
	}
	s.views[key] = v
	return v
}
