package standin

import (
	"archive/tar"
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	dockerspec "github.com/moby/docker-image-spec/specs-go/v1"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/image"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Image is what a container is made of: programs and files by their path in the container, and how
// it is started.
type Image struct {
	ID         string
	Files      map[string]string // path in the container: path on this machine
	Entrypoint []string
	Cmd        []string
	Env        []string
	WorkingDir string
	Exposed    []string // "5432/tcp"
	Labels     map[string]string
	Health     *container.HealthConfig
}

func (s *Server) imageRoutes(handle router) {
	handle("POST /images/create", func(w http.ResponseWriter, r *http.Request) error {
		ref := r.URL.Query().Get("fromImage")
		if tag := r.URL.Query().Get("tag"); tag != "" {
			ref += ":" + tag
		}
		ref = strings.TrimPrefix(strings.TrimPrefix(ref, "docker.io/library/"), "docker.io/")
		s.mu.Lock()
		img := s.image(ref)
		s.mu.Unlock()
		if img == nil {
			return notFound("there is no image %s in the stand-in, and it has no registry", ref)
		}
		return reply(w, http.StatusOK, map[string]string{"status": ref + " is here"})
	})
	handle("GET /images/{name...}", func(w http.ResponseWriter, r *http.Request) error {
		ref, ok := strings.CutSuffix(r.PathValue("name"), "/json")
		s.mu.Lock()
		defer s.mu.Unlock()
		img := s.image(ref)
		if !ok || img == nil {
			return notFound("there is no image %s", ref)
		}
		exposed := map[string]struct{}{}
		for _, p := range img.Exposed {
			exposed[p] = struct{}{}
		}
		return reply(w, http.StatusOK,
			image.InspectResponse{ID: img.ID, RepoTags: []string{withTag(ref)}, Os: "linux",
				Config: &dockerspec.DockerOCIImageConfig{ImageConfig: ocispec.ImageConfig{
					Entrypoint: img.Entrypoint, Cmd: img.Cmd, Env: img.Env,
					WorkingDir: img.WorkingDir, Labels: img.Labels,
					ExposedPorts: exposed}}})
	})
	handle("POST /images/{name...}", func(w http.ResponseWriter, r *http.Request) error {
		ref, ok := strings.CutSuffix(r.PathValue("name"), "/tag")
		s.mu.Lock()
		defer s.mu.Unlock()
		img := s.image(ref)
		if !ok || img == nil {
			return notFound("there is no image %s", ref)
		}
		name := r.URL.Query().Get("repo")
		if tag := r.URL.Query().Get("tag"); tag != "" {
			name += ":" + tag
		}
		s.images[withTag(strings.TrimPrefix(name, "docker.io/"))] = img
		w.WriteHeader(http.StatusCreated)
		return nil
	})
	handle("DELETE /images/{name...}", func(w http.ResponseWriter, r *http.Request) error {
		s.mu.Lock()
		defer s.mu.Unlock()
		ref := r.PathValue("name")
		if s.image(ref) == nil {
			return notFound("there is no image %s", ref)
		}
		delete(s.images, withTag(ref))
		return reply(w, http.StatusOK, []map[string]string{{"Untagged": withTag(ref)}})
	})
	handle("POST /build", s.build)
}

func (s *Server) image(ref string) *Image {
	if img := s.images[withTag(ref)]; img != nil {
		return img
	}
	for _, img := range s.images {
		if img.ID == ref {
			return img
		}
	}
	return nil
}

// build reads an archive and obeys its Dockerfile as far as an image without a shell can need it:
// FROM, COPY, ADD, ENV, WORKDIR, EXPOSE, LABEL, CMD, ENTRYPOINT, HEALTHCHECK. RUN is refused.
func (s *Server) build(w http.ResponseWriter, r *http.Request) error {
	q := r.URL.Query()
	dir := filepath.Join(s.dir, "builds", newID()[:12])
	if err := unpack(r.Body, dir); err != nil {
		return &refusal{http.StatusBadRequest, err.Error()}
	}
	name := q.Get("dockerfile")
	if name == "" {
		name = "Dockerfile"
	}
	data, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(path.Clean("/"+name))))
	if err != nil {
		return &refusal{http.StatusBadRequest, fmt.Sprintf("the archive holds no %s", name)}
	}
	w.Header().Set("Content-Type", "application/json")
	out := json.NewEncoder(w)
	b := builder{server: s, dir: dir, args: map[string]string{}, say: func(line string) {
		out.Encode(map[string]string{"stream": line + "\n"})
	}}
	var given map[string]*string
	if json.Unmarshal([]byte(q.Get("buildargs")), &given) == nil {
		for k, v := range given {
			if v != nil {
				b.args[k] = *v
			}
		}
	}
	if err := b.run(string(data)); err != nil {
		return out.Encode(map[string]any{"error": err.Error(),
			"errorDetail": map[string]string{"message": err.Error()}})
	}
	var labels map[string]string
	if json.Unmarshal([]byte(q.Get("labels")), &labels) == nil {
		for k, v := range labels {
			b.image.Labels[k] = v
		}
	}
	b.image.ID = "sha256:" + newID()
	s.mu.Lock()
	for _, tag := range q["t"] {
		s.images[withTag(tag)] = b.image
	}
	s.mu.Unlock()
	b.say("built " + b.image.ID[7:19])
	return nil
}

type builder struct {
	server *Server
	dir    string
	image  *Image
	args   map[string]string
	say    func(string)
}

