// Package archive unpacks what a repository is handed on as without git: zip and tar, the latter
// plain or compressed with gzip, xz or zstd. What an archive holds is not trusted: an entry whose
// name or link leads out of the folder, a device, and a size that its own size does not explain are
// refused, and named.
package archive

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"nimbleharbor/internal/reading"
)

// Format is how an archive is written.
type Format string

// The formats.
const (
	None    Format = ""
	Zip     Format = "zip"
	Tar     Format = "tar"
	TarGzip Format = "tar.gz"
	TarXZ   Format = "tar.xz"
	TarZstd Format = "tar.zst"
)

// FormatOf tells by its first bytes how a file is written; None for what is no archive. The error
// is that of reading.
func FormatOf(name string) (Format, error) {
	f, err := reading.Open(name)
	if err != nil {
		return None, err
	}
	defer f.Close()
	head := make([]byte, 512)
	n, err := io.ReadFull(f, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && err != io.EOF {
		return None, err
	}
	head = head[:n]
	switch {
	case bytes.HasPrefix(head, []byte("PK\x03\x04")), bytes.HasPrefix(head, []byte("PK\x05\x06")):
		return Zip, nil
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		return TarGzip, nil
	case bytes.HasPrefix(head, []byte("\xfd7zXZ\x00")):
		return TarXZ, nil
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		return TarZstd, nil
	case len(head) > 262 && string(head[257:262]) == "ustar":
		return Tar, nil
	}
	return None, nil
}

// Bounds of what is unpacked: how many entries, how many bytes, and how many times its own size an
// archive may come to beyond a size that is never suspicious.
const (
	maxEntries  = 1 << 20
	maxBytes    = 64 << 30
	maxGrowth   = 200
	plainGrowth = 1 << 30
	maxLink     = 4096
)

// Refused is an archive that is not unpacked, or not to its end, because of what one of its entries
// asks for.
type Refused struct {
	Entry string // empty where it is about the whole
	Why   string
}

func (r *Refused) Error() string {
	if r.Entry == "" {
		return r.Why
	}
	return fmt.Sprintf("its entry %q %s", r.Entry, r.Why)
}

// entry is one of an archive, whatever its format.
type entry struct {
	name string
	mode fs.FileMode
	link string // of a symbolic link
	hard string // of a second name of a file: that of the first
	open func() (io.ReadCloser, error)
}

// Unpack writes all that an archive holds into a folder, which must be there. progress is told how
// many of the archive's own bytes have been read, and how many there are; it may be nil. The error
// is a *Refused where the archive is the reason.
func Unpack(ctx context.Context, name, dir string, progress func(read, of int64)) error {
	return unpackWithin(ctx, name, dir, progress, plainGrowth)
}

// unpackWithin is Unpack with the size that is never suspicious.
func unpackWithin(ctx context.Context, name, dir string, progress func(read, of int64),
	plain int64) error {
	format, err := FormatOf(name)
	if err != nil {
		return err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	info, err := os.Stat(name)
	if err != nil {
		return err
	}
	u := &unpacker{ctx: ctx, root: root, size: info.Size(), plain: plain, progress: progress,
		made: map[string]bool{".": true}, buffer: make([]byte, 256<<10)}
	switch format {
	case Zip:
		return u.zip(name)
	case None:
		return &Refused{Why: "it is no archive that is known: zip, tar, tar.gz, tar.xz or tar.zst"}
	}
	f, err := reading.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	counted := &counting{from: f, u: u}
	content, closeIt, err := decompressed(format, bufio.NewReaderSize(counted, 1<<20))
	if err != nil {
		return &Refused{Why: "it can't be read: " + err.Error()}
	}
	defer closeIt()
	return u.tar(content)
}

func decompressed(format Format, in io.Reader) (io.Reader, func(), error) {
	switch format {
	case TarGzip:
		r, err := gzip.NewReader(in)
		return r, func() {}, err
	case TarXZ:
		r, err := xz.NewReader(in)
		return r, func() {}, err
	case TarZstd:
		r, err := zstd.NewReader(in, zstd.WithDecoderMaxMemory(1<<30))
		if err != nil {
			return nil, nil, err
		}
		return r, r.Close, nil
	}
	return in, func() {}, nil
}

// counting tells how much of the archive has been read.
type counting struct {
	from io.Reader
	u    *unpacker
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.from.Read(p)
	c.u.read += int64(n)
	if c.u.progress != nil {
		c.u.progress(c.u.read, c.u.size)
	}
	return n, err
}

type unpacker struct {
	ctx      context.Context
	root     *os.Root
	size     int64 // of the archive
	plain    int64 // what it may come to whatever its size
	read     int64
	progress func(read, of int64)
	made     map[string]bool // folders
	entries  int
	written  int64
	buffer   []byte
	links    []entry // made at the end, so that nothing is written through one
}

func (u *unpacker) tar(in io.Reader) error {
	t := tar.NewReader(in)
	for {
		h, err := t.Next()
		if err == io.EOF {
			return u.finish()
		}
		if err != nil {
			return &Refused{Why: "it is damaged, or cut off: " + err.Error()}
		}
		e := entry{name: h.Name, mode: fs.FileMode(h.Mode).Perm(),
			open: func() (io.ReadCloser, error) { return io.NopCloser(t), nil }}
		switch h.Typeflag {
		case tar.TypeReg, '\x00':
		case tar.TypeDir:
			e.mode |= fs.ModeDir
		case tar.TypeSymlink:
			e.mode |= fs.ModeSymlink
			e.link = h.Linkname
		case tar.TypeLink:
			e.hard = h.Linkname
		case tar.TypeXGlobalHeader, tar.TypeXHeader:
			continue
		case tar.TypeChar, tar.TypeBlock, tar.TypeFifo:
			return &Refused{h.Name, "is a device or a pipe"}
		default:
			return &Refused{h.Name, fmt.Sprintf("is of a kind that is not known (%q)", h.Typeflag)}
		}
		if err := u.put(e); err != nil {
			return err
		}
	}
}

func (u *unpacker) zip(name string) error {
	z, err := zip.OpenReader(name)
	if err != nil {
		return &Refused{Why: "it is damaged, or cut off: " + err.Error()}
	}
	defer z.Close()
	for _, f := range z.File {
		e := entry{name: f.Name, mode: f.Mode(), open: f.Open}
		switch {
		case strings.HasSuffix(f.Name, "/"), e.mode.IsDir():
			e.mode = fs.ModeDir | e.mode.Perm()
		case e.mode&fs.ModeSymlink != 0:
			if e.link, err = linkOf(f); err != nil {
				return err
			}
		case !e.mode.IsRegular():
			return &Refused{f.Name, "is a device or a pipe"}
		}
		if err := u.put(e); err != nil {
			return err
		}
		if u.read += int64(f.CompressedSize64); u.progress != nil {
			u.progress(min(u.read, u.size), u.size)
		}
	}
	return u.finish()
}

func linkOf(f *zip.File) (string, error) {
	r, err := f.Open()
	if err != nil {
		return "", &Refused{f.Name, "can't be read: " + err.Error()}
	}
	defer r.Close()
	data, err := io.ReadAll(io.LimitReader(r, maxLink+1))
	if err != nil || len(data) > maxLink {
		return "", &Refused{f.Name, "is a link that can't be read"}
	}
	return string(data), nil
}

// put writes one entry.
func (u *unpacker) put(e entry) error {
	if err := u.ctx.Err(); err != nil {
		return err
	}
	if u.entries++; u.entries > maxEntries {
		return &Refused{Why: fmt.Sprintf("it has more than %d entries", maxEntries)}
	}
	name := path.Clean(strings.ReplaceAll(e.name, `\`, "/"))
	if name == "." {
		return nil
	}
	if !filepath.IsLocal(filepath.FromSlash(name)) || path.IsAbs(name) {
		return &Refused{e.name, "leads out of the folder"}
	}
	if e.mode.IsDir() {
		return u.folder(name)
	}
	if err := u.folder(path.Dir(name)); err != nil {
		return err
	}
	switch {
	case e.mode&fs.ModeSymlink != 0:
		to := path.Join(path.Dir(name), e.link)
		if path.IsAbs(e.link) || !filepath.IsLocal(filepath.FromSlash(to)) && to != "." {
			return &Refused{e.name, fmt.Sprintf("is a link that leads out of the folder, to %s",
				e.link)}
		}
		e.name = name
		u.links = append(u.links, e)
		return nil
	case e.hard != "":
		first := path.Clean(e.hard)
		if !filepath.IsLocal(filepath.FromSlash(first)) {
			return &Refused{e.name, "is a second name of a file outside of the folder"}
		}
		return u.again(first, name)
	}
	in, err := e.open()
	if err != nil {
		return &Refused{e.name, "can't be read: " + err.Error()}
	}
	defer in.Close()
	return u.file(name, e, in)
}

// folder makes a folder with those above it.
func (u *unpacker) folder(name string) error {
	if u.made[name] {
		return nil
	}
	if err := u.root.MkdirAll(filepath.FromSlash(name), 0o755); err != nil {
		return err
	}
	for at := name; !u.made[at]; at = path.Dir(at) {
		u.made[at] = true
	}
	return nil
}

func (u *unpacker) file(name string, e entry, in io.Reader) error {
	mode := fs.FileMode(0o644)
	if e.mode&0o111 != 0 {
		mode = 0o755
	}
	out, err := u.root.OpenFile(filepath.FromSlash(name), os.O_WRONLY|os.O_CREATE|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	most := int64(maxBytes)
	if u.size < maxBytes/maxGrowth {
		most = max(u.size*maxGrowth, u.plain)
	}
	n, err := io.CopyBuffer(struct{ io.Writer }{out}, io.LimitReader(in, most-u.written+1),
		u.buffer)
	u.written += n
	if closed := out.Close(); err == nil {
		err = closed
	}
	switch {
	case u.written > most:
		return &Refused{e.name, fmt.Sprintf("makes the archive grow beyond %d MB, far more than "+
			"its own size explains", most>>20)}
	case errors.As(err, new(*fs.PathError)), err == nil:
		return err
	}
	return &Refused{e.name, "is damaged, or cut off: " + err.Error()}
}

// again writes a file that the archive names a second time.
func (u *unpacker) again(first, name string) error {
	in, err := u.root.Open(filepath.FromSlash(first))
	if err != nil {
		return &Refused{name, "is a second name of a file that the archive does not have"}
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil || !info.Mode().IsRegular() {
		return &Refused{name, "is a second name of something that is no file"}
	}
	return u.file(name, entry{name: name, mode: info.Mode()}, in)
}

// finish makes the links, and then goes along each: through others it may lead elsewhere than its
// words say.
func (u *unpacker) finish() error {
	if u.progress != nil {
		u.progress(u.size, u.size)
	}
	for _, e := range u.links {
		name := filepath.FromSlash(e.name)
		if info, err := u.root.Lstat(name); err == nil {
			if info.IsDir() {
				return &Refused{e.name, "is a link, and a folder with entries too"}
			}
			u.root.Remove(name) // a later entry of the same name counts
		}
		if err := u.root.Symlink(filepath.FromSlash(e.link), name); err != nil {
			return err
		}
	}
	for _, e := range u.links {
		if _, err := u.root.Stat(filepath.FromSlash(e.name)); err != nil &&
			!errors.Is(err, fs.ErrNotExist) {
			return &Refused{e.name, fmt.Sprintf("is a link that leads out of the folder, or in "+
				"a circle, by way of others: %s", e.link)}
		}
	}
	return nil
}

// Top is the one folder that holds all that was unpacked, where there is one: archives of a
// repository have it; else the folder itself.
func Top(dir string) (string, error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return "", err
	}
	if len(entries) == 1 && entries[0].IsDir() {
		return filepath.Join(dir, entries[0].Name()), nil
	}
	return dir, nil
}
