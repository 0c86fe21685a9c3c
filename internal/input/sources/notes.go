package sources

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"obiter/internal/core/instance"
	"obiter/internal/input/document"
	"obiter/internal/input/oad"
)

// Note is an entry that a configuration could have.
type Note struct {
	Section string // the key at the top that it belongs under
	Key     string // what it is an entry for
	Line    string // the entry in YAML
	Why     string // may be empty
}

// Text is the entry as a comment of the file has it.
func (n Note) Text() string {
	text := instance.OneLine(n.Line)
	if n.Why != "" {
		text += "   # " + document.Comment(n.Why)
	}
	return text
}

// Noted is a configuration with notes as comments at their places: above what the file
// says of the same, else at the beginning of the section, else at the end of the file.
// Notes that are there already are not repeated; it gives how many are new. What the
// file says stays the same.
func Noted(name string, src []byte, notes []Note) ([]byte, int, error) {
	tree, err := document.Read(name, src)
	if err != nil {
		return nil, 0, err
	}
	lines := strings.SplitAfter(string(src), "\n")
	if last := len(lines) - 1; lines[last] == "" {
		lines = lines[:last]
	} else {
		lines[last] += "\n"
	}
	type comment struct {
		before int // the line, from 0
		text   string
	}
	sections := []string{"credentials", "headers", "fixtures", "operations"}
	notes = slices.SortedStableFunc(slices.Values(notes), func(a, b Note) int {
		return cmp.Compare(slices.Index(sections, a.Section), slices.Index(sections, b.Section))
	})
	var comments []comment
	added := 0
	appended := map[string]bool{}
	for _, n := range notes {
		if strings.Contains(string(src), n.Text()) || slices.ContainsFunc(comments, func(c comment) bool { return strings.Contains(c.text, n.Text()) }) {
			continue
		}
		added++
		at := "/" + n.Section
		section, has := instance.Get(tree.Value, at)
		if !has {
			head := ""
			if !appended[n.Section] {
				head = "\n# " + n.Section + ":\n"
			}
			appended[n.Section] = true
			comments = append(comments, comment{len(lines), head + "#   " + n.Text() + "\n"})
			continue
		}
		own := instance.Join(at, n.Key)
		line, column := tree.At(at)
		if object, is := section.(map[string]any); is && object[n.Key] != nil {
			line, column = tree.At(own)
		} else if first := firstEntry(tree, at, section); first > line {
			line, column = first, 3
		}
		comments = append(comments, comment{line - 1, strings.Repeat(" ", max(column-1, 0)) + "# " + n.Text() + "\n"})
	}
	slices.SortStableFunc(comments, func(a, b comment) int { return cmp.Compare(a.before, b.before) })
	var b strings.Builder
	for i := 0; i <= len(lines); i++ {
		for _, c := range comments {
			if c.before == i {
				b.WriteString(c.text)
			}
		}
		if i < len(lines) {
			b.WriteString(lines[i])
		}
	}
	out := []byte(b.String())
	again, err := document.Read(name, out)
	if err != nil || !instance.Equal(again.Value, tree.Value) {
		return nil, 0, errors.New("the comments would change what " + name + " says")
	}
	return out, added, nil
}

// firstEntry is the line of the first entry of a section; 0 where it has none.
func firstEntry(tree *document.File, at string, section any) int {
	key := ""
	switch section := section.(type) {
	case map[string]any:
		if names := tree.Names(at); len(names) > 0 {
			key = names[0]
		}
	case []any:
		if len(section) > 0 {
			key = "0"
		}
	}
	if key == "" {
		return 0
	}
	line, _ := tree.At(instance.Join(at, key))
	return line
}

// Owns reports whether the value of an operation's path parameter is that of a record
// which a fixture makes, or is named for the operation.
func (c *Sources) Owns(operation, parameter string) bool {
	s, ok := c.source(operation, parameter, nil)
	return ok && s.own()
}

// FixtureFor is a fixture that would make the record which a path parameter names, in
// YAML's flow style; false where the description does not show how.
func (c *Sources) FixtureFor(doc *oad.Document, o oad.Operation, parameter string) (string, bool) {
	f, ok := c.implied(doc, byAddress(doc), o.Path, parameter)
	if !ok {
		return "", false
	}
	var kept []string
	for _, name := range instance.Names(anyOf(f.Keep)) {
		kept = append(kept, document.Scalar(name)+": "+document.Scalar(f.Keep[name]))
	}
	text := fmt.Sprintf("{ name: %s, send: %s, body: {}, keep: { %s }", document.Scalar(f.Name), document.Scalar(f.Send), strings.Join(kept, ", "))
	if f.Undo != "" {
		text += ", undo: " + document.Scalar(f.Undo)
	}
	return text + " }", true
}
