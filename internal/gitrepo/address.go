package gitrepo

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nimbleharbor/internal/archive"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/stack"
)

// NameOf is the folder name that an address suggests.
func NameOf(address string) string {
	address = strings.TrimRight(address, "/\\")
	for _, ending := range []string{".git", ".zip", ".tar.gz", ".tgz", ".tar.xz", ".txz",
		".tar.zst", ".tzst", ".tar", ".bundle"} {
		if rest, ok := strings.CutSuffix(address, ending); ok {
			address = rest
			break
		}
	}
	if i := strings.LastIndexAny(address, "/\\:"); i >= 0 {
		address = address[i+1:]
	}
	return address
}

// checkAddress refuses what could become an option or run a command, and gives the absolute path of
// a local address.
func checkAddress(address string) (local string, err error) {
	wrong := func(text, remedy string) (string, error) {
		return "", &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeAddressInvalid, Text: text,
			Remedy: remedy}
	}
	const forms = "Give an https:// or ssh:// address, git@host:path, or a folder of this machine."
	switch {
	case address == "":
		return wrong("the address is empty", forms)
	case strings.HasPrefix(address, "-"):
		return wrong(fmt.Sprintf("%q is no address: it begins with a dash", address), forms)
	case strings.Contains(address, "::"):
		return wrong(fmt.Sprintf("%q names a helper program, which is not run", address), forms)
	}
	u, err := url.Parse(address)
	if isURL := err == nil && strings.Contains(address, "://"); isURL && u.Scheme != "" {
		known := slices.Contains([]string{"http", "https", "ssh", "git"}, u.Scheme)
		switch {
		case u.Scheme == "file":
			return filepath.FromSlash(u.Path), nil
		case !known:
			return wrong(fmt.Sprintf("%s:// is not a way to get a repository", u.Scheme), forms)
		case strings.HasPrefix(u.Hostname(), "-"):
			return wrong(fmt.Sprintf("the host of %q begins with a dash", address), forms)
		}
		return "", nil
	}
	info, statErr := os.Stat(address)
	if scp.MatchString(address) && statErr != nil {
		return "", nil
	}
	abs, absErr := filepath.Abs(address)
	if absErr != nil {
		return wrong(absErr.Error(), forms)
	}
	if statErr != nil {
		return "", &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeAddressNotFound,
			At: stack.Place{File: address},
			Text: "there is no such folder, and it is no address of a " +
				"repository", Remedy: forms, Cause: statErr}
	}
	if !info.IsDir() && !isBundle(abs) && !isArchive(abs) {
		return "", &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeAddressNotARepository,
			At: stack.Place{File: address}, Text: "this is a file, and neither a repository, a " +
				"bundle nor an archive", Remedy: forms}
	}
	return abs, nil
}

// isArchive reports whether a file is one that can be unpacked.
func isArchive(file string) bool {
	format, err := archive.FormatOf(file)
	return err == nil && format != archive.None
}

// Elsewhere reports whether an address is one that others can reach too, and no folder or file of
// this machine.
func Elsewhere(address string) bool {
	if u, err := url.Parse(address); err == nil && strings.Contains(address, "://") {
		return u.Scheme != "file" && u.Host != ""
	}
	return scp.MatchString(address)
}

// isBundle reports whether a file is a repository that git has put into one file.
func isBundle(name string) bool {
	f, err := reading.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, 16)
	n, _ := io.ReadFull(f, head)
	begins := string(head[:n])
	return strings.HasPrefix(begins, "# v2 git bundle") ||
		strings.HasPrefix(begins, "# v3 git bundle")
}

var scp = expr.New(
	`^[A-Za-z0-9_][A-Za-z0-9_.-]*(@[A-Za-z0-9][A-Za-z0-9_.-]*)?:[^/].*|^[A-Za-z0-9_.-]+@[A-Za-z0-9][A-Za-z0-9_.-]*:.+`)

var (
	shortAddress = expr.New(`^(?:[^@/\s]+@)?([^:/\s]+):([^/\s].*)$`)
	fullAddress  = expr.New(`^[a-z+]+://(?:[^@/\s]*@)?([^/:\s]+)(?::\d+)?/(.*)$`)
)

// Name tells which repository a checkout is of, the same for each clone however its address is
// written: host and path of its remote called origin, or of its first one; without a remote its
// first commit. It is empty for what has neither.
func Name(ctx context.Context, dir string) string {
	g := git{ctx: ctx}
	address := g.output(dir, "config", "--get", "remote.origin.url")
	if address == "" {
		first, _, _ := strings.Cut(g.output(dir, "remote"), "\n")
		if first != "" {
			address = g.output(dir, "config", "--get", "remote."+first+".url")
		}
	}
	if address == "" {
		if first, _, _ := strings.Cut(g.output(dir, "rev-list", "--max-parents=0", "HEAD"),
			"\n"); first != "" {
			return "commit:" + first
		}
		return ""
	}
	return NormalAddress(address)
}

// NormalAddress is a repository's address without what differs between ways to reach it: scheme,
// user, port, ending.
func NormalAddress(address string) string {
	host, path := "", address
	if m := fullAddress.FindStringSubmatch(address); m != nil {
		host, path = m[1], m[2]
	} else if m := shortAddress.FindStringSubmatch(address); m != nil &&
		!strings.HasPrefix(address, "/") && !strings.HasPrefix(address, ".") {
		host, path = m[1], m[2]
	}
	path = strings.TrimRight(strings.TrimSuffix(strings.TrimRight(strings.TrimPrefix(path,
		"file://"), "/"), ".git"), "/")
	if host == "" {
		return path
	}
	return strings.ToLower(host) + "/" + strings.TrimPrefix(path, "/")
}
