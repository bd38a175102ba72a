package workspace

import (
	"bytes"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"

	"nimbleharbor/internal/reading"
)

// State is a workspace's own folder, .nharbor in it, and nothing of that is believed because it
// lies there: a checkout can bring along a folder of that name, or put files and links into ours
// with its next commit.
//
// The folder is ours when it holds a proof: a sum over its identity in the file system, with a key
// that lies among the person's own files. One that came with a checkout, or was copied, has none;
// then the state lies among the person's files too, and what came is neither read, nor followed,
// nor removed. The files that decide what is ended or removed carry a sum each.

// keyFile holds the key of this person on this machine.
const keyFile = "key"

// maxKey bounds the key, in bytes.
const maxKey = 4 << 10

// proofFile holds the proof of a state folder.
const proofFile = ".proof"

// State is where the state of a workspace lies, or would lie.
func State(root string) string {
	dir := filepath.Join(root, StateDir)
	info, err := os.Lstat(dir)
	if errors.Is(err, fs.ErrNotExist) {
		if side := sideDir(root); exists(side) { // the folder was there, and was not ours
			return side
		}
		return dir
	}
	if err == nil && info.IsDir() && (proven(dir) || empty(dir)) {
		return dir
	}
	return sideDir(root)
}

func exists(dir string) bool { _, err := os.Lstat(dir); return err == nil }

func empty(dir string) bool {
	d, err := os.Open(dir)
	if err != nil {
		return false
	}
	defer d.Close()
	_, err = d.Readdirnames(1)
	return err == io.EOF
}

// sideDir is where the state of a workspace lies whose own folder is not ours.
func sideDir(root string) string {
	home, err := Own(false)
	if err != nil {
		home = forNow()
	}
	return filepath.Join(home, "workspaces", ID(root))
}

// Own is the folder of this person's own state, which no checkout can reach: below the home folder
// or, where that is absent or can't be written to, one for this user alone that lasts until the
// machine is started anew. With make it is made.
func Own(make bool) (string, error) {
	dir, err := atHome()
	switch {
	case err == nil && exists(filepath.Join(dir, keyFile)) && (!make || usable(dir)):
		return dir, nil
	case err == nil && make:
		if os.MkdirAll(dir, 0o700) == nil && usable(dir) {
			return dir, nil
		}
	case err == nil && (exists(dir) || !exists(filepath.Join(forNow(), keyFile))):
		return dir, nil // nothing has been made yet
	}
	dir = forNow()
	if make {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return "", err
		}
	}
	if !private(dir) {
		return "", fmt.Errorf("there is no place for what must be remembered: no home folder "+
			"can be written to, and %s is not this user's alone", dir)
	}
	return dir, nil
}

// Displaced tells why this person's own state does not lie where it usually does; empty if it does.
func Displaced() string {
	home, homeErr := atHome()
	if homeErr == nil && (exists(filepath.Join(home, keyFile)) && writable(home) ||
		canBeMade(home)) {
		return ""
	}
	dir, usual := forNow(), temporary(0)
	switch {
	case homeErr != nil:
		return "there is no home folder, so that what must be remembered lies in " + dir +
			", until this machine is started anew"
	case dir != usual:
		return fmt.Sprintf("%s can't be written to and %s is another user's, so that what must "+
			"be remembered lies in %s, until this machine is started anew", home, usual, dir)
	}
	return fmt.Sprintf("%s can't be written to, so that what must be remembered lies in %s, "+
		"until this machine is started anew", home, dir)
}

// canBeMade reports whether a folder is there and can be written to, or can be made.
func canBeMade(dir string) bool {
	for ; ; dir = filepath.Dir(dir) {
		if info, err := os.Stat(dir); err == nil {
			return info.IsDir() && writable(dir)
		}
		if dir == filepath.Dir(dir) {
			return false
		}
	}
}

