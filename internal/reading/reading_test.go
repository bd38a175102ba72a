package reading_test

import (
	"io/fs"
	"sync"
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/settings"
)

// counting counts how often each file is opened.
type counting struct {
	fstest.MapFS
	mu     sync.Mutex
	opened map[string]int
}

func (c *counting) Open(name string) (fs.File, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.opened[name]++
	return c.MapFS.Open(name)
}

func (c *counting) ReadFile(name string) ([]byte, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.opened[name]++
	return c.MapFS.ReadFile(name)
}

func TestEachFileIsReadOnce(t *testing.T) {
	t.Parallel()
	under := &counting{MapFS: fstest.MapFS{".env": {Data: []byte("PORT=80\n")},
		"bad.env": {Data: []byte("'")}}, opened: map[string]int{}}
	files := reading.Of(under)
	if reading.Of(files) != files {
		t.Error("what is kept is kept twice")
	}
	var wait sync.WaitGroup
	for range 8 {
		wait.Go(func() {
			for _, name := range []string{".env", "bad.env", "none.env"} {
				fs.ReadFile(files, name)
				dotenv.Read(files, name)
				settings.Read(files, name, settings.Env)
			}
		})
	}
	wait.Wait()
	for _, name := range []string{".env", "bad.env", "none.env"} {
		if under.opened[name] != 1 {
			t.Errorf("%s was opened %d times", name, under.opened[name])
		}
	}
	first, err := settings.Read(files, ".env", settings.Env)
	again, _ := settings.Read(files, ".env", settings.Env)
	if err != nil || first != again || first.Entries[0].Value != "80" {
		t.Errorf("it was parsed twice, or not at all: %v, %v", first, err)
	}
	own := first.Clone()
	more, _ := settings.Parse("t", settings.Env, []byte("HOST=x\n"))
	if _, err := own.AddFrom(more); err != nil || len(first.Entries) != 1 || len(own.Entries) != 2 {
		t.Errorf("an edit of a copy changes what others see: %v, %v, %v", first.Entries,
			own.Entries, err)
	}
	under.MapFS[".env"] = &fstest.MapFile{Data: []byte("PORT=82\n")}
	files.Forget(".env")
	if now, err := settings.Read(files, ".env", settings.Env); err != nil ||
		now.Entries[0].Value != "82" {
		t.Errorf("what was written since is not seen: %v, %v", now, err)
	}
	if _, err := settings.Read(files, "bad.env", settings.Env); err == nil {
		t.Error("a fault is forgotten")
	}
}
