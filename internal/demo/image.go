package demo

import (
	"archive/tar"
	"bytes"
	"debug/elf"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
)

// withLibraries lists what an image needs to run a program: the program as /nharbor and, when it is
// not a static one, its loader and its libraries. The keys are the paths in the image.
func withLibraries(program string) (map[string]string, error) {
	files := map[string]string{"nharbor": program}
	f, err := elf.Open(program)
	if err != nil {
		return files, nil // not a program of Linux; the build will tell
	}
	defer f.Close()
	for _, p := range f.Progs {
		if p.Type != elf.PT_INTERP {
			continue
		}
		name, err := io.ReadAll(p.Open())
		if err != nil {
			return nil, err
		}
		loader := string(bytes.TrimRight(name, "\x00"))
		files[loader[1:]] = loader
	}
	needed, err := f.ImportedLibraries()
	if err != nil {
		return nil, err
	}
	for _, lib := range needed {
		found := false
		for _, dir := range []string{"/lib/x86_64-linux-gnu", "/lib/aarch64-linux-gnu",
			"/usr/lib64", "/lib64", "/usr/lib", "/lib"} {
			if _, err := os.Stat(filepath.Join(dir, lib)); err == nil {
				files[path.Join("lib64", lib)], found = filepath.Join(dir, lib), true
				files[path.Join("lib", lib)] = filepath.Join(dir, lib)
				break
			}
		}
		if !found {
			return nil, fmt.Errorf("the program needs %s, which was not found; build it with "+
				"CGO_ENABLED=0", lib)
		}
	}
	return files, nil
}

// imageArchive makes a build's archive of a Dockerfile and files, by their path in it.
func imageArchive(dockerfile string, files map[string]string) (io.Reader, error) {
	var out bytes.Buffer
	t := tar.NewWriter(&out)
	add := func(name string, mode int64, data []byte) error {
		if err := t.WriteHeader(&tar.Header{Name: name, Mode: mode, Size: int64(len(data)),
			Typeflag: tar.TypeReg}); err != nil {
			return err
		}
		_, err := t.Write(data)
		return err
	}
	if err := add("Dockerfile", 0o644, []byte(dockerfile)); err != nil {
		return nil, err
	}
	if err := add(".dockerignore", 0o644, []byte("Dockerfile\n.dockerignore\n")); err != nil {
		return nil, err
	}
	for name, file := range files {
		data, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		if err := add(name, 0o755, data); err != nil {
			return nil, err
		}
	}
	return &out, t.Close()
}
