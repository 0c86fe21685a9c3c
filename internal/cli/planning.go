package cli

import (
	"fmt"
	"net/url"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"obiter/internal/flaw"
	"obiter/internal/oad"
	"obiter/internal/plan"
)

// planFlags are the options of every command that plans.
func planFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{Name: "only", Usage: "only operations that match `GLOB`, such as 'PUT *' or '* /vessels/**' (repeatable)"},
		&cli.StringSliceFlag{Name: "skip", Usage: "leave out operations that match `GLOB` (repeatable)"},
		&cli.StringSliceFlag{Name: "tag", Usage: "only operations with this `TAG` (repeatable)"},
		&cli.StringFlag{Name: "depth", Value: "usual", Usage: "how many variants of each flaw: quick, usual or deep"},
		&cli.IntFlag{Name: "budget", Usage: "at most `NUMBER` cases an operation beside its controls: each rule once before any twice"},
		&cli.Uint64Flag{Name: "seed", Usage: "another `NUMBER` gives other values; case ids stay"},
	}
}

var depths = map[string]flaw.Depth{"quick": flaw.Quick, "usual": flaw.Usual, "deep": flaw.Deep}

// usualNames are looked for where no description is named.
var usualNames = []string{"openapi.yaml", "openapi.yml", "openapi.json"}

// description reads the one that a command names, or the usual one in the current folder.
func (a *app) description(c *cli.Command) (*oad.Document, error) {
	if c.Args().Len() > 1 {
		return nil, usage(fmt.Sprintf("one description is read at a time, and %q is a second argument", c.Args().Get(1)), "quote a value that has blanks in it")
	}
	name := c.Args().First()
	if name == "" {
		for _, n := range usualNames {
			if _, err := os.Stat(n); err == nil {
				name = n
				break
			}
		}
	}
	if name == "" {
		return nil, usage("no description is named, and there is no "+strings.Join(usualNames, ", ")+" in this folder", "name the OpenAPI document: "+c.FullName()+" openapi.yaml")
	}
	doc, err := oad.Open(name)
	if err != nil {
		return nil, err
	}
	for _, w := range doc.Warnings {
		fmt.Fprintln(a.streams.Err, "warning: "+clean(w))
	}
	return doc, nil
}

// planOptions reads the options of planFlags.
func planOptions(c *cli.Command, base string) (plan.Options, error) {
	depth, ok := depths[c.String("depth")]
	if !ok {
		return plan.Options{}, usage(fmt.Sprintf("--depth %q is not known", c.String("depth")), "quick, usual and deep are")
	}
	if c.Int("budget") < 0 {
		return plan.Options{}, usage(fmt.Sprintf("--budget %d is less than nothing", c.Int("budget")), "name a number of cases, or leave it out for all")
	}
	return plan.Options{Budget: c.Int("budget"), Base: base, Only: c.StringSlice("only"), Skip: c.StringSlice("skip"), Tags: c.StringSlice("tag"), Depth: depth, Seed: c.Uint64("seed")}, nil
}

// address checks the URL that a service is said to be at.
func address(text string) (*url.URL, error) {
	fail := func(problem string) (*url.URL, error) {
		return nil, usage(fmt.Sprintf("--at %q %s", text, problem), "write it with scheme and host, such as http://localhost:8080")
	}
	u, err := url.Parse(text)
	switch {
	case err != nil && !strings.Contains(text, "://"), err == nil && u.Scheme != "http" && u.Scheme != "https":
		return fail("has no scheme http or https")
	case err != nil:
		return fail("is not a URL")
	case u.Hostname() == "":
		return fail("names no host")
	case u.RawQuery != "" || u.Fragment != "":
		return fail("has a query or fragment, which no path can follow")
	case u.User != nil:
		return fail("holds a user name; credentials go into --header")
	}
	return u, nil
}
