package cli_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestManyCausesAreCut: the gravest are printed, the rest on request, and the end
// of the report is enough to begin with.
func TestManyCausesAreCut(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/piers/7" && r.URL.Query().Get("metres") == "" {
			w.WriteHeader(http.StatusInternalServerError)
			return
		}
		_, _ = w.Write([]byte("{}"))
	}))
	defer server.Close()
	var b strings.Builder
	b.WriteString("openapi: 3.1.0\ninfo: {title: Piers, version: '1'}\npaths:\n")
	for i := range 45 {
		fmt.Fprintf(&b, "  /piers/%d:\n    get:\n      parameters: [{name: metres, in: query, required: true, schema: {type: integer}}]\n      responses: {'200': {description: ok}}\n", i)
	}
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "openapi.yaml"), []byte(b.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	count := func(text, what string) int { return strings.Count(text, "\n"+what) }
	run := obiter(t, dir, "try", "--at", server.URL, "--depth", "quick")
	run.check(t, 1, "The gravest first\n  error crashed at query metres · GET /piers/7 · show ", "")
	if n := count(run.out, "error accepted") + count(run.out, "error crashed") + count(run.out, "warning accepted"); n != 20 {
		t.Errorf("%d causes are printed:\n%s", n, run.out)
	}
	if first := strings.Index(run.out, "\nerror "); !strings.HasPrefix(run.out[first:], "\nerror crashed at query metres · ") {
		t.Errorf("the gravest is not the first: %.200s", run.out[first:])
	}
	if !strings.Contains(run.out, "These are the gravest 20; ") || !strings.Contains(run.out, " more: obiter judge --all\n") {
		t.Errorf("nothing says that there are more:\n%s", run.out)
	}
	all := obiter(t, dir, "judge", "--all")
	all.check(t, 1, "The gravest first", "")
	if n := count(all.out, "error accepted"); n < 45 || strings.Contains(all.out, "These are the gravest") {
		t.Errorf("%d causes are printed with --all", n)
	}
}
