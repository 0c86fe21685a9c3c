package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/core/rule"
	"obiter/internal/core/suggest"
	"obiter/internal/core/usage"
	"obiter/internal/execute/trial"
	"obiter/internal/generate/flaw"
	"obiter/internal/generate/plan"
	"obiter/internal/input/document"
	"obiter/internal/input/oad"
	"obiter/internal/input/sources"
)

func configFlag() cli.Flag {
	return &cli.StringFlag{Name: "config", Usage: "read the configuration from `FILE` (default: obiter.yaml, if it exists)"}
}

// planFlags are the options of every command that plans.
func planFlags() []cli.Flag {
	return []cli.Flag{
		configFlag(),
		&cli.StringSliceFlag{Name: "only", Usage: "only operations that match `GLOB`, such as 'PUT *' or '* /vessels/**' (repeatable)"},
		&cli.StringSliceFlag{Name: "skip", Usage: "leave out operations that match `GLOB` (repeatable)"},
		&cli.StringSliceFlag{Name: "tag", Usage: "only operations with this `TAG` (repeatable)"},
		&cli.StringSliceFlag{Name: "rule", Usage: "break only this `RULE`, by its name or that of its family, such as maxLength or bounds (repeatable)"},
		&cli.StringSliceFlag{Name: "without", Usage: "do not break this `RULE` (repeatable)"},
		&cli.StringFlag{Name: "depth", Value: "usual", Usage: "how many variants of each flaw: quick, usual or deep"},
		&cli.IntFlag{Name: "budget", Usage: "limit cases per operation to `NUMBER` (controls not counted); every rule of each field once before any twice (default: 60 in quick runs, 300 in usual ones, no limit in deep ones)"},
		&cli.Uint64Flag{Name: "seed", Usage: "seed for generated values; case ids do not change"},
	}
}

var depths = map[string]flaw.Depth{"quick": flaw.Quick, "usual": flaw.Usual, "deep": flaw.Deep}

// usualNames are looked for where no description is named.
var usualNames = []string{"openapi.yaml", "openapi.yml", "openapi.json"}

// maxConfig is the size of the largest configuration read, in bytes.
const maxConfig = 4 << 20

// configured reads the configuration: the one that is named, or obiter.yaml in
// the current folder; none is an empty one.
func (a *app) configured(c *cli.Command) (*sources.Sources, error) {
	name := c.String("config")
	if name == "" {
		if _, err := os.Stat(configFile); err != nil {
			return sources.Read(configFile, []byte("{}"), os.LookupEnv)
		}
		name = configFile
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, usage.New(fmt.Sprintf("cannot read the configuration %s: %v", name, errors.Unwrap(err)), "name a file that exists")
	}
	defer f.Close()
	src, err := io.ReadAll(io.LimitReader(f, maxConfig))
	if err != nil {
		return nil, usage.New(fmt.Sprintf("cannot read the configuration %s: %v", name, err), "name a file")
	}
	if len(bytes.TrimSpace(src)) == 0 {
		src = []byte("{}")
	}
	conf, err := sources.Read(name, src, os.LookupEnv)
	if err != nil {
		return nil, err
	}
	for name, value := range conf.Secrets(nil) {
		a.secrets.Learn(name, value)
	}
	return conf, nil
}

// prepared is what every command that plans begins with: the configuration, and
// the description that goes with it.
func (a *app) prepared(c *cli.Command) (*sources.Sources, *oad.Document, error) {
	conf, err := a.configured(c)
	if err != nil {
		return nil, nil, err
	}
	doc, err := a.description(c, conf.Description)
	if err != nil {
		return nil, nil, err
	}
	var names []string
	for _, o := range doc.Operations {
		names = append(names, o.Name())
	}
	var schemes []string
	for _, s := range doc.Schemes() {
		schemes = append(schemes, s.Name)
	}
	if err := document.Join(conf.CheckOperations(names), conf.CheckSchemes(schemes)); err != nil {
		return nil, nil, err
	}
	conf.Imply(doc)
	for option, globs := range map[string][]string{"--skip": c.StringSlice("skip"), "skip: in the configuration:": conf.Skip} {
		for _, glob := range oad.SkipsNothing(doc.Operations, globs) {
			fmt.Fprintf(a.streams.Err, "warning: %s %q matches no operation\n", option, terminal.Clean(glob))
		}
	}
	return conf, doc, nil
}

// description reads the one that a command names, or the configuration, or the
// usual one in the current folder.
func (a *app) description(c *cli.Command, configured string) (*oad.Document, error) {
	if c.Args().Len() > 1 {
		return nil, usage.New(fmt.Sprintf("unexpected argument %q: one description is read at a time", c.Args().Get(1)), "quote a value that contains spaces")
	}
	name := c.Args().First()
	if name == "" {
		name = configured
	}
	if name == "" {
		name = usualName()
	}
	if name == "" {
		return nil, usage.New("no description: none is named, and this folder has no "+strings.Join(usualNames, ", "), "name the OpenAPI document: "+c.FullName()+" openapi.yaml")
	}
	return a.openDescription(name)
}

