package instance

import (
	"fmt"
	"net/url"
	"strings"
)

// escape and unescape are of one token (RFC 6901, sections 3 and 4).
func escape(token string) string {
	return strings.ReplaceAll(strings.ReplaceAll(token, "~", "~0"), "/", "~1")
}

func unescape(token string) string {
	return strings.ReplaceAll(strings.ReplaceAll(token, "~1", "/"), "~0", "~")
}

// wellFormed reports whether a text is a JSON Pointer.
func wellFormed(pointer string) bool {
	if pointer == "" {
		return true
	}
	for i := strings.IndexByte(pointer, '~'); i >= 0; {
		rest := pointer[i+1:]
		if rest == "" || rest[0] != '0' && rest[0] != '1' {
			return false
		}
		next := strings.IndexByte(rest, '~')
		if next < 0 {
			break
		}
		i += 1 + next
	}
	return pointer[0] == '/'
}

// first takes the first token off a pointer that is well formed, and not empty.
func first(pointer string) (token, rest string) {
	token = pointer[1:]
	if i := strings.IndexByte(token, '/'); i >= 0 {
		token, rest = token[:i], token[i:]
	}
	if strings.IndexByte(token, '~') >= 0 {
		token = unescape(token)
	}
	return token, rest
}

// Join adds tokens to a JSON Pointer, escaped as RFC 6901, section 3, says.
func Join(pointer string, tokens ...string) string {
	size := len(pointer)
	for _, t := range tokens {
		size += 1 + len(t)
	}
	var b strings.Builder
	b.Grow(size)
	b.WriteString(pointer)
	for _, t := range tokens {
		b.WriteByte('/')
		if strings.IndexByte(t, '~') >= 0 || strings.IndexByte(t, '/') >= 0 {
			t = escape(t)
		}
		b.WriteString(t)
	}
	return b.String()
}

// AppendPointer is Join for a buffer.
func AppendPointer(b []byte, tokens ...string) []byte {
	for _, t := range tokens {
		b = append(b, '/')
		if strings.IndexByte(t, '~') >= 0 || strings.IndexByte(t, '/') >= 0 {
			t = escape(t)
		}
		b = append(b, t...)
	}
	return b
}

// Split takes a JSON Pointer apart into unescaped tokens. The empty pointer has
// none. A pointer that does not begin with "/", or has a "~" before anything
// but 0 and 1, is an error.
func Split(pointer string) ([]string, error) {
	if pointer == "" {
		return nil, nil
	}
	tokens, err := AppendSplit(make([]string, 0, strings.Count(pointer, "/")), pointer)
	if err != nil {
		return nil, err
	}
	return tokens, nil
}

// AppendSplit is Split that adds the tokens to others.
func AppendSplit(tokens []string, pointer string) ([]string, error) {
	switch {
	case pointer == "":
		return tokens, nil
	case pointer[0] != '/':
		return tokens, fmt.Errorf("%q is not a JSON Pointer: it does not begin with /", pointer)
	case !wellFormed(pointer):
		return tokens, fmt.Errorf("%q is not a JSON Pointer: a ~ is followed by neither 0 nor 1", pointer)
	}
	for token := ""; pointer != ""; {
		token, pointer = first(pointer)
		tokens = append(tokens, token)
	}
	return tokens, nil
}

// Fragment writes a pointer as a URI fragment with its "#" (RFC 6901, section 6).
func Fragment(pointer string) string {
	u := url.URL{Fragment: pointer}
	if pointer == "" {
		return "#"
	}
	return u.String()
}

// Parent is the pointer without its last token; of the empty pointer, itself.
func Parent(pointer string) string {
	if i := strings.LastIndexByte(pointer, '/'); i >= 0 {
		return pointer[:i]
	}
	return ""
}

// Last is the last token, unescaped; of the empty pointer, "".
func Last(pointer string) string {
	last := pointer[strings.LastIndexByte(pointer, '/')+1:]
	if strings.IndexByte(last, '~') < 0 {
		return last
	}
	return unescape(last)
}

// Within reports whether pointer is ancestor or lies inside it.
func Within(pointer, ancestor string) bool {
	return pointer == ancestor || strings.HasPrefix(pointer, ancestor+"/")
}

// AnyIndex is a pointer with * for the numbers of entries; what is no pointer stays as
// it is.
func AnyIndex(pointer string) string {
	if !strings.ContainsAny(pointer, "0123456789") {
		return pointer
	}
	tokens, err := Split(pointer)
	if err != nil {
		return pointer
	}
	for i, t := range tokens {
		if strings.Trim(t, "0123456789") == "" && t != "" {
			tokens[i] = "*"
		}
	}
	return Join("", tokens...)
}
