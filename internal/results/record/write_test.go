package record

import (
	"encoding/json"
	"net/http"
	"reflect"
	"testing"
	"time"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
)

// fill puts something into every member of a value, so that none is forgotten.
func fill(v reflect.Value, n *int) {
	*n++
	switch v.Kind() {
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		fill(v.Elem(), n)
	case reflect.Struct:
		if v.Type() == reflect.TypeFor[time.Time]() {
			v.Set(reflect.ValueOf(time.Unix(int64(*n), 0).UTC()))
			return
		}
		for i := range v.NumField() {
			if v.Field(i).CanSet() {
				fill(v.Field(i), n)
			}
		}
	case reflect.Slice:
		if v.Type() == reflect.TypeFor[json.RawMessage]() {
			v.SetBytes([]byte(`{"a":[1,"\n"]}`))
			return
		}
		v.Set(reflect.MakeSlice(v.Type(), 2, 2))
		fill(v.Index(0), n)
		fill(v.Index(1), n)
	case reflect.Array:
		for i := range v.Len() {
			fill(v.Index(i), n)
		}
	case reflect.Map:
		key, value := reflect.New(v.Type().Key()).Elem(), reflect.New(v.Type().Elem()).Elem()
		fill(key, n)
		fill(value, n)
		v.Set(reflect.MakeMap(v.Type()))
		v.SetMapIndex(key, value)
	case reflect.String:
		v.SetString("quay \"7\" <é>\n\\\x01 " + string(rune('a'+*n%26)))
	case reflect.Int, reflect.Int64:
		v.SetInt(int64(*n) * 1000)
	case reflect.Uint8:
		v.SetUint(uint64('a' + *n%26))
	case reflect.Float64:
		v.SetFloat(float64(*n) / 8)
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Interface:
		if v.NumMethod() == 0 {
			v.Set(reflect.ValueOf("any"))
		}
	}
}

// TestLinesAreWrittenWhole: as encoding/json writes them, with every member, and with none.
func TestLinesAreWrittenWhole(t *testing.T) {
	var full caseLine
	n := 0
	fill(reflect.ValueOf(&full).Elem(), &n)
	base64 := full
	base64.Request.Body = []byte{0xff, 0}
	base64.Response = &exchange.Answer{Status: 201, Body: []byte{0xfe}, Header: http.Header{"B": {"2"}, "A": {"1", "\xff"}}}
	if n < 60 {
		t.Errorf("only %d members", n)
	}
	for _, l := range []caseLine{full, base64, {}, {Findings: &[]judge.Finding{}, Case: exchange.Case{Flaws: []exchange.Flaw{}}, Response: &exchange.Answer{Took: 1234567 * time.Nanosecond}}} {
		got, err := l.append(nil)
		if err != nil {
			t.Fatal(err)
		}
		want, err := instance.Marshal(l)
		if err != nil {
			t.Fatal(err)
		}
		if string(got) != string(want) {
			i := 0
			for i < min(len(got), len(want)) && got[i] == want[i] {
				i++
			}
			t.Errorf("written is, after %q,\n%.200s\nand should be\n%.200s", want[max(0, i-40):i], got[i:], want[i:])
		}
	}
}

// BenchmarkWrite writes lines of cases.
func BenchmarkWrite(b *testing.B) {
	list := results()
	var line []byte
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		var err error
		r := &list[i%len(list)]
		if line, err = Written(line[:0], &r.Exchange, r.Verdict, r.Findings); err != nil {
			b.Fatal(err)
		}
	}
}
