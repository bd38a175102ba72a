package gitrepo

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// unfinished begins the name of a folder in which something is made that is not complete.
const unfinished = ".nharbor-clone-"

// place is where a clone is made until it is complete. What is fetched lies among the person's own
// files, in a folder whose name nobody else can guess: an interrupted clone is gone on with, so
// that its configuration, hooks and objects are believed, which anybody could have put into a
// folder with a name that is known. Where there is no such folder, nothing is kept. The checkout is
// put together beside the final folder, in one with a random name. One process has a place at a
// time, until leave.
type place struct {
	dir  string // of what is fetched
	temp string // beside the final one
	lock *flock.Flock
	in   string // the working copy, wherever it is now
}

// mark tells how far an interrupted clone came.
type mark string

const (
	fetched mark = "fetched" // all that the repository has
	inSteps mark = "steps"   // nothing, but the next attempt goes in steps, so that the one after it has something
)

// takePlace takes the place for a clone into dir; making is the folder of what is fetched, or
// empty.
func takePlace(dir, making string) (*place, error) {
	temp, err := beside(dir)
	if err != nil {
		return nil, err
	}
	p := &place{temp: temp}
	if err := p.take(dir, making); err != nil {
		os.RemoveAll(temp)
		return nil, err
	}
	return p, nil
}

func (p *place) take(dir, making string) error {
	p.dir = p.temp
	if making != "" && ownFolder(making) {
		p.dir = making
		forgetOld(filepath.Dir(making))
	}
	p.in = filepath.Join(p.dir, "checkout")
	p.lock = flock.New(filepath.Join(p.dir, "lock"),
		flock.SetFlag(os.O_CREATE|os.O_RDWR|reading.NoFollow))
	if alone, err := p.lock.TryLock(); err != nil {
		return unwritable(p.dir, "nothing can be written there: ", err)
	} else if !alone {
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeCloneFailed,
			At:   stack.Place{File: dir},
			Text: "another clone of it into this folder is under way", Remedy: "Wait for it, or " +
				"end it."}
	}
	if p.dir == p.temp {
		return nil
	}
	// What stood beside the final folder when a process was killed is named here, where nobody else
	// can write.
	note := filepath.Join(p.dir, "beside")
	if was, err := reading.OwnFile(note, 16<<10); err == nil &&
		filepath.Dir(string(was)) == filepath.Dir(p.temp) &&
		strings.HasPrefix(filepath.Base(string(was)), unfinished) {
		os.RemoveAll(string(was))
	}
	f, err := reading.OpenToWrite(note, os.O_TRUNC)
	if err != nil {
		return unwritable(p.dir, "nothing can be written there: ", err)
	}
	defer f.Close()
	_, err = f.WriteString(p.temp)
	return err
}

// ownFolder makes a folder that only this user can enter, and reports whether it is one.
func ownFolder(dir string) bool {
	if err := os.MkdirAll(filepath.Dir(dir), 0o700); err != nil {
		return false
	}
	if err := os.Mkdir(dir, 0o700); err != nil && !errors.Is(err, os.ErrExist) {
		return false
	}
	info, err := os.Lstat(dir)
	return err == nil && info.IsDir() &&
		(info.Mode().Perm()&0o077 == 0 || runtime.GOOS == "windows")
}

// keptFor is how long an interrupted clone is kept for whoever goes on with it.
const keptFor = 14 * 24 * time.Hour

// forgetOld removes the unfinished clones that nobody has gone on with.
func forgetOld(all string) {
	entries, err := os.ReadDir(all)
	if err != nil {
		return
	}
	for _, e := range entries {
		info, err := e.Info()
		if err != nil || !e.IsDir() || time.Since(info.ModTime()) < keptFor {
			continue
		}
		name := filepath.Join(all, e.Name())
		lock := flock.New(filepath.Join(name, "lock"),
			flock.SetFlag(os.O_CREATE|os.O_RDWR|reading.NoFollow))
		if alone, err := lock.TryLock(); err == nil && alone {
			os.RemoveAll(name)
			lock.Unlock()
		}
	}
}

func (p *place) work() string { return p.in }

// settle brings what is fetched to the disk on which the checkout is to appear, unless it is there
// already. A copy of it is kept until leave.
func (p *place) settle() error {
	probe := filepath.Join(p.temp, "here")
	if p.dir == p.temp || p.mark("here") == nil &&
		os.Rename(filepath.Join(p.dir, "here"), probe) == nil {
		return nil
	}
	from, err := os.OpenRoot(p.in)
	if err != nil {
		return err
	}
	defer from.Close()
	to := filepath.Join(p.temp, "checkout")
	if err := os.CopyFS(to, reading.Under(from)); err != nil {
		return unwritable(filepath.Dir(p.temp), "nothing can be written there: ", err)
	}
	p.in = to
	return nil
}

func (p *place) is(m mark) bool {
	info, err := os.Lstat(filepath.Join(p.dir, string(m)))
	return err == nil && info.Mode().IsRegular()
}

func (p *place) mark(m mark) error {
	f, err := reading.OpenToWrite(filepath.Join(p.dir, string(m)), 0)
	if err != nil {
		return err
	}
	return f.Close()
}

// worthKeeping reports whether the next attempt is better off with what is there: after an
// interruption or when the network failed, and not where the call itself was wrong.
func (p *place) worthKeeping(err error) bool {
	if p.dir == p.temp {
		return false
	}
	broken := errors.Is(err, context.Canceled) || errors.As(err, new(*stalled)) || brokenOff(err)
	return broken && (p.is(fetched) || p.is(inSteps))
}

// leave gives the place up, with all that is in it unless that is to be kept, and can be.
func (p *place) leave(keep bool) {
	defer os.RemoveAll(p.temp)
	defer p.lock.Unlock()
	if !keep {
		os.RemoveAll(p.dir)
	}
}

// free reports as an error what stands where something is to appear, and makes the folder above it.
func free(dir string) error {
	if info, err := os.Stat(dir); err == nil && !info.IsDir() {
		return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeFolderNotEmpty,
			At:   stack.Place{File: dir},
			Text: "a file stands there", Remedy: "Name another place with --into."}
	}
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeFolderNotEmpty,
			At: stack.Place{File: dir}, Text: "the folder exists and is not empty",
			Remedy: "Name another with --into, or survey what is there: nharbor -C " +
				shell.Word(dir) + " survey"}
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o777); err != nil {
		return unwritable(filepath.Dir(dir), "the folder can't be made: ", err)
	}
	return nil
}

func unwritable(dir, what string, err error) error {
	return &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeFolderUnwritable,
		At:   stack.Place{File: dir},
		Text: what + stack.Reason(err), Remedy: "Choose another place with --into.", Cause: err}
}
