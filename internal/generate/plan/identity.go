package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"hash/maphash"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
)

// caseID is ten hexadecimal digits from the operation, the fields, the rules
// and the variants, and never from values: it survives a new seed, another
// example, another machine.
func caseID(operation string, kind exchange.Kind, identity []exchange.Flaw) string {
	if len(identity) > 1 && identity[len(identity)-1].Variant == "empty-object" { // whose order is that of the description
		identity = slices.SortedStableFunc(slices.Values(identity), func(a, b exchange.Flaw) int { return strings.Compare(a.Pointer, b.Pointer) })
	}
	b := make([]byte, 0, 256)
	b = append(append(append(append(b, operation...), '\n'), kind...), '\n')
	for _, f := range identity {
		for i, s := range []string{f.In, f.Pointer, f.Rule, f.Variant} {
			b = append(append(b, s...), "\x00\x00\x00\n"[i])
		}
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:5])
}

// seeds make two hashes of 64 bits, which no two requests of a plan share by chance.
var seeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}

// digest tells equal requests: same method, address, headers and body, and the
// same wrong with the credentials. It holds for one process alone.
func digest(r exchange.Request, credentials []exchange.Credential) (sum [2]uint64) {
	for i, seed := range seeds {
		var h maphash.Hash
		h.SetSeed(seed)
		write := func(s string, after byte) {
			h.WriteString(s)
			h.WriteByte(after)
		}
		write(r.Method, ' ')
		write(r.URL, '\n')
		for _, header := range r.Headers {
			write(header[0], ':')
			write(header[1], '\n')
		}
		for _, c := range credentials {
			write(c.Flaw, ' ')
		}
		h.Write(r.Body)
		sum[i] = h.Sum64()
	}
	return sum
}
