package locker

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"nimbleharbor/internal/stack"
)

func newStore(t *testing.T) *Store {
	t.Helper()
	dir := t.TempDir()
	return &Store{File: filepath.Join(dir, "data", "locker.age"),
		Identity: filepath.Join(dir, "config", "identity")}
}

func secret(repository, key, value string) Secret {
	return Secret{Repository: repository, Key: key, Value: value,
		Since: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
}

func TestPutGetDrop(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	if _, ok, err := s.Get("harbour/office", "TIDE_TOKEN"); ok || err != nil {
		t.Fatalf("an unused locker gives %v, %v", ok, err)
	}
	if _, err := os.Stat(s.Identity); err == nil {
		t.Error("looking made a key")
	}
	if err := s.Put(secret("harbour/office", "TIDE_TOKEN", "canary-1"),
		secret("harbour/counter", "TIDE_TOKEN", "canary-2"),
		secret("harbour/office", "MAP_KEY", "canary-3")); err != nil {
		t.Fatal(err)
	}
	if err := s.Put(secret("harbour/office", "TIDE_TOKEN", "canary-new")); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		repository, key,
		want string
	}{{"harbour/office", "TIDE_TOKEN", "canary-new"},
		{"harbour/counter", "TIDE_TOKEN", "canary-2"}, {"harbour/other", "TIDE_TOKEN", ""},
		{"harbour/office", "OTHER", ""}} {
		if got, ok, err := s.Get(c.repository, c.key); got != c.want || ok != (c.want != "") ||
			err != nil {
			t.Errorf("%s of %s is %q, %v, %v; want %q", c.key, c.repository, got, ok, err, c.want)
		}
	}
	list, err := s.List()
	if err != nil || len(list) != 3 || strings.Contains(fmt.Sprint(list), "canary") ||
		list[0].Repository != "harbour/counter" || list[1].Key != "MAP_KEY" {
		t.Errorf("the list is %v, %v", list, err)
	}
	for name, file := range map[string]string{"the locker": s.File, "the key": s.Identity} {
		data, err := os.ReadFile(file)
		if err != nil || bytes.Contains(data, []byte("canary")) ||
			bytes.Contains(data, []byte("TIDE_TOKEN")) {
			t.Errorf("%s shows what it holds: %q, %v", name, data, err)
		}
		if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("the rights of %s are %v, %v", name, info.Mode(), err)
		}
	}
	if found, err := s.Drop("harbour/office", "TIDE_TOKEN"); !found || err != nil {
		t.Errorf("dropping gives %v, %v", found, err)
	}
	if found, err := s.Drop("harbour/office", "TIDE_TOKEN"); found || err != nil {
		t.Errorf("dropping it again gives %v, %v", found, err)
	}
}

// TestAtOnce lets several processes' worth of stores write at once: nothing is lost.
func TestAtOnce(t *testing.T) {
	t.Parallel()
	s := newStore(t)
	var wait sync.WaitGroup
	for i := range 20 {
		wait.Go(func() {
			own := *s
			if err := own.Put(secret("r", fmt.Sprintf("KEY_%d", i), "v")); err != nil {
				t.Error(err)
			}
		})
	}
	wait.Wait()
	if list, err := s.List(); err != nil || len(list) != 20 {
		t.Errorf("%d secrets are left, %v", len(list), err)
	}
}

