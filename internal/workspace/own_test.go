package workspace

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestOwn finds the place of this person's own state: at home, or what takes its place where there
// is none. What was written is found again.
func TestOwn(t *testing.T) {
	temp := t.TempDir() // this test changes the environment, and is not parallel
	t.Setenv("TMPDIR", temp)
	instead := filepath.Join(temp, fmt.Sprintf("nharbor-%d", os.Getuid()))
	home := t.TempDir()
	file := filepath.Join(home, "a file")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ name, home, state, want string }{
		{"a home", home, "", filepath.Join(home, ".local/state/nharbor")},
		{"a place of its own", home, filepath.Join(home, "state"),
			filepath.Join(home, "state/nharbor")},
		{"a place that is no path", home, "state", filepath.Join(home, ".local/state/nharbor")},
		{"no home", "", "", instead},
		{"a home that is a file", file, "", instead},
		{"a home that can't be made", "/proc/nowhere", "", instead},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Setenv("HOME", c.home)
			t.Setenv("XDG_STATE_HOME", c.state)
			made, err := Own(true)
			if made != c.want || err != nil {
				t.Fatalf("it is %s, %v", made, err)
			}
			first, err := key(true)
			if err != nil || len(first) < 32 {
				t.Fatalf("the key is %q, %v", first, err)
			}
			if found, err := Own(false); found != c.want || err != nil {
				t.Errorf("it is found at %s, %v", found, err)
			}
			if again, err := key(false); !bytes.Equal(first, again) {
				t.Errorf("the key is another, %v", err)
			}
			if info, err := os.Stat(filepath.Join(made, keyFile)); err != nil ||
				info.Mode().Perm() != 0o600 {
				t.Errorf("the key's file: %v, %v", info, err)
			}
			root := t.TempDir()
			if err := WriteState(root, "stack.json", []byte("{}")); err != nil {
				t.Fatal(err)
			}
			if data, err := ReadState(root, "stack.json"); string(data) != "{}" || err != nil {
				t.Errorf("the state reads back as %q, %v", data, err)
			}
		})
	}
	t.Setenv("HOME", "")
	t.Setenv("XDG_STATE_HOME", "")
	if err := os.Chmod(instead, 0o755); err != nil {
		t.Fatal(err)
	}
	dir, err := Own(true)
	if dir != instead+"-1" || err != nil {
		t.Errorf("beside a folder that others can look into it is %s, %v", dir, err)
	}
	if again, err := Own(false); again != dir || err != nil {
		t.Errorf("then it is %s, %v", again, err)
	}
	if why := Displaced(); !strings.Contains(why, dir) {
		t.Errorf("it is said that %q", why)
	}
}

// TestRootThatHasGone is not made again.
func TestRootThatHasGone(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	root := filepath.Join(t.TempDir(), "gone")
	if _, err := MakeStateDir(root); err == nil {
		t.Error("a state folder is made where there is no workspace")
	}
	if _, err := os.Lstat(root); err == nil {
		t.Error("the workspace is made again")
	}
}
