package config

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"obiter/internal/core/suggest"
	"obiter/internal/input/document"
)

// Known is a cause that a team knows, which is counted apart: what it covers, and no more.
type Known struct {
	Code       string
	Families   []string // of the rules that are broken; none: the code has no families
	Operations []string
	Fields     []string // /name of a body, query limit; WholeRequest for what is of no field
	At         string   // the place in the answer; empty: any
	Reason     string
	Until      string // the last day on which it is known, as 2027-01-31; empty: for good
	Line       int
	Comment    string // what was seen, for those who read the file
}

// WholeRequest stands among the fields of a Known for what is of no field.
const WholeRequest = "(the request)"

// KnownFile is where known causes are written, next to obiter.yaml. OldKnownFile is where earlier
// versions had them, which is still read.
const (
	KnownFile    = "obiter.known.yaml"
	OldKnownFile = "obiter.accepted.yaml"
)

// ReadKnown reads a file of known causes. The name serves messages; codes are those that
// there are. An entry that is there twice is read once; twice tells of the second. Errors are
// *document.Error.
func ReadKnown(name string, src []byte, codes []string) (list []Known, twice []*document.Error, err error) {
	tree, err := document.ReadWithin(name, src, maxKnown)
	if err != nil {
		return nil, nil, err
	}
	top, ok := tree.Value.(map[string]any)
	if !ok {
		return nil, nil, tree.Fail("", "it begins with known: and has an entry a cause; obiter known writes it", "the file of known causes is not an object")
	}
	r := reader{tree}
	var file struct {
		Known    []knownKeys
		Accepted []knownKeys // as it was called in OldKnownFile
	}
	all := []error{r.into("", top, &file)}
	if len(top) == 0 {
		all = append(all, r.tree.Fail("", "write known: and an entry a cause, as obiter known does", "the file names no cause"))
	}
	seen := map[string]int{}
	for i, e := range append(file.Known, file.Accepted...) {
		at := fmt.Sprintf("/known/%d", i)
		if i >= len(file.Known) {
			at = fmt.Sprintf("/accepted/%d", i-len(file.Known))
		}
		k, err := r.knownCause(at, e, codes)
		all = append(all, err)
		if was, has := seen[k.key()]; err == nil && has {
			var again *document.Error
			if errors.As(tree.Fail(at, fmt.Sprintf("line %d has the same; delete one", was), "the entry is there twice"), &again) {
				twice = append(twice, again)
			}
			continue
		}
		seen[k.key()] = k.Line
		list = append(list, k)
	}
	if err := document.Join(all...); err != nil {
		return nil, nil, err
	}
	return list, twice, nil
}

// Merged are known causes in their order, each once.
func Merged(list []Known) []Known {
	seen := map[string]bool{}
	var out []Known
	for _, k := range list {
		k.Families, k.Operations, k.Fields = slices.Sorted(slices.Values(k.Families)), slices.Sorted(slices.Values(k.Operations)), slices.Sorted(slices.Values(k.Fields))
		if !seen[k.key()] {
			out = append(out, k)
		}
		seen[k.key()] = true
	}
	return out
}

// maxKnown bounds what the aliases of a file of known causes come to when each is written out:
// enough for 50,000 entries of some fields each.
const maxKnown = 5_000_000

// key is what a cause covers.
func (k Known) key() string {
	return fmt.Sprintf("%q %q %q %q %q", k.Code, k.Families, k.Operations, k.Fields, k.At)
}

// knownKeys are the keys of a Known.
type knownKeys struct {
	Code                         string
	Families, Operations, Fields []string
	At, Reason, Until            string
}

func (r reader) knownCause(at string, keys knownKeys, codes []string) (Known, error) {
	k := Known{Code: keys.Code, Families: slices.Sorted(slices.Values(keys.Families)), Operations: slices.Sorted(slices.Values(keys.Operations)), Fields: slices.Sorted(slices.Values(keys.Fields)), At: keys.At, Reason: keys.Reason, Until: keys.Until}
	k.Line, _ = r.tree.At(at)
	var all []error
	if !slices.Contains(codes, k.Code) {
		hint := "obiter explain lists the codes"
		if near, ok := suggest.Name(k.Code, codes); ok {
			hint = "did you mean " + near + "?"
		}
		all = append(all, r.tree.Fail(at+"/code", hint, "%q is not the code of a finding", k.Code))
	}
	if len(k.Operations) == 0 {
		all = append(all, r.tree.Fail(at, "name them under operations:", "the entry names no operation"))
	}
	if _, err := time.Parse(time.DateOnly, k.Until); k.Until != "" && err != nil {
		all = append(all, r.tree.Fail(at+"/until", "write a day as 2027-01-31", "%q is not a date", k.Until))
	}
	return k, document.Join(all...)
}

// Covers reports whether the entry is about a finding.
func (k Known) Covers(code, operation, field, family, at string) bool {
	return k.Code == code && slices.Contains(k.Operations, operation) && slices.Contains(k.Fields, field) &&
		(len(k.Families) == 0 && family == "" || slices.Contains(k.Families, family)) && (k.At == "" || k.At == at)
}

// WriteKnown writes known causes as a person would, in their order.
func WriteKnown(list []Known) string {
	list = Merged(list)
	var b strings.Builder
	b.WriteString("# What is known to be wrong. Obiter counts it apart, and does not fail for it. An entry covers what\n# it names and nothing else: another field, family of rules, operation or code is new. Take an entry\n# out when it is fixed; obiter try says when it no longer occurs. Write a reason: and until: a day.\nknown:\n")
	if len(list) == 0 {
		return strings.TrimSuffix(b.String(), "\n") + " []\n"
	}
	lines := func(key string, values []string) {
		if len(values) == 0 {
			return
		}
		fmt.Fprintf(&b, "    %s:\n", key)
		for _, v := range values {
			fmt.Fprintf(&b, "      - %s\n", document.Scalar(v))
		}
	}
	for _, k := range list {
		b.WriteByte('\n')
		if k.Comment != "" {
			fmt.Fprintf(&b, "  # %s\n", document.Comment(k.Comment))
		}
		fmt.Fprintf(&b, "  - code: %s\n", document.Scalar(k.Code))
		lines("families", k.Families)
		lines("operations", k.Operations)
		lines("fields", k.Fields)
		for _, m := range [][2]string{{"at", k.At}, {"reason", k.Reason}, {"until", k.Until}} {
			if m[1] != "" {
				text := document.Scalar(m[1])
				if m[0] == "until" { // a date is text only in quotes
					text = `"` + m[1] + `"`
				}
				fmt.Fprintf(&b, "    %s: %s\n", m[0], text)
			}
		}
	}
	return b.String()
}
