package session

import (
	"errors"
	"fmt"
	"obiter/internal/core/usage"
	"obiter/internal/evaluate/judge"
	"obiter/internal/execute/run"
	"obiter/internal/input/config"
	"obiter/internal/input/document"
	"os"
	"strings"
	"time"
)

// maxAccepted bounds the file of known causes, in bytes.
const maxAccepted = 64 << 20

// ReadKnown reads what the team knows, in the current folder; nothing where there is no file. Twice
// tells of entries that are there twice.
func ReadKnown() (out run.Known, twice []*document.Error, err error) {
	out = run.Known{Day: time.Now().Format(time.DateOnly)}
	info, err := os.Stat(config.AcceptedFile)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return out, nil, nil
	case err == nil && (!info.Mode().IsRegular() || info.Size() > maxAccepted):
		return out, nil, usage.New(config.AcceptedFile+" is not a file of known causes", "obiter accept writes one")
	}
	src, err := os.ReadFile(config.AcceptedFile)
	if err != nil {
		return out, nil, usage.New(fmt.Sprintf("cannot read %s: %v", config.AcceptedFile, errors.Unwrap(err)), "check its permissions")
	}
	out.Causes, twice, err = config.ReadKnown(config.AcceptedFile, src, judge.CodeNames())
	return out, twice, err
}

// AppendKnown writes causes behind those that are in the file, which stays as people
// edited it.
func AppendKnown(list []config.Known, behind bool) error {
	text := config.WriteKnown(list)
	if behind {
		was, err := os.ReadFile(config.AcceptedFile)
		if err != nil {
			return err
		}
		_, entries, _ := strings.Cut(text, "accepted:\n")
		text = strings.TrimRight(string(was), "\n") + "\n" + entries
		if _, _, err := config.ReadKnown(config.AcceptedFile, []byte(text), judge.CodeNames()); err != nil { // written in another style
			return usage.New(config.AcceptedFile+" has a form in which nothing can be added at its end", "write it as a list with a dash for each entry")
		}
	}
	f, err := os.CreateTemp(".", ".obiter-*")
	if err == nil {
		_, err = f.WriteString(text)
		if err = errors.Join(err, f.Chmod(0o644), f.Close()); err == nil {
			err = os.Rename(f.Name(), config.AcceptedFile)
		}
	}
	if err != nil {
		return usage.New(fmt.Sprintf("cannot write %s: %v", config.AcceptedFile, err), "run it in a folder that can be written to")
	}
	return nil
}