// private reports whether a folder is this user's alone.
func private(dir string) bool {
	info, err := os.Lstat(dir)
	return err == nil && info.IsDir() &&
		(info.Mode().Perm()&0o077 == 0 || runtime.GOOS == "windows") && mine(info)
}

func atHome() (string, error) {
	dir := os.Getenv("XDG_STATE_HOME")
	if !filepath.IsAbs(dir) {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", err
		}
		dir = filepath.Join(home, ".local", "state")
	}
	return filepath.Join(dir, "nharbor"), nil
}

// temporary are the names of folders that do for the one at home, the usual one first: another user
// can have taken it.
func temporary(i int) string {
	name := fmt.Sprintf("nharbor-%d", os.Getuid())
	if i > 0 {
		name = fmt.Sprintf("%s-%d", name, i)
	}
	return filepath.Join(os.TempDir(), name)
}

// forNow is the folder that does for the one at home: the first that is this user's, or that nobody
// has.
func forNow() string {
	for i := range 10 {
		if dir := temporary(i); private(dir) || !exists(dir) {
			return dir
		}
	}
	return temporary(0)
}

// usable reports whether files can be made in a folder.
func usable(dir string) bool {
	f, err := os.CreateTemp(dir, ".try-")
	if err != nil {
		return false
	}
	f.Close()
	return os.Remove(f.Name()) == nil
}

// key reads the key of this person on this machine, and makes it when it is wanted for the first
// time.
func key(make bool) ([]byte, error) {
	dir, err := Own(make)
	if err != nil {
		return nil, err
	}
	name := filepath.Join(dir, keyFile)
	data, err := reading.File(name, maxKey)
	if err == nil && len(data) >= 32 {
		return data, nil
	}
	if !make {
		return nil, fs.ErrNotExist
	}
	data = []byte(rand.Text() + rand.Text())
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) { // somebody else was first
		return reading.File(name, maxKey)
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if _, err := f.Write(data); err != nil {
		os.Remove(name)
		return nil, err
	}
	return data, nil
}

// sum is the keyed sum of something said of a state folder, which is known by its identity and not
// by its path: a workspace may be moved.
func sum(dir, of string, data []byte, make bool) (string, error) {
	k, err := key(make)
	if err != nil {
		return "", err
	}
	info, err := os.Lstat(dir)
	if err != nil {
		return "", err
	}
	h := hmac.New(sha256.New, k)
	fmt.Fprintf(h, "%s\x00%s\x00%d\x00", identity(dir, info), of, len(data))
	h.Write(data)
	return hex.EncodeToString(h.Sum(nil)), nil
}

func proven(dir string) bool {
	data, err := readFew(filepath.Join(dir, proofFile), 256)
	if err != nil {
		return false
	}
	want, err := sum(dir, "folder", nil, false)
	return err == nil && hmac.Equal(bytes.TrimSpace(data), []byte(want))
}

// readFew reads a file that is no link, up to a limit.
func readFew(name string, limit int64) ([]byte, error) {
	data, err := reading.OwnFile(name, limit)
	if errors.As(err, new(*reading.TooLarge)) {
		err = fmt.Errorf("%s is larger than %d bytes: %w", name, limit, ErrForged)
	}
	return data, err
}

// MakeStateDir makes the state folder of the workspace, which git ignores by its own rule, and
// below it the folder that the parts name. Only this user can enter. No link is followed out of it.
func MakeStateDir(root string, parts ...string) (string, error) {
	dir := State(root)
	mkdir := os.MkdirAll
	if filepath.Dir(dir) == filepath.Clean(root) { // a workspace that has gone is not made again
		mkdir = os.Mkdir
	}
	if err := mkdir(dir, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return "", err
	}
	r, err := os.OpenRoot(dir)
	if err != nil {
		return "", err
	}
	defer r.Close()
	if !proven(dir) {
		proof, err := sum(dir, "folder", nil, true)
		if err != nil {
			return "", err
		}
		for name, text := range map[string]string{proofFile: proof + "\n", ".gitignore": "*\n"} {
			f, err := r.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
			if err != nil {
				return "", err
			}
			_, err = f.WriteString(text)
			if cerr := f.Close(); err == nil {
				err = cerr
			}
			if err != nil {
				return "", err
			}
		}
	}
	if len(parts) == 0 {
		return dir, nil
	}
	below := filepath.Join(parts...)
	if err := r.MkdirAll(below, 0o700); err != nil {
		return "", err
	}
	return filepath.Join(dir, below), nil
}

