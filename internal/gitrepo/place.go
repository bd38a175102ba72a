package gitrepo

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/gofrs/flock"

	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// unfinished begins the name of a folder in which something is made that is not complete.
const unfinished = ".nharbor-clone-"

// place is where a clone is made until it is complete: a folder beside the final one, named after that and the address,
// so that the same command finds what an interrupted one left. One process has it at a time, until leave.
type place struct {
	dir  string
	lock *flock.Flock
}

// mark tells how far an interrupted clone came.
type mark string

const (
	fetched mark = "fetched" // all that the repository has
	inSteps mark = "steps"   // nothing, but the next attempt goes in steps, so that the one after it has something
)

func takePlace(dir, address string) (*place, error) {
	if err := free(dir); err != nil {
		return nil, err
	}
	sum := sha256.Sum256([]byte(address))
	p := &place{dir: filepath.Join(filepath.Dir(dir), fmt.Sprintf("%s%s-%x", unfinished, filepath.Base(dir), sum[:4]))}
	if err := os.Mkdir(p.dir, 0o777); err != nil && !errors.Is(err, os.ErrExist) {
		return nil, unwritable(filepath.Dir(dir), "nothing can be written there: ", err)
	}
	p.lock = flock.New(filepath.Join(p.dir, "lock"))
	if alone, err := p.lock.TryLock(); err != nil {
		return nil, unwritable(p.dir, "nothing can be written there: ", err)
	} else if !alone {
		return nil, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeCloneFailed, At: stack.Place{File: dir},
			Text: "another clone of it into this folder is under way", Remedy: "Wait for it, or end it."}
	}
	return p, nil
}

func (p *place) work() string { return filepath.Join(p.dir, "checkout") }

func (p *place) is(m mark) bool {
	_, err := os.Stat(filepath.Join(p.dir, string(m)))
	return err == nil
}

func (p *place) mark(m mark) error { return os.WriteFile(filepath.Join(p.dir, string(m)), nil, 0o666) }

// worthKeeping reports whether the next attempt is better off with what is there: after an interruption or when the
// network failed, and not where the call itself was wrong.
func (p *place) worthKeeping(err error) bool {
	broken := errors.Is(err, context.Canceled) || errors.As(err, new(*stalled)) || brokenOff(err)
	return broken && (p.is(fetched) || p.is(inSteps))
}

// leave gives the place up, with all that is in it unless that is to be kept.
func (p *place) leave(keep bool) {
	p.lock.Unlock()
	if !keep {
		os.RemoveAll(p.dir)
	}
}

// free reports as an error what stands where something is to appear, and makes the folder above it.
func free(dir string) error {
	if info, err := os.Stat(dir); err == nil && !info.IsDir() {
		return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeFolderNotEmpty, At: stack.Place{File: dir},
			Text: "a file stands there", Remedy: "Name another place with --into."}
	}
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeFolderNotEmpty, At: stack.Place{File: dir},
			Text:   "the folder exists and is not empty",
			Remedy: "Name another with --into, or survey what is there: nharbor -C " + shell.Word(dir) + " survey"}
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o777); err != nil {
		return unwritable(filepath.Dir(dir), "the folder can't be made: ", err)
	}
	return nil
}

func unwritable(dir, what string, err error) error {
	return &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeFolderUnwritable, At: stack.Place{File: dir},
		Text: what + stack.Reason(err), Remedy: "Choose another place with --into.", Cause: err}
}
