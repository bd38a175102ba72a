package gitrepo

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"nimbleharbor/internal/reading"
)

// Returns lists the scripts of a checkout whose lines end with a carriage return too, so that no
// shell can run them, and reports whether they are committed so; otherwise git has made them so
// here. Paths are slash-separated.
func Returns(ctx context.Context, dir string) (files []string, committed bool) {
	g := git{ctx: ctx}
	var small []string // git reads the whole of each that it is asked about
	for name := range strings.SplitSeq(g.output(dir, "ls-files", "-z", "--", "*.sh", "*.bash",
		"*gradlew", "*mvnw", "*bin/*"), "\x00") {
		info, err := os.Lstat(filepath.Join(dir, filepath.FromSlash(name)))
		if name != "" && err == nil && info.Mode().IsRegular() && info.Size() <= maxSmall {
			small = append(small, name)
		}
	}
	if len(small) == 0 || Clear(dir, small) != nil {
		return nil, false
	}
	list := ""
	for part := range slices.Chunk(small, 500) {
		list += g.output(dir, append([]string{"--literal-pathspecs", "ls-files", "--eol", "-z",
			"--"}, part...)...)
	}
	for entry := range strings.SplitSeq(list, "\x00") {
		about, name, _ := strings.Cut(entry, "\t")
		words := strings.Fields(about)
		if len(words) < 2 || words[1] != "w/crlf" && words[1] != "w/mixed" ||
			!isScript(filepath.Join(dir, name)) {
			continue
		}
		files = append(files, name)
		committed = committed || words[0] != "i/lf"
	}
	return files, committed
}

// isScript reports whether a file begins with the line that names its program, and that ends with a
// carriage return.
func isScript(name string) bool {
	f, err := reading.OpenOwn(name)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, 256)
	n, _ := f.Read(head)
	first, _, found := strings.Cut(string(head[:n]), "\n")
	return found && strings.HasPrefix(first, "#!") && strings.HasSuffix(first, "\r")
}

// SameButForCase lists the files of a checkout whose names differ from another's in case alone, in
// pairs. It is for file systems that can't tell them apart.
func SameButForCase(ctx context.Context, dir string) (pairs [][2]string) {
	seen := map[string]string{}
	for name := range strings.SplitSeq(git{ctx: ctx}.output(dir, "ls-files", "-z"), "\x00") {
		low := strings.ToLower(name)
		if other, twice := seen[low]; twice {
			pairs = append(pairs, [2]string{other, name})
		}
		seen[low] = name
	}
	return pairs
}

// CommittedAt is when the commit that is checked out was made; zero where that isn't known.
func CommittedAt(ctx context.Context, dir string) time.Time {
	seconds, err := strconv.ParseInt(git{ctx: ctx}.output(dir, "log", "-1", "--format=%ct"), 10, 64)
	if err != nil {
		return time.Time{}
	}
	return time.Unix(seconds, 0)
}
