package cli

import (
	"fmt"

	"github.com/urfave/cli/v3"

	"obiter/internal/cli/terminal"
	"obiter/internal/execute/session"
	"obiter/internal/execute/trial"
)

// store is where this folder's runs are.
var store = session.Store{Folder: trial.RunFolder}

// session is what the commands in this folder have in common.
func (a *app) session() *session.Session {
	return &session.Session{Store: store, Program: version(), Secrets: &a.secrets}
}

// knowing is a session that counts apart what the team knows.
func (a *app) knowing() (*session.Session, error) {
	s := a.session()
	known, warnings, err := session.ReadKnown()
	for _, text := range warnings {
		fmt.Fprintln(a.streams.Err, "warning: "+a.redacted(text))
	}
	s.Known = known
	return s, err
}

// runsNamed are the run files that a command names, or the last run's.
func runsNamed(c *cli.Command) []string {
	if c.Args().Len() == 0 {
		return []string{store.Last()}
	}
	return c.Args().Slice()
}

// openKnown opens runs for those who count apart what is known.
func (a *app) openKnown(names []string) (*session.Runs, error) {
	s, err := a.knowing()
	if err != nil {
		return nil, err
	}
	return s.Open(names...)
}

// warnOf says what is odd about several runs that are read as one.
func (a *app) warnOf(r *session.Runs) {
	if n := r.Twice(); n > 0 {
		fmt.Fprintf(a.streams.Err, "warning: %s in more than one run; the latest answer counts\n", areIn(n))
	}
	if len(r.Missing()) > 0 {
		fmt.Fprintf(a.streams.Err, "warning: %s\n", r.Incomplete())
	}
}

func areIn(n int) string {
	if n == 1 {
		return "1 case is"
	}
	return terminal.Number(n) + " cases are"
}

// nameOf is the file of runs, or how many there are.
func nameOf(r *session.Runs) string {
	if len(r.Names()) == 1 {
		return r.Names()[0]
	}
	return terminal.Plural(len(r.Names()), "run file")
}
