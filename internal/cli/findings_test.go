package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
)

// TestManyCausesAreCut: the most serious are printed, the rest on request, and the end
// of the report is enough to begin with.
func TestManyCausesAreCut(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/piers/7" || r.URL.Query().Get("metres") == "" {
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
	run.check(t, 1, "The gravest first\n  error crashed (left out) at query metres · GET /piers/7 · show ", "")
	if n := count(run.out, "error ") + count(run.out, "warning "); n != 20 {
		t.Errorf("%d causes are printed:\n%s", n, run.out)
	}
	if first := strings.Index(run.out, "\nerror "); !strings.HasPrefix(run.out[first:], "\nerror crashed (left out) at query metres · ") {
		t.Errorf("the gravest is not the first: %.200s", run.out[first:])
	}
	if !strings.Contains(run.out, "These are the gravest 20; ") || !strings.Contains(run.out, " more: obiter judge --all\n") {
		t.Errorf("nothing says that there are more:\n%s", run.out)
	}
	all := obiter(t, dir, "judge", "--all")
	all.check(t, 1, "The gravest first", "")
	if n := count(all.out, "error control-rejected"); n != 44 || strings.Contains(all.out, "These are the gravest") {
		t.Errorf("%d causes are printed with --all", n)
	}
}

// TestALayoutOfItsOwn tries a service that answers as the harbour does, but with
// another media type and other members.
func TestALayoutOfItsOwn(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	own := translated(t, serve(t, "bare-rejection"))
	put(t, dir, "obiter.yaml", "description: openapi.yaml\nerrors: { media_type: application/json }\n")
	run := obiter(t, dir, "try", "--at", own, "--only", "/vessels/**", "--only", "/vessels")
	run.check(t, 1, "Rejections are application/json by configuration", "")
	if strings.Contains(run.out, "not-problem") || strings.Contains(run.out, "odd-layout") || !strings.Contains(run.out, "\nerror no-field-errors at ") || !strings.Contains(run.out, "Fields are named at faults[*].where, as names, ") {
		t.Error(run.out)
	}
	if again := obiter(t, dir, "judge"); !strings.Contains(again.out, "Rejections are application/json by configuration") || strings.Contains(again.out, "not-problem") {
		t.Error(again.out)
	}
	id := regexp.MustCompile(`show ([0-9a-f]{10})`).FindStringSubmatch(run.out)
	obiter(t, dir, "show", id[1]).check(t, 0, "expected   400 or 422, as application/json that names the field\n", "")
	put(t, dir, "obiter.yaml", "description: openapi.yaml\n")
	obiter(t, dir, "try", "--at", own, "--only", "/vessels").check(t, 1, "error not-problem", "")
}

// translated is a service in front of another that rewrites its problem documents.
func translated(t *testing.T, address string) string {
	t.Helper()
	target, err := url.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	proxy := httputil.NewSingleHostReverseProxy(target)
	proxy.ModifyResponse = func(r *http.Response) error {
		if r.Header.Get("Content-Type") != "application/problem+json" {
			return nil
		}
		var doc struct {
			Detail string
			Errors []struct{ Pointer, Detail string }
		}
		if err := json.NewDecoder(r.Body).Decode(&doc); err != nil {
			return err
		}
		faults := []map[string]string{}
		for _, e := range doc.Errors {
			where := strings.ReplaceAll(strings.TrimPrefix(e.Pointer, "#/"), "/", ".")
			faults = append(faults, map[string]string{"where": where, "text": e.Detail})
		}
		body, err := json.Marshal(map[string]any{"said": doc.Detail, "faults": faults})
		if err != nil {
			return err
		}
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("Content-Length", strconv.Itoa(len(body)))
		r.ContentLength, r.Body = int64(len(body)), io.NopCloser(bytes.NewReader(body))
		return nil
	}
	server := httptest.NewServer(proxy)
	t.Cleanup(server.Close)
	return server.URL
}

// TestLongValuesAreFolded: and what is wrong with a parameter is marked where it is.
func TestLongValuesAreFolded(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	at := serve(t)
	obiter(t, dir, "try", "--at", at, "--only", "GET /vessels", "--only", "POST /berth-bookings", "--rule", "length", "--rule", "bounds").check(t, 0, ", 0 wrong", "")
	run, err := os.ReadFile(lastRun(t, dir))
	if err != nil {
		t.Fatal(err)
	}
	id := func(name string) string {
		m := regexp.MustCompile(`"case":"([0-9a-f]{10})","name":"` + regexp.QuoteMeta(name) + `"`).FindSubmatch(run)
		if m == nil {
			t.Fatalf("no case %s", name)
		}
		return string(m[1])
	}
	long := id("/purpose maxLength far-above")
	short := obiter(t, dir, "show", long)
	short.check(t, 0, "  (and 2,800 more characters: --whole)", "")
	if whole := obiter(t, dir, "show", long, "--whole"); strings.Contains(whole.out, "more characters") || len(whole.out) < len(short.out)+2000 {
		t.Errorf("%d characters, and whole %d", len(short.out), len(whole.out))
	}
	obiter(t, dir, "show", id("query /limit maximum just-above")).check(t, 0, "    # query limit: 101; at most 100 is allowed\n", "")
}
