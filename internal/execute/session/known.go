package session

import (
	"errors"
	"fmt"
	"os"
	"regexp"
	"strings"
	"time"

	"obiter/internal/core/usage"
	"obiter/internal/evaluate/judge"
	"obiter/internal/execute/files"
	"obiter/internal/execute/run"
	"obiter/internal/input/config"
	"obiter/internal/input/document"
)

// maxKnown bounds the file of known causes, in bytes.
const maxKnown = 64 << 20

// knownFile is the file of known causes in the current folder: that of earlier versions where there
// is no other.
func knownFile() string {
	if _, err := os.Stat(config.KnownFile); errors.Is(err, os.ErrNotExist) {
		if _, err := os.Stat(config.OldKnownFile); err == nil {
			return config.OldKnownFile
		}
	}
	return config.KnownFile
}

// ReadKnown reads what the team knows, in the current folder; nothing where there is no file.
// Warnings are about what is odd in it.
func ReadKnown() (out run.Known, warnings []string, err error) {
	out = run.Known{Day: time.Now().Format(time.DateOnly)}
	name := knownFile()
	info, err := os.Stat(name)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return out, nil, nil
	case err == nil && (!info.Mode().IsRegular() || info.Size() > maxKnown):
		return out, nil, usage.New(name+" is not a file of known causes", "obiter known writes one")
	}
	src, err := os.ReadFile(name)
	if err != nil {
		return out, nil, usage.New(fmt.Sprintf("cannot read %s: %v", name, errors.Unwrap(err)), "check its permissions")
	}
	var twice []*document.Error
	out.Causes, twice, err = config.ReadKnown(name, src, judge.CodeNames())
	for _, e := range twice {
		warnings = append(warnings, e.Error()+"; "+e.Hint)
	}
	if name == config.OldKnownFile {
		warnings = append(warnings, name+" is called "+config.KnownFile+" now, and begins with known: in place of accepted:; obiter known renames it when it next writes")
	}
	return out, warnings, err
}

// AppendKnown writes causes behind those that are in the file, which stays as people
// edited it. A file of an earlier version is renamed.
func AppendKnown(list []config.Known, behind bool) error {
	text, name := config.WriteKnown(list), knownFile()
	if behind {
		was, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		_, entries, _ := strings.Cut(text, "known:\n")
		before := string(was)
		if name == config.OldKnownFile {
			before = oldKey.ReplaceAllString(before, "known:")
		}
		text = strings.TrimRight(before, "\n") + "\n" + entries
		if _, _, err := config.ReadKnown(name, []byte(text), judge.CodeNames()); err != nil { // written in another style
			return usage.New(name+" has a form in which nothing can be added at its end", "write it as a list with a dash for each entry")
		}
	}
	if err := files.Swap(config.KnownFile, []byte(text)); err != nil {
		return usage.New(fmt.Sprintf("cannot write %s: %v", config.KnownFile, err), "run it in a folder that can be written to")
	}
	if name == config.OldKnownFile {
		return os.Remove(name)
	}
	return nil
}

// oldKey is the first key of OldKnownFile.
var oldKey = regexp.MustCompile(`(?m)^accepted:`)
