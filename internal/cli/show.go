package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"obiter/internal/core/exchange"
	"obiter/internal/core/usage"
	"obiter/internal/execute/session"
	"obiter/internal/results/record"
)

func (a *app) showCommand() *cli.Command {
	return &cli.Command{
		Name:      "show",
		Usage:     "one case in full: sent, answered, why it falls short, and a curl line",
		ArgsUsage: "CASE",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "run", Usage: "the run `FILE` to look in (default: the last run)"},
			&cli.BoolFlag{Name: "whole", Usage: "print long values whole"},
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Len() != 1 {
				return usage.New("show takes one case id", "obiter try prints the ids; for example: obiter show 0123abcdef")
			}
			controls := map[string]string{}
			head, res, log, err := find(cmp.Or(c.String("run"), store.Last()), strings.ToLower(c.Args().First()), controls)
			if err != nil {
				return err
			}
			a.text().Show(head, res, log, controls, c.Bool("whole"))
			return nil
		},
	}
}

// find looks a case up in a run file: by its id, or the beginning of one. It collects
// the ids of valid requests that were accepted, by operation, and gives what the service logged.
func find(name, id string, controls map[string]string) (record.Head, record.Result, []string, error) {
	var none record.Result
	f, r, err := session.OpenOne(name)
	if err != nil {
		return record.Head{}, none, nil, err
	}
	defer f.Close()
	var found []record.Result
	var exact *record.Result
	for res, err := range r.Results() {
		if err != nil {
			return r.Head, none, nil, fmt.Errorf("%s: %w", name, err)
		}
		if res.ID == id {
			exact = &res
		}
		if res.Kind == exchange.Control && res.Response.Success() && controls[res.Operation] == "" {
			controls[res.Operation] = res.ID
		}
		if len(id) >= 3 && strings.HasPrefix(res.ID, id) && len(found) < 8 {
			found = append(found, res)
		}
	}
	if exact != nil { // read to the end, where the findings of the whole run are
		return r.Head, withRunFindings(*exact, r), r.Logs[exact.ID], nil
	}
	switch len(found) {
	case 1:
		return r.Head, withRunFindings(found[0], r), r.Logs[found[0].ID], nil
	case 0:
		return r.Head, none, nil, usage.New(fmt.Sprintf("%s has no case %q", name, id), "obiter try prints the ids of what it found; obiter cases lists all")
	}
	var ids []string
	for _, res := range found {
		ids = append(ids, res.ID)
	}
	return r.Head, none, nil, usage.New(fmt.Sprintf("%q is the beginning of several cases", id), "which one: "+strings.Join(ids, ", "))
}

// withRunFindings adds what the whole run shows of a case.
func withRunFindings(res record.Result, r *record.Reader) record.Result {
	res.Findings = append(res.Findings, r.RunFindings[res.ID]...)
	return res
}
