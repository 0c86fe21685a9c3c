package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"

	"obiter/internal/exchange"
	"obiter/internal/flaw"
)

// caseID is ten hexadecimal digits from the operation, the fields, the rules
// and the variants, and never from values: it survives a new seed, another
// example, another machine.
func caseID(operation string, kind exchange.Kind, identity []flaw.Flaw) string {
	h := sha256.New()
	fmt.Fprintf(h, "%s\n%s\n", operation, kind)
	for _, f := range identity {
		fmt.Fprintf(h, "%s\x00%s\x00%s\x00%s\n", f.In, f.Pointer, f.Rule, f.Variant)
	}
	return hex.EncodeToString(h.Sum(nil)[:5])
}

// digest tells equal requests: same method, address, headers and body, and the
// same wrong with the credentials.
func digest(r exchange.Request, credentials []exchange.Credential) [32]byte {
	n := len(r.Method) + len(r.URL) + len(r.Body) + 8
	for _, h := range r.Headers {
		n += len(h[0]) + len(h[1]) + 2
	}
	b := make([]byte, 0, n)
	b = append(append(append(append(b, r.Method...), ' '), r.URL...), '\n')
	for _, h := range r.Headers {
		b = append(append(append(append(b, h[0]...), ':'), h[1]...), '\n')
	}
	for _, c := range credentials {
		b = append(append(b, c.Flaw...), ' ')
	}
	return sha256.Sum256(append(b, r.Body...))
}
