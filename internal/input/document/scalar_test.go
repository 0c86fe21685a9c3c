package document

import (
	"testing"
	"unicode/utf8"
)

// FuzzScalar: whatever text is written as a scalar, as a value or as a name, is read again.
func FuzzScalar(f *testing.F) {
	for _, text := range []string{"", "quay", "a\u2028b", "\u2029", "\u0085", "GE T /quays", "yes", "1.0", "- x", "a: b", "# c", "'", "\"", "~", "\ufeff", "{a}", "\t", "x\n", " "} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if !utf8.ValidString(text) {
			return
		}
		file, err := Read("f.yaml", []byte("a: "+Scalar(text)+"\n"+Scalar("key "+text)+": 1\n"))
		if err != nil {
			t.Fatalf("%q is written as %s: %v", text, Scalar(text), err)
		}
		top, _ := file.Value.(map[string]any)
		if _, has := top["key "+text]; top["a"] != text || !has {
			t.Errorf("%q is read as %v", text, top)
		}
	})
}
