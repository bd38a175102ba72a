package needs

import (
	"bytes"
	"context"
	"errors"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/shirou/gopsutil/v4/disk"
	"github.com/shirou/gopsutil/v4/mem"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/stack"
)

// DiskFree asks the file system.
func (l *Local) DiskFree(folder string) (uint64, error) {
	if folder == "" {
		folder = l.Dir
	}
	u, err := disk.Usage(folder)
	if err != nil {
		return 0, err
	}
	return u.Free, nil
}

// Weigh reads the project's lock file.
func (l *Local) Weigh(p *stack.Project) (w Weight, ok bool) {
	if l.Files == nil {
		return w, false
	}
	w.Lock, w.Packages, w.Size, ok = ecosystem.Weigh(l.Files, p.Path, p.Manager)
	return w, ok
}

// Host asks the kernel and a shell.
func (l *Local) Host() (f Facts) {
	if m, err := mem.VirtualMemory(); err == nil {
		f.Memory, f.MemoryFree = m.Total, m.Available
	}
	// This program may have raised its own limit; what it starts gets the one that it was started
	// with.
	if sh := l.find("sh"); sh != "" && !l.inside(sh) {
		if said, err := ask(context.Background(), sh, []string{"-c", "ulimit -n"}); err == nil {
			f.OpenFiles, _ = strconv.ParseUint(said, 10, 64)
		}
	}
	if most, ok := l.Kernel("fs.inotify.max_user_watches"); ok {
		f.Watches.Most = int(most)
	}
	if most, ok := l.Kernel("fs.inotify.max_user_instances"); ok {
		f.Watchers.Most = int(most)
		f.Watchers.Used, f.Watches.Used = watching()
	}
	return f
}

// Kernel reads a limit of Linux.
func (l *Local) Kernel(name string) (uint64, bool) {
	data, err := os.ReadFile(filepath.Join("/proc/sys",
		filepath.FromSlash(strings.ReplaceAll(name, ".", "/"))))
	if err != nil {
		return 0, false
	}
	value, err := strconv.ParseUint(string(bytes.TrimSpace(data)), 10, 64)
	return value, err == nil
}

// watching counts what this person's programs watch now.
func watching() (watchers, watches int) {
	processes, _ := filepath.Glob("/proc/[0-9]*")
	for _, process := range processes {
		if !owned(process) {
			continue
		}
		open, err := os.ReadDir(filepath.Join(process, "fd"))
		if err != nil {
			continue
		}
		for _, fd := range open {
			if to, err := os.Readlink(filepath.Join(process, "fd", fd.Name())); err != nil ||
				to != "anon_inode:inotify" {
				continue
			}
			watchers++
			if info, err := os.ReadFile(filepath.Join(process, "fdinfo", fd.Name())); err == nil {
				watches += bytes.Count(info, []byte("inotify wd:"))
			}
		}
	}
	return watchers, watches
}

// Reaches asks the source's server for no more than a head; whatever it answers, it is there.
func (l *Local) Reaches(ctx context.Context, address string) error {
	ctx, cancel := context.WithTimeout(ctx, sourceTime)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodHead, address, nil)
	if err != nil {
		return nil // no address that can be asked
	}
	answer, err := http.DefaultClient.Do(request)
	if err == nil {
		return answer.Body.Close()
	}
	var told *url.Error
	if errors.As(err, &told) {
		err = told.Err
	}
	return err
}

// sourceTime is how long a package source may take to say anything.
const sourceTime = 8 * time.Second
