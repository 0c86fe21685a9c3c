package cli

import (
	"encoding/json"
	"io"
	"slices"
	"strings"
	"sync"
)

// redacted stands where a secret stood.
const redacted = "[not kept]"

// redactor takes secrets out of what is written. It is safe for concurrent use.
type redactor struct {
	mu       sync.Mutex
	secrets  []string
	replacer *strings.Replacer
}

// learn adds secrets; each is looked for as it is, and as JSON writes it.
func (r *redactor) learn(secrets []string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, s := range secrets {
		// A body stands in a run file as JSON in JSON, and may quote JSON itself.
		for range 4 {
			if s != "" && !slices.Contains(r.secrets, s) {
				r.secrets, r.replacer = append(r.secrets, s), nil
			}
			var b strings.Builder
			e := json.NewEncoder(&b)
			e.SetEscapeHTML(false)
			if e.Encode(s) != nil {
				break
			}
			s = strings.TrimSuffix(strings.TrimPrefix(strings.TrimSpace(b.String()), `"`), `"`)
		}
	}
}

func (r *redactor) text(s string) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.secrets) == 0 {
		return s
	}
	if r.replacer == nil {
		// The longest first, so that none is left in half.
		slices.SortStableFunc(r.secrets, func(a, b string) int { return len(b) - len(a) })
		var pairs []string
		for _, s := range r.secrets {
			pairs = append(pairs, s, redacted)
		}
		r.replacer = strings.NewReplacer(pairs...)
	}
	return r.replacer.Replace(s)
}

// writer takes secrets out of whole writes.
func (r *redactor) writer(w io.Writer) io.Writer { return redactingWriter{r, w} }

type redactingWriter struct {
	r *redactor
	w io.Writer
}

func (w redactingWriter) Write(p []byte) (int, error) {
	if _, err := io.WriteString(w.w, w.r.text(string(p))); err != nil {
		return 0, err
	}
	return len(p), nil
}
