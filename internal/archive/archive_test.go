package archive

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

// member is an entry of an archive that a test makes: a folder ends with a slash, a link has where
// it leads.
type member struct {
	name, text, link string
	kind             byte // of tar; 0 for what the others say
	mode             int64
}

var ferry = []member{{name: "ferry-1.0/", mode: 0o755},
	{name: "ferry-1.0/run.sh", text: "#!/bin/sh\n", mode: 0o755},
	{name: "ferry-1.0/a/b/c.txt", text: "deep", mode: 0o600}, {name: "ferry-1.0/latest",
		link: "a/b"}, {name: "./ferry-1.0/quay with ü.txt", text: "x", mode: 0o644}}

func tarOf(t testing.TB, members []member) []byte {
	t.Helper()
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, m := range members {
		h := &tar.Header{Name: m.name, Mode: m.mode, Typeflag: tar.TypeReg,
			Size: int64(len(m.text)), Linkname: m.link}
		switch {
		case m.kind != 0:
			h.Typeflag = m.kind
		case strings.HasSuffix(m.name, "/"):
			h.Typeflag = tar.TypeDir
		case m.link != "":
			h.Typeflag = tar.TypeSymlink
		}
		if err := w.WriteHeader(h); err != nil {
			t.Fatal(err)
		}
		if _, err := io.WriteString(w, m.text); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func zipOf(t testing.TB, members []member) []byte {
	t.Helper()
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, m := range members {
		h := &zip.FileHeader{Name: m.name, Method: zip.Deflate}
		h.SetMode(fs.FileMode(m.mode))
		text := m.text
		if m.link != "" {
			h.SetMode(fs.ModeSymlink | 0o777)
			text = m.link
		}
		f, err := w.CreateHeader(h)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := io.WriteString(f, text); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// packed compresses a tar archive.
func packed(t testing.TB, format Format, data []byte) []byte {
	t.Helper()
	var out bytes.Buffer
	var w io.WriteCloser
	var err error
	switch format {
	case TarGzip:
		w = gzip.NewWriter(&out)
	case TarXZ:
		w, err = xz.NewWriter(&out)
	case TarZstd:
		w, err = zstd.NewWriter(&out)
	default:
		return data
	}
	if err == nil {
		_, err = w.Write(data)
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// unpacked writes the archive into a file and unpacks it into a folder of its own.
func unpacked(t testing.TB, data []byte) (string, error) { return unpackedWithin(t, data, plainGrowth) }

func unpackedWithin(t testing.TB, data []byte, plain int64) (string, error) {
	t.Helper()
	dir := t.TempDir()
	file, out := filepath.Join(dir, "archive"), filepath.Join(dir, "out")
	if err := os.WriteFile(file, data, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(out, 0o755); err != nil {
		t.Fatal(err)
	}
	return out, unpackWithin(t.Context(), file, out, nil, plain)
}

func TestFormats(t *testing.T) {
	t.Parallel()
	for _, format := range []Format{Zip, Tar, TarGzip, TarXZ, TarZstd} {
		data := packed(t, format, tarOf(t, ferry))
		if format == Zip {
			data = zipOf(t, ferry)
		}
		out, err := unpacked(t, data)
		if err != nil {
			t.Errorf("%s: %v", format, err)
			continue
		}
		top, err := Top(out)
		if err != nil || filepath.Base(top) != "ferry-1.0" {
			t.Errorf("%s: the top is %s, %v", format, top, err)
		}
		var got []string
		err = filepath.WalkDir(top, func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			rel, _ := filepath.Rel(top, name)
			info, err := d.Info()
			link, _ := os.Readlink(name)
			got = append(got, fmt.Sprintf("%s %o %d %s", filepath.ToSlash(rel),
				info.Mode().Perm()&0o111, info.Size(), link))
			return err
		})
		want := []string{"a/b/c.txt 0 4 ", "latest 111 3 a/b", "quay with ü.txt 0 1 ",
			"run.sh 111 10 "}
		if err != nil || !slices.Equal(got, want) {
			t.Errorf("%s: %q, %v, want %q", format, got, err, want)
		}
	}
}

// TestRefused holds that nothing of an archive gets out of its folder, and that what is wrong is
// named.
func TestRefused(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		members []member
		says    string
	}{
		"above":          {[]member{{name: "../out.txt", text: "x"}}, "leads out"},
		"above, later":   {[]member{{name: "a/../../out.txt", text: "x"}}, "leads out"},
		"absolute":       {[]member{{name: "/etc/out.txt", text: "x"}}, "leads out"},
		"by a backslash": {[]member{{name: `..\out.txt`, text: "x"}}, "leads out"},
		"a link above": {[]member{{name: "l", link: ".."},
			{name: "l/out.txt", text: "x"}}, "leads out"},
		"an absolute link": {[]member{{name: "l", link: "/etc/passwd"}}, "leads out"},
		"a link that is a folder": {[]member{{name: "d", link: "."}, {name: "d/e", link: ".."}},
			"and a folder"},
		"links in a row": {[]member{{name: "x/b", link: ".."}, {name: "x/a", link: "b/../../y"}},
			"by way of others"},
		"links in a circle": {[]member{{name: "a", link: "b"}, {name: "b", link: "a"}}, "circle"},
	} {
		for format, data := range map[Format][]byte{Tar: tarOf(t, c.members),
			Zip: zipOf(t, c.members)} {
			out, err := unpacked(t, data)
			var r *Refused
			if !errors.As(err, &r) || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s, %s: %v, want %q", name, format, err, c.says)
			}
			if _, err := os.Lstat(filepath.Join(filepath.Dir(out), "out.txt")); err == nil {
				t.Errorf("%s, %s: a file was written outside", name, format)
			}
		}
	}
	for name, c := range map[string]struct {
		data []byte
		says string
	}{
		"a device": {tarOf(t, []member{{name: "d", kind: tar.TypeChar}}), "device"},
		"a pipe":   {tarOf(t, []member{{name: "d", kind: tar.TypeFifo}}), "pipe"},
		"a second name of what is outside": {tarOf(t,
			[]member{{name: "h", link: "../x", kind: tar.TypeLink}}), "outside of the folder"},
		"a second name of nothing": {tarOf(t,
			[]member{{name: "h", link: "x", kind: tar.TypeLink}}), "does not have"},
		"no archive":               {[]byte("just some text"), "no archive that is known"},
		"cut off":                  {packed(t, TarGzip, tarOf(t, ferry))[:90], "cut off"},
		"nonsense behind the sign": {append([]byte{0x1f, 0x8b}, "nonsense"...), "can't be read"},
		"a bomb": {packed(t, TarZstd, tarOf(t, bomb())),
			"far more than its own size"},
	} {
		if _, err := unpackedWithin(t, c.data, 1<<20); err == nil ||
			!strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want %q", name, err, c.says)
		}
	}
}

// bomb is nothing but zeros, which take next to no place.
func bomb() []member {
	return slices.Repeat([]member{{name: "zeros", text: strings.Repeat("\x00", 8<<20)}}, 4)
}

// TestKept keeps second names, and ends when it is told to.
func TestKept(t *testing.T) {
	t.Parallel()
	out, err := unpacked(t, tarOf(t,
		[]member{{name: "a", text: "one"}, {name: "b", link: "a", kind: tar.TypeLink}}))
	if data, readErr := os.ReadFile(filepath.Join(out, "b")); err != nil || readErr != nil ||
		string(data) != "one" {
		t.Errorf("the second name holds %q, %v, %v", data, err, readErr)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	file := filepath.Join(t.TempDir(), "x")
	if err := os.WriteFile(file, tarOf(t, ferry), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := Unpack(ctx, file, t.TempDir(), nil); !errors.Is(err, context.Canceled) {
		t.Errorf("when it is interrupted: %v", err)
	}
}

// FuzzUnpack unpacks anything, and finds nothing of it outside.
func FuzzUnpack(f *testing.F) {
	f.Add(tarOf(f, ferry))
	f.Add(zipOf(f, ferry))
	f.Add(tarOf(f, []member{{name: "d", link: "."}, {name: "d/e", link: ".."}}))
	f.Fuzz(func(t *testing.T, data []byte) {
		out, _ := unpacked(t, data)
		entries, err := os.ReadDir(filepath.Dir(out))
		if err != nil || len(entries) != 2 {
			t.Errorf("beside the folder there are %v, %v", entries, err)
		}
	})
}

// BenchmarkUnpack unpacks an archive of 200 MB, and lets the system's own tool do the same;
// x-of-tar is how many times as long it takes.
func BenchmarkUnpack(b *testing.B) {
	tool, err := exec.LookPath("tar")
	if err != nil {
		b.Skip("tar is not installed")
	}
	var members []member
	seed := uint32(1)
	for i := range 2000 {
		text := make([]byte, 100<<10)
		for k := range text {
			seed = seed*1664525 + 1013904223
			text[k] = "abcdefgh ijkl\n"[(seed>>24)%14]
		}
		members = append(members, member{name: fmt.Sprintf("ferry/part-%d/file-%d", i/50, i),
			text: string(text), mode: 0o644})
	}
	file := filepath.Join(b.TempDir(), "ferry.tar.gz")
	if err := os.WriteFile(file, packed(b, TarGzip, tarOf(b, members)), 0o600); err != nil {
		b.Fatal(err)
	}
	var ours, theirs time.Duration
	for b.Loop() {
		begin := time.Now()
		if err := Unpack(b.Context(), file, b.TempDir(), nil); err != nil {
			b.Fatal(err)
		}
		ours += time.Since(begin)
		begin = time.Now()
		if out, err := exec.Command(tool, "-xzf", file, "-C",
			b.TempDir()).CombinedOutput(); err != nil {
			b.Fatalf("%v: %s", err, out)
		}
		theirs += time.Since(begin)
	}
	b.ReportMetric(ours.Seconds()/theirs.Seconds(), "x-of-tar")
}
