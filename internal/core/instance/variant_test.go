package instance

import (
	"bytes"
	"testing"
)

const berth = `{"name":"North \"quay\"","moorings":[{"at":1,"free":true},{"at":2.50,"free":false}],"depth":{"low":8,"high":12e0},"notes":[],"flags":{},"owner":null}`

// What shares parts with a value is written as if it shared none.
func TestVariantsAreEncodedAsAll(t *testing.T) {
	v, err := Decode([]byte(berth))
	if err != nil {
		t.Fatal(err)
	}
	variants := NewVariants(v)
	check := func(other any) {
		t.Helper()
		if got, want := variants.Encode(other), Encode(other); !bytes.Equal(got, want) {
			t.Errorf("%s, and not %s", got, want)
		}
	}
	check(v)
	for _, pointer := range []string{"", "/name", "/moorings", "/moorings/0", "/moorings/1/free", "/moorings/2", "/depth/low", "/depth/mean", "/notes", "/notes/0", "/flags/a", "/owner", "/aft", "/zone", "/n"} {
		for _, value := range []any{nil, "text", true, []any{}, []any{"a"}, map[string]any{}, map[string]any{"free": nil, "zone": []any{}}, []any(nil), map[string]any(nil)} {
			other, ok := Set(v, pointer, value)
			if !ok {
				t.Fatalf("%s cannot be set", pointer)
			}
			check(other)
			if other, ok = Remove(other, pointer); ok {
				check(other)
			}
		}
	}
}

func FuzzVariants(f *testing.F) {
	f.Add(berth, `{"moorings":[{"at":1}],"depth":{"low":8,"mean":9},"a":1}`)
	f.Add(`[]`, `{}`)
	f.Fuzz(func(t *testing.T, of, other string) {
		a, err := Decode([]byte(of))
		b, e := Decode([]byte(other))
		if err != nil || e != nil {
			return
		}
		if got, want := NewVariants(a).Encode(b), Encode(b); !bytes.Equal(got, want) {
			t.Fatalf("%s, and not %s", got, want)
		}
	})
}
