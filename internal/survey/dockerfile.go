package survey

import (
	"encoding/json"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/shell"
)

// image is what a Dockerfile says of the image that one of its stages makes.
type image struct {
	base    string // the image that it is made on
	workdir string // absolute in the container
	command []string
	exposes []exposed
	copies  []laidOver // from the context, the later ones last
	takes   []taken    // all that it takes from the context, in stages before as well
	sets    []string   // the names of the variables that it sets for what runs in it
}

// exposed is a port that an image says it listens on.
type exposed struct {
	port, line int
	transport  string
}

// laidOver is a file or folder of the context, relative to it, and where it lies in the container.
type laidOver struct{ from, to string }

// taken is a path of the context as it is written, with its line.
type taken struct {
	path string
	line int
}

// instruction is one of a Dockerfile's, its lines joined.
type instruction struct {
	line  int
	name  string // in upper case
	words []string
}

const maxDockerfile = 1 << 20

// instructions reads a Dockerfile; what stands in a heredoc is left out.
func instructions(data []byte) []instruction {
	var out []instruction
	lines := strings.Split(strings.ReplaceAll(string(data), "\r\n", "\n"), "\n")
	for i := 0; i < len(lines); i++ {
		first := i
		text := strings.TrimSpace(lines[i])
		if text == "" || text[0] == '#' {
			continue
		}
		for strings.HasSuffix(text, `\`) && i+1 < len(lines) {
			i++
			if next := strings.TrimSpace(lines[i]); next == "" || next[0] != '#' {
				text = strings.TrimSuffix(text, `\`) + " " + next
			} else {
				text = strings.TrimSuffix(text, `\`) + ` \` // a comment in between
			}
		}
		words := strings.Fields(text)
		if len(words) == 0 { // nothing but signs that a line goes on
			continue
		}
		if mark := heredoc.FindStringSubmatch(text); mark != nil {
			for i+1 < len(lines) && strings.TrimSpace(lines[i+1]) != mark[1] {
				i++
			}
			i++
		}
		out = append(out, instruction{first + 1, strings.ToUpper(words[0]), words[1:]})
	}
	return out
}

// listed are the words of an instruction's JSON form, or else as they stand.
func listed(words []string) []string {
	var list []string
	if text := strings.Join(words, " "); strings.HasPrefix(text, "[") && json.Unmarshal([]byte(text), &list) == nil {
		return list
	}
	return words
}

// buildStage is one of a Dockerfile's stages while it is read.
type buildStage struct {
	image
	from []int // the stages that it needs
}

// imageOf reads what the stage makes that is the target; empty is the last.
func imageOf(data []byte, target string) *image {
	var stages []*buildStage
	names := map[string]int{}
	last := -1
	for _, in := range instructions(data) {
		if in.name == "FROM" {
			words := slices.DeleteFunc(
				slices.Clone(in.words),
				func(w string) bool { return strings.HasPrefix(w, "--") },
			)
			if len(words) == 0 {
				continue
			}
			s := &buildStage{image: image{base: words[0], workdir: "/"}}
			if base, ok := names[strings.ToLower(words[0])]; ok {
				s.image, s.from = stages[base].image, []int{base}
				s.takes = nil
			}
			stages = append(stages, s)
			if len(words) > 2 && strings.EqualFold(words[1], "as") {
				names[strings.ToLower(words[2])] = len(stages) - 1
				if words[2] == target {
					last = len(stages) - 1
				}
			}
			continue
		}
		if len(stages) > 0 {
			stages[len(stages)-1].read(in, names, len(stages)-1)
		}
	}
	if len(stages) == 0 {
		return nil
	}
	if last < 0 {
		last = len(stages) - 1
	}
	out := stages[last].image
	out.takes = nil
	seen := map[int]bool{}
	var before []laidOver
	for open := []int{last}; len(open) > 0; open = open[1:] {
		if seen[open[0]] {
			continue
		}
		seen[open[0]] = true
		s := stages[open[0]]
		out.takes = append(out.takes, s.takes...)
		if open[0] != last {
			before = append(before, s.copies...)
		}
		open = append(open, s.from...)
	}
	out.copies = append(before, out.copies...)
	slices.SortFunc(out.takes, func(a, b taken) int { return a.line - b.line })
	return &out
}

// systems are images of a whole system, in which by itself a shell runs.
var systems = []string{"ubuntu", "debian", "alpine", "fedora", "centos", "rockylinux", "almalinux", "amazonlinux",
	"archlinux", "opensuse", "busybox", "buildpack-deps"}

// endsAtOnce reports whether nothing says what the image runs, and what it is made on runs a shell: it is there for
// others to be made on.
func (img *image) endsAtOnce() bool {
	name := protocol.ImageName(img.base)
	return len(img.command) == 0 && len(img.exposes) == 0 &&
		(slices.Contains(systems, name) || ecosystem.IsToolImage(name))
}

// read takes in one instruction; number is the stage's own.
func (s *buildStage) read(in instruction, names map[string]int, number int) {
	var from string
	words := slices.Clone(in.words)
	for len(words) > 0 && strings.HasPrefix(words[0], "--") {
		option, value, _ := strings.Cut(words[0], "=")
		words = words[1:]
		switch option {
		case "--from":
			from = strings.ToLower(value)
		case "--mount":
			s.mounted(value, in.line, names)
		}
	}
	if base, ok := names[from]; ok && base < number {
		s.from = append(s.from, base)
	}
	switch in.name {
	case "WORKDIR":
		if len(words) == 1 {
			s.workdir = path.Join("/", inside(s.workdir, words[0]))
		}
	case "COPY", "ADD":
		words = listed(words)
		if from != "" || len(words) < 2 {
			return
		}
		to := words[len(words)-1]
		for _, w := range words[:len(words)-1] {
			if strings.Contains(w, "://") || strings.HasPrefix(w, "<<") || strings.HasPrefix(w, "git@") {
				continue
			}
			w = path.Clean(strings.TrimLeft(w, "/"))
			s.takes = append(s.takes, taken{w, in.line})
			s.copies = append(s.copies, laidOver{w, inside(s.workdir, to)})
		}
	case "EXPOSE":
		for _, w := range words {
			number, transport, _ := strings.Cut(w, "/")
			if port := number; port != "" {
				if n := portOf(port); n > 0 {
					s.exposes = append(s.exposes, exposed{n, in.line, transport})
				}
			}
		}
	case "ENV":
		if len(words) > 1 && !strings.Contains(words[0], "=") {
			words = words[:1] // the older form, ENV NAME VALUE
		}
		for _, w := range words {
			if name, _, _ := strings.Cut(w, "="); variableName.MatchString(name) {
				s.sets = append(s.sets, name)
			}
		}
	case "CMD", "ENTRYPOINT":
		s.command = listed(words)
		if len(words) > 0 && !strings.HasPrefix(words[0], "[") {
			s.command = shell.Words(strings.Join(words, " "))
		}
	}
}

// mounted notes a file of the context that is there for one command only.
func (s *buildStage) mounted(options string, line int, names map[string]int) {
	kind, from, source := "", "", ""
	for _, o := range strings.Split(options, ",") {
		key, value, _ := strings.Cut(o, "=")
		value = strings.Trim(value, `"'`)
		switch key {
		case "type":
			kind = value
		case "from":
			from = strings.ToLower(value)
		case "source", "src":
			source = value
		}
	}
	if base, ok := names[from]; ok {
		s.from = append(s.from, base)
	}
	if kind == "bind" && from == "" && source != "" {
		s.takes = append(s.takes, taken{path.Clean(strings.TrimLeft(source, "/")), line})
	}
}

var variableName = expr.New(`^[A-Za-z_]\w*$`)

// inside is a path of the container, seen from its working folder.
func inside(workdir, to string) string {
	if strings.HasPrefix(to, "/") {
		return path.Clean(to)
	}
	return path.Join(workdir, to)
}
