// Command mutation changes the code that decides (who owns a record, what is wrong with an answer,
// where it names fields, what is proved) in small ways, one at a time, runs the tests that should
// notice, and prints the changes that none did. The same seed gives the same changes. The tree is
// not touched: changed files are laid over it.
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// target is code, and the tests that should notice a change of it.
type target struct {
	files []string // globs
	tests [][]string
}

var owners = []string{"./internal/execute/trial", "-run", "NobodyIsHarmed$|Restored|OfSomebodyElse|WhatDecides|RefusedAndStored"}

var targets = []target{
	{[]string{"internal/target/fixture/ledger.go", "internal/target/fixture/verify.go", "internal/target/fixture/sweep.go", "internal/target/fixture/undo.go", "internal/target/fixture/chosen.go", "internal/target/fixture/reach.go", "internal/target/fixture/rename.go", "internal/target/fixture/put.go", "internal/target/fixture/stored.go"}, [][]string{{"./internal/target/fixture"}, owners}},
	{[]string{"internal/input/sources/ownership.go", "internal/input/sources/reach.go"}, [][]string{{"./internal/input/sources"}, {"./internal/target/fixture"}, owners}},
	{[]string{"internal/core/exchange/variable.go"}, [][]string{{"./internal/core/exchange"}, {"./internal/target/fixture"}}},
	{[]string{"internal/evaluate/judge/judge.go", "internal/evaluate/judge/blame.go", "internal/evaluate/judge/reach.go", "internal/evaluate/judge/consistency.go"}, [][]string{{"./internal/evaluate/judge"}, {"./internal/execute/trial", "-run", "Layouts|Faults"}}},
	{[]string{"internal/evaluate/layout/*.go"}, [][]string{{"./internal/evaluate/layout"}, {"./internal/evaluate/judge"}, {"./internal/execute/trial", "-run", "Layouts"}}},
	{[]string{"internal/generate/flaw/flaw.go"}, [][]string{{"./internal/generate/flaw"}}},
	{[]string{"internal/generate/plan/reach.go"}, [][]string{{"./internal/generate/plan"}, owners}},
}

// change is one: a part of a file and what takes its place.
type change struct {
	file     string
	from, to int // offsets
	text     string
	line     int
	was      string
	tests    [][]string
}

func main() {
	n := flag.Int("n", 100, "how many changes are made")
	seed := flag.Uint64("seed", 1, "which")
	only := flag.String("only", "", "only files whose names contain this")
	each := flag.Duration("timeout", 3*time.Minute, "for the tests of one change")
	flag.Parse()
	if err := os.Chdir(".."); err != nil { // the module of these scripts is a folder of the other
		fail(err)
	}
	var all []change
	for _, t := range targets {
		for _, glob := range t.files {
			files, err := filepath.Glob(glob)
			if err != nil || len(files) == 0 {
				fail(fmt.Errorf("there is no %s here: run it with go -C scripts run ./mutation", glob))
			}
			for _, file := range files {
				if strings.HasSuffix(file, "_test.go") || !strings.Contains(file, *only) {
					continue
				}
				found, err := changes(file, t.tests)
				if err != nil {
					fail(err)
				}
				all = append(all, found...)
			}
		}
	}
	rng := rand.New(rand.NewPCG(*seed, 0))
	rng.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	all = all[:min(*n, len(all))]
	survived, invalid := 0, 0
	for i, c := range all {
		switch noticed, valid, err := try(c, *each); {
		case err != nil:
			fail(err)
		case !valid:
			invalid++
		case !noticed:
			survived++
			fmt.Printf("survives: %s:%d  %s  ->  %s\n", c.file, c.line, c.was, c.text)
		}
		fmt.Fprintf(os.Stderr, "\r%d of %d, %d survive, %d do not compile ", i+1, len(all), survived, invalid)
	}
	fmt.Fprintln(os.Stderr)
	fmt.Printf("%d changes, of which %d do not compile: %d survive\n", len(all), invalid, survived)
}

func fail(err error) {
	fmt.Fprintln(os.Stderr, err)
	os.Exit(1)
}

// other are what stands in place of an operator.
var other = map[token.Token]string{token.LAND: "||", token.LOR: "&&", token.EQL: "!=", token.NEQ: "==", token.LSS: "<=", token.LEQ: "<", token.GTR: ">=", token.GEQ: ">", token.ADD: "-", token.SUB: "+"}

// changes are those that a file can have: operators, conditions that are turned round, numbers, and
// what true and false are.
func changes(file string, tests [][]string) ([]change, error) {
	src, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	set := token.NewFileSet()
	tree, err := parser.ParseFile(set, file, src, 0)
	if err != nil {
		return nil, err
	}
	var out []change
	add := func(from, to token.Pos, text string) {
		a, b := set.Position(from), set.Position(to)
		out = append(out, change{file: file, from: a.Offset, to: b.Offset, text: text, line: a.Line, was: string(src[a.Offset:b.Offset]), tests: tests})
	}
	ast.Inspect(tree, func(node ast.Node) bool {
		switch node := node.(type) {
		case *ast.GenDecl:
			return node.Tok != token.IMPORT && node.Tok != token.CONST
		case *ast.BinaryExpr:
			if text, is := other[node.Op]; is {
				add(node.OpPos, node.OpPos+token.Pos(len(node.Op.String())), text)
			}
		case *ast.IfStmt:
			if _, binary := node.Cond.(*ast.BinaryExpr); !binary {
				add(node.Cond.Pos(), node.Cond.End(), "!("+string(src[set.Position(node.Cond.Pos()).Offset:set.Position(node.Cond.End()).Offset])+")")
			}
		case *ast.BasicLit:
			if node.Kind == token.INT && len(node.Value) < 3 {
				add(node.Pos(), node.End(), node.Value+"+1")
			}
		case *ast.Ident:
			if node.Name == "true" || node.Name == "false" {
				add(node.Pos(), node.End(), map[string]string{"true": "false", "false": "true"}[node.Name])
			}
		}
		return true
	})
	return out, nil
}

// try tells whether a test notices a change; valid is false where it does not compile.
func try(c change, timeout time.Duration) (noticed, valid bool, err error) {
	dir, err := os.MkdirTemp("", "mutation-")
	if err != nil {
		return false, false, err
	}
	defer os.RemoveAll(dir)
	src, err := os.ReadFile(c.file)
	if err != nil {
		return false, false, err
	}
	changed := filepath.Join(dir, "changed.go")
	overlay := filepath.Join(dir, "overlay.json")
	at, err := filepath.Abs(c.file)
	if err != nil {
		return false, false, err
	}
	text, err := json.Marshal(map[string]map[string]string{"Replace": {at: changed}})
	if err == nil {
		err = os.WriteFile(overlay, text, 0o600)
	}
	if err == nil {
		err = os.WriteFile(changed, slices.Concat(src[:c.from], []byte(c.text), src[c.to:]), 0o600)
	}
	if err != nil {
		return false, false, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), timeout)
	defer cancel()
	if exec.CommandContext(ctx, "go", "build", "-overlay", overlay, "./"+filepath.Dir(c.file)).Run() != nil {
		return false, false, nil
	}
	for _, test := range c.tests {
		cmd := exec.CommandContext(ctx, "go", append([]string{"test", "-count=1", "-failfast", "-overlay", overlay}, test...)...)
		cmd.WaitDelay = time.Second
		if cmd.Run() != nil { // what never ends is noticed, too
			return true, true, nil
		}
	}
	return false, true, nil
}