func (b *builder) run(dockerfile string) error {
	for i, line := range instructions(dockerfile) {
		b.say(fmt.Sprintf("line %d: %s", i+1, line))
		word, rest, _ := strings.Cut(line, " ")
		rest = strings.TrimSpace(os.Expand(rest, func(k string) string { return b.args[k] }))
		word = strings.ToUpper(word)
		if b.image == nil && word != "FROM" && word != "ARG" {
			return fmt.Errorf("%s stands before FROM", word)
		}
		if err := b.instruction(word, rest); err != nil {
			return err
		}
	}
	if b.image == nil {
		return errors.New("the Dockerfile has no FROM")
	}
	return nil
}

func (b *builder) instruction(word, rest string) error {
	switch word {
	case "FROM":
		ref := strings.Fields(rest)[0]
		next := &Image{Files: map[string]string{}, Labels: map[string]string{}}
		if ref != "scratch" {
			b.server.mu.Lock()
			base := b.server.image(ref)
			b.server.mu.Unlock()
			if base == nil {
				return fmt.Errorf("there is no image %s in the stand-in, and it has no registry",
					ref)
			}
			*next = *base
			next.Files, next.Labels = map[string]string{}, map[string]string{}
			for k, v := range base.Files {
				next.Files[k] = v
			}
			for k, v := range base.Labels {
				next.Labels[k] = v
			}
		}
		b.image = next
	case "ARG":
		if k, v, has := strings.Cut(rest, "="); has {
			if _, given := b.args[k]; !given {
				b.args[k] = v
			}
		}
	case "COPY", "ADD":
		return b.copy(rest)
	case "ENV":
		b.image.Env = append(b.image.Env[:len(b.image.Env):len(b.image.Env)], assignments(rest)...)
	case "LABEL":
		for _, l := range assignments(rest) {
			k, v, _ := strings.Cut(l, "=")
			b.image.Labels[k] = v
		}
	case "WORKDIR":
		b.image.WorkingDir = path.Join("/", b.image.WorkingDir, rest)
		if path.IsAbs(rest) {
			b.image.WorkingDir = path.Clean(rest)
		}
	case "EXPOSE":
		for _, p := range strings.Fields(rest) {
			if !strings.Contains(p, "/") {
				p += "/tcp"
			}
			b.image.Exposed = append(b.image.Exposed[:len(b.image.Exposed):len(b.image.Exposed)], p)
		}
	case "CMD":
		b.image.Cmd = commandWords(rest)
	case "ENTRYPOINT":
		b.image.Entrypoint = commandWords(rest)
	case "HEALTHCHECK":
		_, command, _ := strings.Cut(rest, "CMD")
		b.image.Health = &container.HealthConfig{Test: append([]string{"CMD"},
			commandWords(strings.TrimSpace(command))...)}
	case "RUN":
		return errors.New("the stand-in has no shell: RUN can't be obeyed")
	case "USER", "VOLUME", "STOPSIGNAL", "SHELL", "MAINTAINER", "ONBUILD":
	default:
		return fmt.Errorf("unknown instruction: %s", word)
	}
	return nil
}

func (b *builder) copy(rest string) error {
	var words []string
	for _, w := range commandWords(rest) {
		if !strings.HasPrefix(w, "--") {
			words = append(words, w)
		}
	}
	if len(words) < 2 {
		return errors.New("COPY wants a source and a target")
	}
	target := words[len(words)-1]
	into := strings.HasSuffix(target, "/") || len(words) > 2
	if !path.IsAbs(target) {
		target = path.Join("/", b.image.WorkingDir, target)
	}
	for _, w := range words[:len(words)-1] {
		source := filepath.Join(b.dir, filepath.FromSlash(path.Clean("/"+w)))
		info, err := os.Stat(source)
		if err != nil {
			return fmt.Errorf("COPY: the archive holds no %s", w)
		}
		to := path.Clean(target)
		if into && !info.IsDir() {
			to = path.Join(to, path.Base(w))
		}
		b.image.Files[to] = source
	}
	return nil
}

// instructions joins continued lines and leaves out comments.
func instructions(dockerfile string) []string {
	var out []string
	line := ""
	for scanner := bufio.NewScanner(strings.NewReader(dockerfile)); scanner.Scan(); {
		text := strings.TrimSpace(scanner.Text())
		if text == "" || text[0] == '#' {
			continue
		}
		if more, ok := strings.CutSuffix(text, `\`); ok {
			line += more + " "
			continue
		}
		out = append(out, line+text)
		line = ""
	}
	return out
}

// commandWords reads the JSON form, or plain words.
func commandWords(s string) []string {
	var words []string
	if json.Unmarshal([]byte(s), &words) == nil {
		return words
	}
	return strings.Fields(s)
}

func assignments(s string) []string {
	if k, v, ok := strings.Cut(s, " "); ok && !strings.Contains(k, "=") {
		return []string{k + "=" + strings.TrimSpace(v)}
	}
	var out []string
	for _, f := range strings.Fields(s) {
		out = append(out, strings.ReplaceAll(f, `"`, ""))
	}
	return out
}

// unpack writes an archive into a folder and lets no path leave it.
func unpack(r io.Reader, dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	t := tar.NewReader(r)
	for {
		h, err := t.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		name := strings.TrimSuffix(h.Name, "/")
		switch h.Typeflag {
		case tar.TypeDir:
			err = root.MkdirAll(name, 0o755)
		case tar.TypeReg:
			if d := path.Dir(name); d != "." {
				if err := root.MkdirAll(d, 0o755); err != nil {
					return err
				}
			}
			var f *os.File
			if f, err = root.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_TRUNC,
				h.FileInfo().Mode().Perm()|0o600); err == nil {
				_, err = io.Copy(f, t)
				err = errors.Join(err, f.Close())
			}
		}
		if err != nil {
			return err
		}
	}
}

func created() string { return time.Now().UTC().Format(time.RFC3339Nano) }