func TestPackForAColleague(t *testing.T) {
	t.Parallel()
	mine, theirs, stranger := newStore(t), newStore(t), newStore(t)
	if err := mine.Put(secret("harbour/office", "TIDE_TOKEN", "canary-1"),
		secret("harbour/private", "OTHER", "canary-2")); err != nil {
		t.Fatal(err)
	}
	key, err := theirs.Recipient()
	if err != nil || !strings.HasPrefix(key, "age1") {
		t.Fatalf("the public key is %q, %v", key, err)
	}
	if again, err := theirs.Recipient(); again != key || err != nil {
		t.Errorf("asked again it is %q, %v", again, err)
	}
	some, err := mine.Of("harbour/office")
	if err != nil || len(some) != 1 {
		t.Fatalf("of one repository there is %v, %v", some, err)
	}
	var pack bytes.Buffer
	if err := Pack(&pack, key+"\n", some); err != nil {
		t.Fatal(err)
	}
	if strings.Contains(pack.String(), "canary") ||
		!strings.HasPrefix(pack.String(), "-----BEGIN AGE ENCRYPTED FILE-----") {
		t.Errorf("the pack is %q", pack.String())
	}
	text := pack.String()
	yes, no := func([]Secret) bool { return true }, func([]Secret) bool { return false }
	if err := theirs.Put(Secret{Repository: "harbour/office", Key: "TIDE_TOKEN",
		Value: "of before"}); err != nil {
		t.Fatal(err)
	}
	if _, err := theirs.Unpack(strings.NewReader(text), no); err == nil ||
		!strings.Contains(err.Error(), "TIDE_TOKEN") {
		t.Errorf("what would replace another value is kept: %v", err)
	}
	if value, _, _ := theirs.Get("harbour/office", "TIDE_TOKEN"); value != "of before" {
		t.Errorf("kept is %q", value)
	}
	got, err := theirs.Unpack(strings.NewReader("Here it is:\n"+text+"\nIda"), yes)
	if err != nil || len(got) != 1 || got[0].Value != "canary-1" {
		t.Errorf("unpacked is %v, %v", got, err)
	}
	if value, ok, err := theirs.Get("harbour/office", "TIDE_TOKEN"); value != "canary-1" || !ok ||
		err != nil {
		t.Errorf("kept is %q, %v, %v", value, ok, err)
	}
	for name, c := range map[string]struct {
		store      *Store
		text, code string
	}{
		"for another":   {stranger, text, "pack-for-another"},
		"damaged":       {theirs, strings.Replace(text, "\n", "\nAAAA", 3), "pack-unreadable"},
		"no pack":       {theirs, "canary text", "pack-unreadable"},
		"cut":           {theirs, text[:len(text)/2], "pack-unreadable"},
		"nothing":       {theirs, "", "pack-unreadable"},
		"only its head": {theirs, "-----BEGIN AGE ENCRYPTED FILE-----\n", "pack-unreadable"},
	} {
		_, err := c.store.Unpack(strings.NewReader(c.text), yes)
		var f *stack.Fault
		if !errors.As(err, &f) || string(f.Code) != c.code ||
			strings.Contains(fmt.Sprintf("%+v", *f), "canary") {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, key := range []string{"", "age1wrong", "ssh-ed25519 AAAA", "canary"} {
		err := Pack(&pack, key, some)
		var f *stack.Fault
		if !errors.As(err, &f) || f.Code != "recipient-invalid" ||
			strings.Contains(f.Text, "canary") {
			t.Errorf("packing for %q: %v", key, err)
		}
	}
	if err := Pack(&pack, "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIDxOAz2phpeE3b8V9wUYFpbVTT7dDyLWTLmvhbDkOZhy ida@pier",
		some); err != nil {
		t.Errorf("packing for a key of SSH: %v", err)
	}
}

// TestUnusable refuses what is not safe or not whole, says where and what to do, and changes
// nothing.
func TestUnusable(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		spoil func(s *Store) error
		code  string
		file  func(s *Store) string
	}{
		"a key that others can read": {func(s *Store) error { return os.Chmod(s.Identity, 0o640) },
			"identity-open", func(s *Store) string { return s.Identity }},
		"a key that is gone": {func(s *Store) error { return os.Remove(s.Identity) },
			"locker-unusable", func(s *Store) string { return s.Identity }},
		"a key that is none": {func(s *Store) error {
			return os.WriteFile(s.Identity, []byte("canary"), 0o600)
		}, "locker-unusable", func(s *Store) string { return s.Identity }},
		"a folder for a key": {func(s *Store) error {
			return errors.Join(os.Remove(s.Identity), os.Mkdir(s.Identity, 0o700))
		}, "locker-unusable", func(s *Store) string { return s.Identity }},
		"a damaged locker": {func(s *Store) error {
			return os.WriteFile(s.File, []byte("canary"), 0o600)
		}, "locker-unusable", func(s *Store) string { return s.File }},
		"a cut locker": {func(s *Store) error { return os.Truncate(s.File, 190) },
			"locker-unusable", func(s *Store) string { return s.File }},
		"another key": {func(s *Store) error {
			other := Store{File: s.File + "2", Identity: s.Identity + "2"}
			_, err := other.Recipient()
			return errors.Join(err, os.Rename(other.Identity, s.Identity))
		}, "locker-unusable", func(s *Store) string { return s.File }},
	} {
		s := newStore(t)
		if err := s.Put(secret("r", "K", "canary")); err != nil {
			t.Fatal(err)
		}
		if err := c.spoil(s); err != nil {
			t.Fatal(err)
		}
		before, _ := os.ReadFile(s.File)
		_, _, err := s.Get("r", "K")
		var f *stack.Fault
		if !errors.As(err, &f) || string(f.Code) != c.code || f.At.File != c.file(s) ||
			f.Remedy == "" || strings.Contains(fmt.Sprintf("%+v", *f), "canary") {
			t.Errorf("%s: %v", name, err)
		}
		if err := s.Put(secret("r", "L", "x")); err == nil {
			t.Errorf("%s: something was put into it", name)
		}
		if after, _ := os.ReadFile(s.File); !bytes.Equal(before, after) {
			t.Errorf("%s: the locker has changed", name)
		}
	}
}

func TestDefault(t *testing.T) {
	data, config := t.TempDir(), t.TempDir()
	t.Setenv("XDG_DATA_HOME", data)
	t.Setenv("XDG_CONFIG_HOME", config)
	s, err := Default()
	if err != nil || s.File != filepath.Join(data, "nharbor", "locker.age") ||
		s.Identity != filepath.Join(config, "nharbor", "identity") {
		t.Errorf("the locker is %+v, %v", s, err)
	}
	t.Setenv("XDG_DATA_HOME", "relative") // which the specification says to ignore
	if s, err := Default(); err != nil || !filepath.IsAbs(s.File) {
		t.Errorf("the locker is %+v, %v", s, err)
	}
}
