package session

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"obiter/internal/core/secret"
	"obiter/internal/core/usage"
	"obiter/internal/input/document"
	"obiter/internal/learn/capture"
	"obiter/internal/learn/draft"
)

// Drafting is what a draft is made of.
type Drafting struct {
	captures Captures // archives, and curl lines
	curls    map[int][]capture.Exchange
	samples  []sampled
	bare     []string // operations without a body
}

// sampled is a file that belongs to an operation.
type sampled struct {
	operation, name string
	value           any
	schema          bool
}

// operationName is how an operation is named among the arguments.
var operationName = regexp.MustCompile(`^(GET|POST|PUT|PATCH|DELETE|QUERY) (/\S*)$`)

// DraftedFrom sorts files and operations, as a command line names them. Standard input, named -, is
// stored in the folder.
func DraftedFrom(args []string, in io.Reader, folder string) (*Drafting, error) {
	out := &Drafting{curls: map[int][]capture.Exchange{}}
	operation := ""
	used := true
	for _, arg := range args {
		if operationName.MatchString(arg) {
			if !used {
				return nil, usage.New(fmt.Sprintf("no file follows %q", operation), "name the samples of an operation after it")
			}
			operation, used = arg, false
			if method, _, _ := strings.Cut(arg, " "); method == "GET" || method == "DELETE" { // without a body
				out.bare, used = append(out.bare, arg), true
			}
			continue
		}
		if arg != "-" && strings.Contains(arg, " ") {
			if _, err := os.Stat(arg); err != nil {
				return nil, usage.New(fmt.Sprintf("%q is neither a file nor an operation", arg), "write an operation as 'POST /vessels'")
			}
		}
		if err := draftFile(out, arg, operation, in, folder); err != nil {
			return nil, err
		}
		used = true
	}
	if !used {
		return nil, usage.New(fmt.Sprintf("no file follows %q", operation), "name the samples of an operation after it")
	}
	return out, nil
}

// draftFile looks what a file is.
func draftFile(out *Drafting, name, operation string, in io.Reader, folder string) error {
	file := name
	if name == "-" {
		file = filepath.Join(folder, "standard-input")
		if err := SaveInput(in, file); err != nil {
			return err
		}
	}
	f, err := OpenInput(file)
	if err != nil {
		return err
	}
	defer f.Close()
	sort := capture.Detect(f)
	if sort == capture.RunFile {
		return usage.New(name+" is a run file", "write it as an archive first: obiter report --out capture.har, then draft from that")
	}
	if sort == capture.IsArchive {
		out.captures.Add(name, file, sort)
		return nil
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	src, err := io.ReadAll(io.LimitReader(f, MaxDocument+1))
	if err != nil || len(src) > MaxDocument {
		return usage.New(name+" is too large for a sample", "a sample is one body; save captures as HAR 1.2")
	}
	if tree, err := document.Read(name, src); err == nil && !IsScript(src) {
		s := sampled{operation, name, tree.Value, isSchema(tree.Value)}
		if operation == "" && !s.schema {
			return usage.New(fmt.Sprintf("of which operation is %s a sample?", name), "name it first: obiter draft 'POST /vessels' "+"'"+name+"'")
		}
		out.samples = append(out.samples, s)
		return nil
	} else if !IsScript(src) {
		return err
	}
	found, err := capture.Curl(src, func(other string) ([]byte, error) { return readBeside(name, other) })
	if err != nil {
		return usage.New(fmt.Sprintf("cannot read %s: %v", name, err), "correct the command line there")
	}
	if len(found) == 0 {
		return usage.New(name+" has no curl command line in it", "draft reads HTTP archives (HAR 1.2), curl lines, and sample bodies after their operation")
	}
	out.curls[len(out.captures.Names)] = found
	out.captures.Add(name, file, capture.Unknown)
	return nil
}

// curlLine tells a script with curl lines from a document.
var curlLine = regexp.MustCompile(`(?m)^\s*(\$\s*)?curl\s`)

// IsScript reports whether a text has curl command lines.
func IsScript(src []byte) bool { return curlLine.Match(src) }

// readBeside reads a file that another names, relative to that.
func readBeside(name, other string) ([]byte, error) {
	if !filepath.IsAbs(other) {
		other = filepath.Join(filepath.Dir(name), other)
	}
	f, err := OpenInput(other)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, MaxDocument))
}

// OpenInput opens a file that a draft is made of.
func OpenInput(name string) (*os.File, error) {
	return OpenRegular(name, name, usage.New("there is no file "+name, "name a capture, a sample or a schema"))
}

// isSchema reports whether a value is a JSON Schema, and not a sample.
func isSchema(v any) bool {
	m, is := v.(map[string]any)
	if !is {
		return false
	}
	if _, says := m["$schema"].(string); says {
		return true
	}
	_, typed := m["type"].(string)
	_, properties := m["properties"].(map[string]any)
	return typed && properties
}

// Draft makes the draft, of what was sent to a server; empty: to the one that answered most.
func (from *Drafting) Draft(at string, secrets *secret.Set) (*draft.Draft, error) {
	d := draft.New(secrets)
	d.Prefer(at)
	each := func(left capture.Left, visit func(x capture.Exchange, name string)) error {
		for i, name := range from.captures.Names {
			if list, is := from.curls[i]; is {
				for _, x := range list {
					visit(x, name)
				}
				continue
			}
			var one Captures
			one.Add(name, from.captures.Files[i], capture.IsArchive)
			if err := one.Source(left, func(x capture.Exchange) bool { visit(x, name); return true }); err != nil {
				return err
			}
		}
		return nil
	}
	if err := each(capture.Left(d.Left), func(x capture.Exchange, _ string) {
		LearnSecrets(secrets, x)
		d.See(x)
	}); err != nil {
		return nil, err
	}
	d.Settle()
	for _, refused := range []bool{false, true} {
		if err := each(capture.Left{}, func(x capture.Exchange, name string) { d.AddIf(x, name, refused) }); err != nil {
			return nil, err
		}
	}
	for _, operation := range from.bare {
		method, template, _ := strings.Cut(operation, " ")
		d.Named(method, template, "the command line")
	}
	for _, s := range from.samples {
		name := strings.TrimSuffix(filepath.Base(s.name), filepath.Ext(s.name))
		if object, is := s.value.(map[string]any); is && s.schema {
			d.SchemaOf(draft.Schema{Operation: s.operation, Name: name, Value: object, From: s.name})
			continue
		}
		method, template, _ := strings.Cut(s.operation, " ")
		d.Sample(method, template, s.value, s.name)
	}
	return d, nil
}
