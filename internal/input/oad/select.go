package oad

import (
	"fmt"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// SelectionError is a pattern or tag that picks nothing.
type SelectionError struct {
	Option  string // --only or --tag
	Value   string
	Choices []string // what there is to pick from
}

func (e *SelectionError) Error() string {
	return fmt.Sprintf("%s %q matches no operation of the description", e.Option, e.Value)
}

// Selection picks operations.
type Selection struct {
	Only, Skip []string // globs
	Tags       []string
	// Within are the only operations that are selected, by their names; nil: all are.
	Within map[string]bool
}

// Select picks some of all operations, in their order. A pattern of Only or a tag that matches none
// is a *SelectionError.
func (opt Selection) Select(all []Operation) ([]Operation, error) {
	matchesAny := func(globs []string, o Operation) bool {
		return slices.ContainsFunc(globs, func(g string) bool { return matches(g, o) })
	}
	for _, g := range opt.Only {
		if !slices.ContainsFunc(all, func(o Operation) bool { return matches(g, o) }) {
			return nil, &SelectionError{"--only", g, names(all)}
		}
	}
	for _, tag := range opt.Tags {
		if !slices.ContainsFunc(all, func(o Operation) bool { return slices.Contains(o.Tags, tag) }) {
			return nil, &SelectionError{"--tag", tag, tags(all)}
		}
	}
	var out []Operation
	for _, o := range all {
		tagged := len(opt.Tags) == 0 || slices.ContainsFunc(opt.Tags, func(t string) bool { return slices.Contains(o.Tags, t) })
		if opt.Within != nil && !opt.Within[o.Name()] {
			continue
		}
		if tagged && (len(opt.Only) == 0 || matchesAny(opt.Only, o)) && !matchesAny(opt.Skip, o) {
			out = append(out, o)
		}
	}
	return out, nil
}

func names(all []Operation) []string {
	var out []string
	for _, o := range all {
		out = append(out, o.Name())
	}
	return out
}

func tags(all []Operation) []string {
	var out []string
	for _, o := range all {
		for _, t := range o.Tags {
			if !slices.Contains(out, t) {
				out = append(out, t)
			}
		}
	}
	slices.Sort(out)
	return out
}

// Matches tests an operation by its name against a glob.
func Matches(glob, operation string) bool {
	method, path, _ := strings.Cut(operation, " ")
	return matches(glob, Operation{Method: method, Path: path})
}

// matches tests an operation against a glob: a method and a path, either with
// "*" (in a path: within one segment, "**": across them; a path of "*" is any).
// A glob without a space is a path where it begins with "/", else an operationId.
func matches(glob string, o Operation) bool {
	method, path, two := strings.Cut(strings.TrimSpace(glob), " ")
	if !two {
		if strings.HasPrefix(method, "/") {
			return globbed(method, o.Path)
		}
		return globbed(method, o.ID) && o.ID != ""
	}
	path = strings.TrimSpace(path)
	return globbed(strings.ToUpper(method), o.Method) && (path == "*" || globbed(path, o.Path))
}

// globbed matches as doublestar does; what only it treats as special (braces are in
// every template) is itself.
func globbed(glob, s string) bool {
	if below, is := strings.CutSuffix(glob, "/**"); is {
		glob = below + "/**/*" // what is below, and not the collection itself
	}
	ok, err := doublestar.Match(plainBraces.Replace(glob), s)
	return err == nil && ok
}

var plainBraces = strings.NewReplacer(`\`, `\\`, "{", `\{`, "}", `\}`, "[", `\[`, "]", `\]`, "?", `\?`)

// SkipsNothing are the patterns of Skip that match no operation.
func SkipsNothing(all []Operation, skip []string) []string {
	return slices.DeleteFunc(slices.Clone(skip), func(glob string) bool {
		return slices.ContainsFunc(all, func(o Operation) bool { return matches(glob, o) })
	})
}
