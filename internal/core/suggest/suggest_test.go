package suggest

import "testing"

func TestTheNearestName(t *testing.T) {
	choices := []string{"survey", "cases", "allow_hosts", "POST /vessels"}
	for written, want := range map[string]string{
		"surve": "survey", "SURVEY": "survey", "allow-hosts": "allow_hosts", "post /vesels": "POST /vessels", "casse": "cases",
		"entirely different": "", "": "",
	} {
		got, ok := Name(written, choices)
		if ok != (want != "") || ok && got != want {
			t.Errorf("%q: %q, %v; want %q", written, got, ok, want)
		}
	}
	if got, ok := Name("x", nil); ok {
		t.Errorf("of nothing, %q is near", got)
	}
}