// maxState is how large a file of the state may be, in bytes.
const maxState = 64 << 20

// ErrForged is the error of a state file that we have not written.
var ErrForged = errors.New("the file was not written by nharbor for this workspace")

// ReadState reads a file of the state that WriteState has written; any other is as good as none,
// and the error is ErrForged.
func ReadState(root, name string) ([]byte, error) {
	dir := State(root)
	data, err := readFew(filepath.Join(dir, name), maxState)
	if err != nil {
		return nil, err
	}
	end := bytes.LastIndexByte(bytes.TrimRight(data, "\n"), '\n')
	if end < 0 {
		return nil, ErrForged
	}
	said := bytes.TrimSpace(data[end:])
	want, err := sum(dir, name, data[:end], false)
	if err != nil || !hmac.Equal(said, []byte(want)) {
		return nil, ErrForged
	}
	return data[:end], nil
}

// WriteState writes a file of the state at once, with its sum, readable by this user alone.
func WriteState(root, name string, data []byte) error {
	dir, err := MakeStateDir(root)
	if err != nil {
		return err
	}
	s, err := sum(dir, name, data, true)
	if err != nil {
		return err
	}
	return WriteFile(filepath.Join(dir, name), append(append(bytes.Clone(data), '\n'), s+"\n"...),
		0o600)
}

// Making is the folder of the person's own in which something is made until it is complete, such as
// a clone of an address into a folder: always the same for the same words, and of a name that
// nobody else can guess. It is not made.
func Making(of ...string) (string, error) {
	home, err := Own(true)
	if err != nil {
		return "", err
	}
	k, err := key(true)
	if err != nil {
		return "", err
	}
	h := hmac.New(sha256.New, k)
	fmt.Fprintf(h, "%q", of)
	return filepath.Join(home, "making", hex.EncodeToString(h.Sum(nil)[:16])), nil
}

// Known reports whether it is known of a folder that it is what it says to be, a clone of a
// repository of that name: the person has said so, or we have cloned it. What a folder says of
// itself, anybody could have written.
func Known(dir, name string) bool {
	file, want, err := knownAs(dir, name, false)
	if err != nil {
		return false
	}
	data, err := readFew(file, 256)
	return err == nil && hmac.Equal(bytes.TrimSpace(data), []byte(want))
}

// SetKnown remembers that a folder is a clone of the repository of that name.
func SetKnown(dir, name string) error {
	file, says, err := knownAs(dir, name, true)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(file), 0o700)
	}
	if err != nil {
		return err
	}
	return WriteFile(file, []byte(says+"\n"), 0o600)
}

func knownAs(dir, name string, make bool) (file, says string, err error) {
	home, err := Own(make)
	if err != nil {
		return "", "", err
	}
	says, err = Same(dir, "clone of "+name, make)
	return filepath.Join(home, "clones", says), says, err
}

// Same is a name for something that is remembered of a folder itself, wherever it is moved: another
// folder that comes to stand at its path, even one that gets its number in the file system, has
// another. With make the person's key is made if there is none yet.
func Same(dir, what string, make bool) (string, error) {
	return sum(dir, what, []byte(born(dir)), make)
}

// ImageOf is what the image of a service is called that a workspace builds.
func ImageOf(root, service string) string { return "nharbor-" + ID(root) + "-" + service }
