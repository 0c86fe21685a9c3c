package render

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"

	"obiter/internal/evaluate/judge"
)

// The elements of a JUnit report as the CI systems read them. There is no standard of it;
// the names and attributes are those of the Ant task that began it, which all of them have
// in common.
type (
	junitSuites struct {
		XMLName  xml.Name      `xml:"testsuites"`
		Name     string        `xml:"name,attr"`
		Tests    int           `xml:"tests,attr"`
		Failures int           `xml:"failures,attr"`
		Errors   int           `xml:"errors,attr"`
		Skipped  int           `xml:"skipped,attr"`
		Time     string        `xml:"time,attr"`
		Suites   []*junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Name      string      `xml:"name,attr"`
		Tests     int         `xml:"tests,attr"`
		Failures  int         `xml:"failures,attr"`
		Errors    int         `xml:"errors,attr"`
		Skipped   int         `xml:"skipped,attr"`
		Time      string      `xml:"time,attr"`
		Timestamp string      `xml:"timestamp,attr,omitempty"`
		Cases     []junitCase `xml:"testcase"`
		seconds   float64
	}
	junitCase struct {
		Class   string        `xml:"classname,attr"`
		Name    string        `xml:"name,attr"`
		Time    string        `xml:"time,attr"`
		Failure *junitFailure `xml:"failure,omitempty"`
		Error   *junitFailure `xml:"error,omitempty"`
		Skipped *junitSkipped `xml:"skipped,omitempty"`
	}
	junitFailure struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr"`
		Text    string `xml:",cdata"`
	}
	junitSkipped struct {
		Message string `xml:"message,attr"`
	}
)

// JUnit writes a suite for each operation and a test for each case. What is unproven or
// known is skipped, with the reason; what only the whole run shows is a test of its own, and so is
// that the run is complete, if it is not.
func JUnit(w io.Writer, r Run) error {
	all := junitSuites{Name: visible("obiter: " + r.Head.Description)}
	suites := map[string]*junitSuite{}
	suite := func(operation string) *junitSuite {
		s := suites[operation]
		if s == nil {
			s = &junitSuite{Name: visible(operation), Timestamp: strings.TrimSuffix(r.Head.Started, "Z")}
			suites[operation] = s
			all.Suites = append(all.Suites, s)
		}
		return s
	}
	if r.Incomplete != "" {
		s := suite("the run")
		s.Tests, s.Errors = 1, 1
		s.Cases = append(s.Cases, junitCase{Class: "the run", Name: "complete", Time: "0.000", Error: &junitFailure{visible(r.Incomplete), "incomplete", visible(r.Sentence())}})
	}
	for _, res := range r.Results {
		s := suite(res.Operation)
		c := junitCase{Class: visible(res.Operation), Name: visible(res.Name + " [" + res.ID + "]"), Time: fmt.Sprintf("%.3f", res.Seconds)}
		switch f := mostSerious(res.Findings); {
		case res.Verdict == judge.Unproven:
			c.Skipped = &junitSkipped{"unproven: the operation's valid request was refused"}
			if f != nil {
				c.Skipped.Message = visible("unproven: " + f.Message)
			}
			s.Skipped++
		case res.Verdict != judge.Pass && res.Known():
			c.Skipped = &junitSkipped{visible("known: " + f.Code + ": " + f.Message)}
			s.Skipped++
		case res.Verdict != judge.Pass && f != nil:
			c.Failure = failure(res, *f)
			s.Failures++
		}
		s.Tests++
		s.seconds += res.Seconds
		s.Cases = append(s.Cases, c)
	}
	for _, f := range r.Report.RunFindings() {
		if f.Finding.Severity != judge.Error || f.Finding.Known {
			continue
		}
		s := suite(f.Operation)
		s.Tests, s.Failures = s.Tests+1, s.Failures+1
		s.Cases = append(s.Cases, junitCase{Class: visible(f.Operation), Name: visible("the whole run: " + f.Finding.Code + " [" + f.Case + "]"), Time: "0.000",
			Failure: &junitFailure{visible(f.Finding.Message), f.Finding.Code, visible("Look at one answer: obiter show " + f.Case)}})
	}
	total := 0.0
	for _, s := range all.Suites {
		s.Time = fmt.Sprintf("%.3f", s.seconds)
		all.Tests, all.Failures, all.Errors, all.Skipped, total = all.Tests+s.Tests, all.Failures+s.Failures, all.Errors+s.Errors, all.Skipped+s.Skipped, total+s.seconds
	}
	all.Time = fmt.Sprintf("%.3f", total)
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(all); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}

// failure says in short what obiter show says in full.
func failure(res Result, f judge.Finding) *junitFailure {
	var b strings.Builder
	fmt.Fprintf(&b, "%s\nanswered: %s\n", res.Sent, res.Answered)
	for _, f := range res.Findings {
		fmt.Fprintf(&b, "%s %s: %s\n", f.Severity, f.Code, f.Message)
		if f.Cites != "" {
			fmt.Fprintf(&b, "  %s\n", f.Cites)
		}
	}
	fmt.Fprintf(&b, "In full: obiter show %s\n", res.ID)
	return &junitFailure{visible(f.Message), f.Code, visible(b.String())}
}
