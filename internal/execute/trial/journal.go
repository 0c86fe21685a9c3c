package trial

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"obiter/internal/target/fixture"
	"obiter/internal/target/journal"
)

// LockError says that another run is going on in the folder.
type LockError struct {
	Folder string
	Holder string // as it wrote of itself
}

func (e *LockError) Error() string {
	return fmt.Sprintf("another run is going on in this folder: %s (%s)", e.Holder, filepath.Join(e.Folder, lockName))
}

// The names of files in a run's folder.
const (
	lockName    = "lock"
	journalName = "made.ndjson"
)

// keeping is what a run holds its folder with: the lock, and the journal of the records
// that it makes.
type keeping struct {
	lock     *flock.Flock
	name     string // of the journal
	file     *os.File
	journal  *journal.Journal
	remnants []journal.Remnant // what an earlier run left at this address
	noted    []int             // under which these are in the journal
	taken    bool              // they were looked at, or there are none
}

// keep locks the folder and opens the journal. Without a folder nothing is kept.
func (t *trial) keep() error {
	folder := t.opt.Folder
	if folder == "" {
		return nil
	}
	k := &t.kept
	k.name = filepath.Join(folder, journalName)
	lock := filepath.Join(folder, lockName)
	f, err := open(lock, os.O_RDWR|os.O_CREATE)
	if err != nil {
		return &FileError{lock, err}
	}
	defer f.Close()
	k.lock = flock.New(lock, flock.SetFlag(os.O_RDWR), flock.SetPermissions(0o600))
	switch got, err := k.lock.TryLock(); {
	case err != nil:
		return &FileError{lock, cause(err)}
	case !got:
		holder, _ := io.ReadAll(io.LimitReader(f, 200))
		return &LockError{folder, strings.TrimSpace(strings.ToValidUTF8(string(holder), "\uFFFD"))}
	}
	if err = f.Truncate(0); err == nil {
		_, err = fmt.Fprintf(f, "process %d, since %s\n", os.Getpid(), time.Now().Format(time.DateTime))
	}
	if err == nil {
		err = k.begin(t.opt.Secrets.Redact(t.opt.Base.String()), t.opt.Secrets.Value)
	}
	if err != nil {
		return errors.Join(&FileError{k.name, cause(err)}, k.lock.Unlock())
	}
	return nil
}

// begin reads what earlier runs left, and writes it anew in front of what this one makes.
func (k *keeping) begin(at string, redact func(any) any) error {
	var left []journal.Remnant
	if old, err := openToRead(k.name); err == nil {
		left = journal.Read(old)
		old.Close()
	} else if !errors.Is(err, os.ErrNotExist) {
		return err
	}
	f, err := create(k.name + ".new")
	if err != nil {
		return err
	}
	k.file = f
	k.journal = journal.New(f, at, redact)
	defer func() { k.journal.Renew = k.renew }() // once it is in its place
	for _, r := range left {
		if n := k.journal.Carry(r); r.At == at {
			k.remnants, k.noted = append(k.remnants, r), append(k.noted, n)
		}
	}
	k.taken = len(k.remnants) == 0
	if err := k.journal.Err(); err != nil {
		return errors.Join(err, f.Close(), os.Remove(f.Name()))
	}
	return os.Rename(f.Name(), k.name)
}

// renew puts a journal of the notes in place of the one there is.
func (k *keeping) renew(notes []byte) (io.Writer, error) {
	f, err := create(k.name + ".new")
	if err != nil {
		return nil, err
	}
	if _, err = f.Write(notes); err == nil {
		err = os.Rename(f.Name(), k.name)
	}
	if err != nil {
		return nil, errors.Join(err, f.Close(), os.Remove(f.Name()))
	}
	err = k.file.Close()
	k.file = f
	return f, err
}

// release ends the journal, which stays where there is something left that can be taken
// away, and unlocks the folder.
func (t *trial) releaseFolder() error {
	k := &t.kept
	if k.lock == nil || k.file == nil {
		return nil
	}
	err := errors.Join(k.journal.Err(), k.file.Close())
	if left := k.journal.Left(); k.taken && len(left) == 0 {
		err = errors.Join(err, os.Remove(k.name))
	} else if k.taken {
		err = errors.Join(err, k.rewrite(left))
	}
	if err = errors.Join(err, k.lock.Unlock()); err != nil {
		return &FileError{k.name, cause(err)}
	}
	return nil
}

func (k *keeping) rewrite(left []journal.Remnant) error {
	f, err := create(k.name + ".new")
	if err != nil {
		return err
	}
	journal := journal.New(f, "", func(v any) any { return v })
	for _, r := range left {
		journal.Carry(r)
	}
	if err := errors.Join(journal.Err(), f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), k.name)
}

// takeAway deletes what an earlier run left, and tells of what stays.
func (t *trial) takeAway(ctx context.Context, unseen, again bool) (gone int) {
	k := &t.kept
	if k.taken = true; len(k.remnants) == 0 {
		return 0
	}
	ctx, cancel := t.undoing(ctx)
	defer cancel()
	gone, left := t.records.TakeAway(ctx, k.remnants, k.noted, unseen, again)
	t.keepLeft(left)
	return gone
}

// Undo deletes what earlier runs left at an address. What it needs to be let in, it
// makes and deletes as a run does. With unseen it removes even what cannot be asked
// for. It gives how many records are gone.
func Undo(ctx context.Context, opt Options, unseen bool, events Events) (gone int, out *Outcome, err error) {
	t := newTrial(opt, events)
	if err := t.ready(); err != nil {
		return 0, &t.out, err
	}
	defer t.sender.Close()
	if err := t.keep(); err != nil {
		return 0, &t.out, err
	}
	defer func() {
		t.remains()
		err = errors.Join(err, t.releaseFolder())
	}()
	if len(t.kept.remnants) == 0 {
		return 0, &t.out, nil
	}
	if err := t.sender.Reach(ctx); err != nil {
		return 0, &t.out, err
	}
	t.newRecords()
	defer func() { t.undo(ctx, t.records) }()
	if err := t.records.Make(ctx, t.conf.ForCredentials(t.removers())); err != nil {
		return 0, &t.out, err
	}
	for _, f := range t.records.Failed {
		t.warn("%v", f.Err)
	}
	return t.takeAway(ctx, unseen, true), &t.out, nil
}

// removers are the operations that delete what earlier runs left.
func (t *trial) removers() (operations []string) {
	for _, r := range t.kept.remnants {
		if f, ok := t.conf.RemoverOf(r.Operation, r.Fixture); ok && !slices.Contains(operations, f.Undo) {
			operations = append(operations, f.Undo)
		}
	}
	return operations
}

func (t *trial) newRecords() {
	t.records = fixture.New(t.conf, t.fixturePlan, t.sendIn(t.opt.Send.Service.Lane()))
	t.records.Journal, t.records.Base = t.kept.journal, strings.TrimSuffix(t.opt.Base.String(), "/")
}

// openToRead opens a file that is one, and not something that has no end.
func openToRead(name string) (*os.File, error) {
	info, err := os.Lstat(name)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("it is no ordinary file")
	}
	return os.Open(name)
}