// openDescription reads a description, and tells what was read otherwise than it is written.
func (a *app) openDescription(name string) (*oad.Document, error) {
	doc, err := oad.Open(name)
	if err != nil {
		return nil, err
	}
	for _, w := range doc.Warnings {
		fmt.Fprintln(a.streams.Err, "warning: "+a.redacted(w))
	}
	return doc, nil
}

// usualName is the description in the current folder that has a usual name; "" where
// there is none.
func usualName() string {
	for _, n := range usualNames {
		if _, err := os.Stat(n); err == nil {
			return n
		}
	}
	return ""
}

// planOptions reads the options of planFlags, and what the configuration says where
// they say nothing.
func planOptions(c *cli.Command, conf *sources.Sources, base string) (plan.Options, error) {
	depth, ok := depths[c.String("depth")]
	if !ok {
		return plan.Options{}, usage.New(fmt.Sprintf("invalid value %q for --depth", c.String("depth")), "use quick, usual or deep")
	}
	if c.Int("budget") < 0 {
		return plan.Options{}, usage.New(fmt.Sprintf("invalid value \"%d\" for --budget", c.Int("budget")), "use a number of cases, or leave it out for all")
	}
	budget := c.Int("budget")
	if !c.IsSet("budget") {
		budget = budgets[depth]
	}
	breaks, err := rules(c, "rule", conf, "only", conf.Break)
	if err != nil {
		return plan.Options{}, err
	}
	spares, err := rules(c, "without", conf, "without", conf.Spare)
	if err != nil {
		return plan.Options{}, err
	}
	skip := slices.Concat(c.StringSlice("skip"), conf.Skip)
	return plan.Options{Break: breaks, Spare: spares, Budget: budget, Base: base, Selection: oad.Selection{Only: c.StringSlice("only"), Skip: skip, Tags: c.StringSlice("tag")}, Depth: depth, Seed: c.Uint64("seed")}, nil
}

// shardFlag is the option of commands that give out cases.
func shardFlag() cli.Flag {
	return &cli.StringFlag{Name: "shard", Usage: "only one of several parts of the plan, such as `2/5`; each is as large as the others, and together they are all"}
}

// sharded narrows a plan to the shard of the command line, if one is named.
func sharded(c *cli.Command, doc *oad.Document, conf *sources.Sources, opt plan.Options) (plan.Options, error) {
	if !c.IsSet("shard") {
		return opt, nil
	}
	s, ok := plan.ParseShard(c.String("shard"))
	if !ok {
		return opt, usage.New(fmt.Sprintf("invalid value %q for --shard", c.String("shard")), fmt.Sprintf("write it as 2/5, the second of five; there can be %d", plan.MaxShards))
	}
	// Everywhere the same, whatever the day and the credentials at hand.
	whole := trial.Configured(opt, doc, conf, nil)
	whole.Now = time.Unix(0, 0).UTC()
	p, err := plan.New(doc, whole)
	if err == nil {
		opt.Within = p.Within(s, runtime.GOMAXPROCS(0))
	}
	return opt, err
}

// narrowing are the options of a plan as on a command line, for the run file.
func narrowing(c *cli.Command) string {
	var out []string
	for _, name := range []string{"only", "skip", "tag", "rule", "without"} {
		for _, v := range c.StringSlice(name) {
			out = append(out, "--"+name+" "+terminal.Quote(v))
		}
	}
	if c.IsSet("budget") {
		out = append(out, fmt.Sprintf("--budget %d", c.Int("budget")))
	}
	if c.Bool("controls") {
		out = append(out, "--controls")
	}
	return strings.Join(out, " ")
}

// planned makes a plan and tells which rules nothing can be made of.
func (a *app) planned(doc *oad.Document, opt plan.Options) (*plan.Plan, error) {
	p, err := plan.New(doc, opt)
	if err != nil {
		return nil, err
	}
	for _, w := range p.Warnings {
		fmt.Fprintln(a.streams.Err, "warning: "+a.redacted(w.Error()+"; "+w.Hint))
	}
	return p, nil
}

// budgets are the usual limits of cases for each operation.
var budgets = map[flaw.Depth]int{flaw.Quick: 60, flaw.Usual: 300}

// rules are those that an option chooses, else a key of the configuration, by their
// names or those of their families.
func rules(c *cli.Command, option string, conf *sources.Sources, key string, configured []string) ([]string, error) {
	words := c.StringSlice(option)
	if !c.IsSet(option) {
		words = configured
	}
	var out []string
	for i, word := range words {
		chosen, ok := rule.Chosen(word)
		if !ok {
			hint := "obiter explain lists the rules"
			if near, is := suggest.Name(word, rule.Choices()); is {
				hint = "did you mean " + near + "?"
			}
			const problem = "%q is no rule and no family of rules"
			if !c.IsSet(option) {
				return nil, conf.FailChoice(key, i, hint, problem, word)
			}
			return nil, usage.New(fmt.Sprintf("--%s "+problem, option, word), hint)
		}
		out = append(out, chosen...)
	}
	return out, nil
}
