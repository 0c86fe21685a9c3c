package draft

import (
	"encoding/json"
	"fmt"
	"math/rand"
	"testing"

	"obiter/internal/core/instance"
	"obiter/internal/core/secret"
	"obiter/internal/input/oad"
	"obiter/internal/learn/capture"
)

// odd are texts that a careless writer of YAML stumbles over.
var odd = []string{"", " ", "a: b", "- x", "#", "x # y", "'", `"`, "O'Hara-12", "{a}", "[1]", "null", "NO", "~", "1e3", "0x10", "é", "a\nb", "\u202e", "\u0000", "*a", "&a", "!t", "%", "@", "`", "a,b", "?", "|", ">", "true", "2031-05-04", "IMO9074729", "=", "<<", "C:\\quay"}

func value(r *rand.Rand, depth int) any {
	switch n := r.Intn(9); {
	case n < 3 || depth > 3:
		return odd[r.Intn(len(odd))]
	case n == 3:
		return json.Number(fmt.Sprint(r.Intn(2000) - 1000))
	case n == 4:
		return json.Number(fmt.Sprintf("%d.%02d", r.Intn(50), r.Intn(100)))
	case n == 5:
		return r.Intn(2) == 0
	case n == 6:
		return nil
	case n == 7:
		list := []any{}
		for range r.Intn(4) {
			list = append(list, value(r, depth+1))
		}
		return list
	}
	out := map[string]any{}
	for range r.Intn(5) {
		out[odd[r.Intn(len(odd))]] = value(r, depth+1)
	}
	return out
}

// TestWhateverIsSeenCanBeRead: of any bodies, addresses and answers comes a description
// that can be read, and the same again for the same.
func TestWhateverIsSeenCanBeRead(t *testing.T) {
	for seed := range int64(300) {
		first := ""
		for range 2 {
			r := rand.New(rand.NewSource(seed))
			d := New(&secret.Set{})
			var list []capture.Exchange
			for range 12 {
				x := sent("POST /tugs/" + []string{"12", "a b", "%7B", "x:y", "né"}[r.Intn(5)] + " 201")
				x.Body = instance.Encode(value(r, 0))
				x.Headers = append(x.Headers, [2]string{"Content-Type", "application/json"})
				if x.Answer.Status = []int{201, 422, 400}[r.Intn(3)]; r.Intn(2) == 0 {
					x.Answer.Header.Set("Content-Type", "application/json")
					x.Answer.Body = instance.Encode(value(r, 0))
				}
				x.URL += "?" + "q%20" + fmt.Sprint(r.Intn(2)) + "=%22%3A%20"
				list = append(list, x)
				d.See(x)
			}
			d.Settle()
			for _, refused := range []bool{false, true} {
				for _, x := range list {
					d.AddIf(x, "odd # name.har", refused)
				}
			}
			text := written(t, d)
			if first == "" {
				first = text
			} else if text != first {
				t.Fatalf("seed %d: another draft of the same:\n%s\n%s", seed, first, text)
			}
			if _, err := oad.Read("draft.yaml", []byte(text)); err != nil {
				t.Fatalf("seed %d: %v\n%s", seed, err, text)
			}
			if t.Failed() {
				t.Fatalf("seed %d", seed)
			}
		}
	}
}
