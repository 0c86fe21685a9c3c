package cli_test

import (
	"encoding/csv"
	"encoding/json"
	"maps"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"obiter/internal/harbour"
)

// TestMessages: what the service says of each field and rule is listed, and the block for
// obiter.yaml holds it to that: the same words are right, others are told with both.
func TestMessages(t *testing.T) {
	t.Parallel()
	office, err := harbour.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	var reworded atomic.Pointer[strings.Replacer]
	reworded.Store(strings.NewReplacer())
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		rec := httptest.NewRecorder()
		office.ServeHTTP(rec, r)
		maps.Copy(w.Header(), rec.Header())
		w.Header().Del("Content-Length")
		w.WriteHeader(rec.Code)
		_, _ = w.Write([]byte(reworded.Load().Replace(rec.Body.String())))
	}))
	defer server.Close()
	dir := folder(t)
	args := []string{"try", "--at", server.URL, "--only", "POST /vessels", "--only", "GET /vessels"}
	obiter(t, dir, args...).check(t, 0, "0 wrong", "")
	o := obiter(t, dir, "messages")
	o.check(t, 0, "POST /vessels\n  /name           required                422  is required\n", "")
	for _, want := range []string{"  query limit        type          400  must be a whole number from 1 to 100\n", "  /labels/*       minLength               422  must have at least 1 characters\n", "  the request     empty-body              400  This operation needs a body.\n",
		"Worded in several ways, the field's name, numbers and quoted values put aside\n", "  minimum: 2 ways\n    “must be a whole number from 1 to 100”  show "} {
		if !strings.Contains(o.out, want) {
			t.Errorf("%q is not in\n%s", want, o.out)
		}
	}
	if strings.Contains(o.out, "  required: ") || strings.Contains(o.out, "  enum: ") {
		t.Errorf("what is worded in one way, or has to differ, stands out:\n%s", o.out)
	}
	rows, err := csv.NewReader(strings.NewReader(obiter(t, dir, "messages", "--format", "csv").out)).ReadAll()
	if err != nil || len(rows) < 50 || strings.Join(rows[0], " ") != "operation in field rule status message answers wordings case" {
		t.Errorf("%d rows, %v", len(rows), err)
	}
	var doc struct {
		Obiter   int
		Messages []struct {
			Operation, Field, Rule, Words string
			Status, Count                 int
		}
	}
	if err := json.Unmarshal([]byte(obiter(t, dir, "messages", "--format", "json").out), &doc); err != nil || doc.Obiter != 1 || len(doc.Messages) != len(rows)-1 || doc.Messages[0].Words == "" {
		t.Errorf("%d messages, %v", len(doc.Messages), err)
	}
	block := obiter(t, dir, "messages", "--as-config")
	block.check(t, 0, "messages:\n  /limit:\n    type: must be a whole number from 1 to 100\n", "")
	put(t, dir, "obiter.yaml", block.out)
	obiter(t, dir, args...).check(t, 0, "0 wrong", "")
	reworded.Store(strings.NewReplacer("must have at least 2 characters", "is much too short"))
	obiter(t, dir, args...).check(t, 1, "the message is “is much too short”; it must match ^must have at least 2 characters$", "")
	reworded.Store(strings.NewReplacer("must be at most 400", "must be lower", "must be at least 0.1", "", "is required", "=1+1"))
	obiter(t, dir, args...)
	o = obiter(t, dir, "messages")
	o.check(t, 0, "must be lower  (no limit is named)\n", "")
	if !strings.Contains(o.out, "minimum                 422  (nothing is said)\n") && !strings.Contains(o.out, "Some fields of the request are not as they should be.  (no limit is named)") {
		t.Errorf("an empty message does not stand out:\n%s", o.out)
	}
	if o = obiter(t, dir, "messages", "--format", "csv"); strings.Contains(o.out, ",=1+1") || !strings.Contains(o.out, ",'=1+1") {
		t.Errorf("a formula is in the table:\n%.600s", o.out)
	}
	for hint, args := range map[string][]string{"use text, csv or json": {"--format", "xml"}, "it prints YAML": {"--as-config", "--format", "csv"}, "make one with: obiter try": {"nowhere.ndjson"}} {
		obiter(t, dir, append([]string{"messages"}, args...)...).check(t, 2, "", hint)
	}
}
