package render

import (
	"bufio"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"obiter/internal/core/exchange"
	"obiter/internal/core/instance"
	"obiter/internal/evaluate/judge"
	"obiter/internal/input/config"
)

// The objects of a SARIF log, version 2.1.0 (OASIS, 2020), as far as they are used.
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool        sarifTool         `json:"tool"`
		Invocations []sarifInvocation `json:"invocations"`
		ColumnKind  string            `json:"columnKind"`
		Results     []*sarifResult    `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name    string      `json:"name"`
		Version string      `json:"version"`
		Rules   []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID      string     `json:"id"`
		Short   sarifText  `json:"shortDescription"`
		Full    sarifText  `json:"fullDescription"`
		Help    sarifText  `json:"help"`
		Default sarifLevel `json:"defaultConfiguration"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifLevel struct {
		Level string `json:"level"`
	}
	sarifInvocation struct {
		Successful    bool                `json:"executionSuccessful"`
		Notifications []sarifNotification `json:"toolExecutionNotifications,omitempty"`
	}
	sarifNotification struct {
		Level   string    `json:"level"`
		Message sarifText `json:"message"`
	}
	sarifResult struct {
		Rule         string             `json:"ruleId"`
		Index        int                `json:"ruleIndex"`
		Level        string             `json:"level"`
		Message      sarifText          `json:"message"`
		Locations    []sarifLocation    `json:"locations"`
		Related      []sarifLocation    `json:"relatedLocations,omitempty"`
		Fingerprints map[string]string  `json:"partialFingerprints"`
		Occurrences  int                `json:"occurrenceCount"`
		Suppressions []sarifSuppression `json:"suppressions,omitempty"`
		Properties   sarifProperties    `json:"properties"`

		number int
	}
	sarifSuppression struct {
		Kind          string `json:"kind"`
		Status        string `json:"status"`
		Justification string `json:"justification"`
	}
	sarifProperties struct {
		Cases []string `json:"cases"`
	}
	sarifLocation struct {
		ID       int            `json:"id,omitempty"`
		Physical sarifPhysical  `json:"physicalLocation"`
		Logical  []sarifLogical `json:"logicalLocations,omitempty"`
		Message  *sarifText     `json:"message,omitempty"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   sarifRegion   `json:"region"`
	}
	sarifArtifact struct {
		URI string `json:"uri"`
	}
	sarifRegion struct {
		Line   int `json:"startLine"`
		Column int `json:"startColumn,omitempty"`
	}
	sarifLogical struct {
		Name string `json:"fullyQualifiedName"`
	}
)

// SARIF writes a result for each code, operation, field and rule, at the place of the
// description where the rule stands, the most serious first.
func SARIF(w io.Writer, r Run) error {
	s := sarif{run: r, byKey: map[sarifKey]*sarifResult{}, index: map[string]int{}}
	for _, res := range r.Results {
		for _, f := range res.Findings {
			s.add(res, f)
		}
	}
	for _, f := range r.Report.RunFindings() {
		s.add(Result{ID: f.Case, Operation: f.Operation, Number: f.Number}, f.Finding)
	}
	levels := []string{"error", "warning", "note"}
	slices.SortStableFunc(s.results, func(a, b *sarifResult) int {
		return cmp.Or(cmp.Compare(slices.Index(levels, a.Level), slices.Index(levels, b.Level)), cmp.Compare(judge.Rank(a.Rule), judge.Rank(b.Rule)), cmp.Compare(a.number, b.number))
	})
	invocation := sarifInvocation{Successful: r.Incomplete == ""}
	if r.Incomplete != "" {
		invocation.Notifications = []sarifNotification{{"error", sarifText{visible(r.Sentence())}}}
	}
	log := sarifLog{Schema: "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json", Version: "2.1.0", Runs: []sarifRun{{
		Tool: sarifTool{sarifDriver{"obiter", r.Program, s.rules}}, Invocations: []sarifInvocation{invocation}, ColumnKind: "unicodeCodePoints", Results: append([]*sarifResult{}, s.results...)}}}
	out := bufio.NewWriter(w)
	e := json.NewEncoder(out)
	e.SetEscapeHTML(false)
	e.SetIndent("", " ")
	if err := e.Encode(log); err != nil {
		return err
	}
	return out.Flush()
}

// sarif collects results.
type sarif struct {
	run     Run
	byKey   map[sarifKey]*sarifResult
	results []*sarifResult
	rules   []sarifRule
	index   map[string]int // of the rules
}

// sarifKey is what is one result.
type sarifKey struct {
	code, severity, operation, in, pointer, rule, message string
	known                                                 bool
}

// maxSarifCases bounds the cases that a result names.
const maxSarifCases = 10

func (s *sarif) add(res Result, f judge.Finding) {
	k := sarifKey{code: f.Code, severity: string(f.Severity), operation: res.Operation, in: res.Flaw.In, pointer: res.Flaw.Pointer, rule: res.Flaw.Rule, known: f.Known}
	if res.Name == "" { // of the whole run
		k.message = f.Message
	}
	if have := s.byKey[k]; have != nil {
		have.Occurrences += max(f.Count, 1)
		if len(have.Properties.Cases) < maxSarifCases {
			have.Properties.Cases = append(have.Properties.Cases, res.ID)
		}
		return
	}
	described := s.run.Report.Described(res.Operation)
	place := described.PlaceOf(k.in, k.pointer, k.rule)
	out := &sarifResult{Rule: f.Code, Index: s.rule(f.Code), Level: string(f.Severity), Message: sarifText{visible(res.Operation + ": " + f.Message + " (obiter show " + res.ID + ")")},
		Locations: []sarifLocation{s.at(place, res.Operation, res.Flaw)}, Occurrences: max(f.Count, 1), Properties: sarifProperties{[]string{res.ID}}, number: res.Number}
	out.Fingerprints = map[string]string{"obiterRule/v1": fingerprint(f.Code, k.operation, k.in, k.pointer, k.rule, k.message)}
	if f.Known {
		out.Suppressions = []sarifSuppression{{"external", "accepted", "it is in " + config.KnownFile}}
	}
	if f.Code == "accepted" {
		if other := s.run.Report.Refuses(res.Operation, res.Flaw); other != "" {
			o := s.run.Report.Described(other)
			at := s.at(o.At, other, res.Flaw)
			at.ID, at.Message = 1, &sarifText{visible(other + " rejects the same")}
			out.Related = append(out.Related, at)
		}
	}
	s.byKey[k] = out
	s.results = append(s.results, out)
}

// fingerprint tells a result from others; it is the same in every run.
func fingerprint(parts ...string) string {
	sum := sha256.Sum256([]byte(strings.Join(parts, "\n")))
	return hex.EncodeToString(sum[:16])
}

// at is a place of the description, and in words what is there.
func (s *sarif) at(place exchange.Place, operation string, f exchange.Flaw) sarifLocation {
	file, line, column := place.Parts()
	if line == 0 {
		file, line, column = s.run.Head.Description, 1, 0
	}
	what := operation
	if f.Pointer != "" {
		what += " " + f.In + " " + f.Pointer
	}
	path := filepath.ToSlash(file)
	u := url.URL{Path: path}
	if filepath.IsAbs(file) {
		u.Scheme = "file"
	}
	return sarifLocation{Physical: sarifPhysical{sarifArtifact{u.String()}, sarifRegion{line, column}}, Logical: []sarifLogical{{visible(what)}}}
}

// rule is the index of a code's rule, which is made when first needed.
func (s *sarif) rule(code string) int {
	if i, has := s.index[code]; has {
		return i
	}
	s.index[code] = len(s.rules)
	known, _ := judge.Find(code)
	r := sarifRule{ID: code, Short: sarifText{known.Title}, Full: sarifText{known.Means}, Help: sarifText{instance.OneLine(known.Means + " " + known.Matters + " " + known.Remedy)}, Default: sarifLevel{string(known.Severity)}}
	if known.Cites != "" {
		r.Help.Text += fmt.Sprintf(" (%s)", known.Cites)
	}
	s.rules = append(s.rules, r)
	return s.index[code]
}
