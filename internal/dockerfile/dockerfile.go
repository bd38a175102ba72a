// Package dockerfile reads Dockerfiles: what the image is that a stage makes, what it takes from
// the context and where that lies, and what is run while it is built. It has no opinion.
package dockerfile

import (
	"cmp"
	"encoding/json"
	"path"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/shell"
)

// Image is what a Dockerfile says of the image that one of its stages makes.
type Image struct {
	Base    string   // the image that it is made on
	Workdir string   // absolute in the container
	Command []string // of its last CMD or ENTRYPOINT
	Entry   []string // of its last ENTRYPOINT
	Exposes []Exposed
	Copies  []LaidOver // from the context, the later ones last
	Takes   []Taken    // all that it takes from the context, in stages before as well
	Sets    []string   // the names of the variables that it sets for what runs in it
	Bases   []Base     // images of others that it begins from or copies from
	Runs    []Run      // while it is built, in stages before as well
}

// Base is an image of others, as it is named.
type Base struct {
	Name string
	Line int
}

// Run is a command that is run while an image is built.
type Run struct {
	Line   int
	Folder string // absolute in the container
	Text   string // for a shell, its lines joined
}

// Exposed is a port that an image says it listens on.
type Exposed struct {
	Port, Line int
	Transport  string
}

// LaidOver is a file or folder of the context, relative to it, and where it lies in the container.
type LaidOver struct{ From, To string }

// Taken is a path of the context as it is written, with its line.
type Taken struct {
	Path string
	Line int
}

// maxStages is how many stages are read; each has all that the one before it has.
const maxStages = 500

// instruction is one of a Dockerfile's, its lines joined.
type instruction struct {
	line  int
	name  string // in upper case
	words []string
	here  []string // the lines of its heredoc
}

// MaxSize is how large a Dockerfile may be, in bytes, that is read.
const MaxSize = 1 << 20

// instructions reads a Dockerfile.
func instructions(data []byte) []instruction {
	var out []instruction
	lines := strings.Split(strings.ReplaceAll(string(data), "\r\n", "\n"), "\n")
	for i := 0; i < len(lines); i++ {
		first := i
		text := strings.TrimSpace(lines[i])
		if text == "" || text[0] == '#' {
			continue
		}
		if strings.HasSuffix(text, `\`) {
			var joined strings.Builder
			part := text
			for strings.HasSuffix(part, `\`) && i+1 < len(lines) {
				i++
				joined.WriteString(strings.TrimSuffix(part, `\`))
				joined.WriteByte(' ')
				if part = strings.TrimSpace(lines[i]); part != "" && part[0] == '#' {
					part = `\` // a comment in between
				}
			}
			joined.WriteString(part)
			text = joined.String()
		}
		words := strings.Fields(text)
		if len(words) == 0 { // nothing but signs that a line goes on
			continue
		}
		var here []string
		if mark := heredoc.FindStringSubmatch(text); mark != nil {
			for i+1 < len(lines) && strings.TrimSpace(lines[i+1]) != mark[1] {
				i++
				here = append(here, lines[i])
			}
			i++
		}
		out = append(out, instruction{first + 1, strings.ToUpper(words[0]), words[1:], here})
	}
	return out
}

// listed are the words of an instruction's JSON form, or else as they stand.
func listed(words []string) []string {
	var list []string
	if text := strings.Join(words, " "); strings.HasPrefix(text, "[") &&
		json.Unmarshal([]byte(text), &list) == nil {
		return list
	}
	return words
}

// buildStage is one of a Dockerfile's stages while it is read.
type buildStage struct {
	Image
	from []int // the stages that it needs
}

// Read reads what the stage makes that is the target; empty is the last.
func Read(data []byte, target string) *Image {
	var stages []*buildStage
	names, args := map[string]int{}, map[string]string{}
	last := -1
	for _, in := range instructions(data[:min(len(data), MaxSize)]) {
		if in.name == "FROM" && len(stages) == maxStages {
			break
		}
		if in.name == "FROM" {
			words := slices.DeleteFunc(slices.Clone(in.words),
				func(w string) bool { return strings.HasPrefix(w, "--") })
			if len(words) == 0 {
				continue
			}
			s := &buildStage{Image: Image{Base: words[0], Workdir: "/"}}
			if base, ok := names[strings.ToLower(words[0])]; ok {
				s.Image, s.from = stages[base].Image, []int{base}
				s.Takes, s.Runs, s.Bases = nil, nil, nil
			} else {
				s.bases(argument.ReplaceAllStringFunc(words[0], func(ref string) string {
					return given(ref, args)
				}), in.line)
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
		} else if name, value, _ := strings.Cut(strings.Join(in.words, " "), "="); in.name == "ARG" {
			args[name] = strings.Trim(value, `"'`)
		}
	}
	if len(stages) == 0 {
		return nil
	}
	if last < 0 {
		last = len(stages) - 1
	}
	out := stages[last].Image
	out.Takes, out.Runs, out.Bases = nil, nil, nil
	seen := map[int]bool{}
	var before []LaidOver
	for open := []int{last}; len(open) > 0; open = open[1:] {
		if seen[open[0]] {
			continue
		}
		seen[open[0]] = true
		s := stages[open[0]]
		out.Takes = append(out.Takes, s.Takes...)
		out.Runs = append(out.Runs, s.Runs...)
		out.Bases = append(out.Bases, s.Bases...)
		if open[0] != last {
			before = append(before, s.Copies...)
		}
		open = append(open, s.from...)
	}
	out.Copies = append(before, out.Copies...)
	slices.SortFunc(out.Takes, func(a, b Taken) int { return a.Line - b.Line })
	slices.SortFunc(out.Runs, func(a, b Run) int { return a.Line - b.Line })
	return &out
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
	switch base, ok := names[from]; {
	case ok && base < number:
		s.from = append(s.from, base)
	case from != "" && in.name == "COPY":
		s.bases(from, in.line)
	}
	switch in.name {
	case "WORKDIR":
		if len(words) == 1 {
			s.Workdir = path.Join("/", inside(s.Workdir, words[0]))
		}
	case "COPY", "ADD":
		words = listed(words)
		if from != "" || len(words) < 2 {
			return
		}
		to := words[len(words)-1]
		for _, w := range words[:len(words)-1] {
			if strings.Contains(w, "://") || strings.HasPrefix(w, "<<") ||
				strings.HasPrefix(w, "git@") {
				continue
			}
			w = path.Clean(strings.TrimLeft(w, "/"))
			s.Takes = append(s.Takes, Taken{w, in.line})
			s.Copies = append(s.Copies, LaidOver{w, inside(s.Workdir, to)})
		}
	case "EXPOSE":
		for _, w := range words {
			number, transport, _ := strings.Cut(w, "/")
			if port := number; port != "" {
				if n, err := strconv.Atoi(port); err == nil && n > 0 && n < 65536 {
					s.Exposes = append(s.Exposes, Exposed{n, in.line, transport})
				}
			}
		}
	case "ENV":
		if len(words) > 1 && !strings.Contains(words[0], "=") {
			words = words[:1] // the older form, ENV NAME VALUE
		}
		for _, w := range words {
			if name, _, _ := strings.Cut(w, "="); variableName.MatchString(name) {
				s.Sets = append(s.Sets, name)
			}
		}
	case "RUN":
		run := Run{in.line, s.Workdir, strings.Join(words, " ")}
		if list := listed(words); len(list) > 0 && len(words) > 0 &&
			strings.HasPrefix(words[0], "[") {
			run.Text = shell.Line(list)
		}
		if len(in.here) > 0 {
			run.Text = strings.Join(in.here, "\n")
		}
		s.Runs = append(s.Runs, run)
	case "CMD", "ENTRYPOINT":
		s.Command = listed(words)
		if len(words) > 0 && !strings.HasPrefix(words[0], "[") {
			s.Command = shell.Words(strings.Join(words, " "))
		}
		if in.name == "ENTRYPOINT" {
			s.Entry = s.Command
		}
	}
}

// argument is an argument of the build, in the form that a FROM has it (the Dockerfile reference,
// "Understand how ARG and FROM interact"), with what stands for it if nobody gives it.
var argument = expr.New(`\$\{?([A-Za-z_]\w*)(?::-([^}]*))?\}?`)

// given is what stands for an argument, or the argument itself where nothing is known.
func given(ref string, args map[string]string) string {
	m := argument.FindStringSubmatch(ref)
	return cmp.Or(args[m[1]], m[2], ref)
}

// bases notes an image of others that a stage needs. One that is named by a number is a stage.
func (s *buildStage) bases(name string, line int) {
	_, err := strconv.Atoi(name)
	if err != nil && name != "scratch" && !strings.Contains(name, "$") {
		s.Bases = append(s.Bases, Base{name, line})
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
		s.Takes = append(s.Takes, Taken{path.Clean(strings.TrimLeft(source, "/")), line})
	}
}

// heredoc is the beginning of one, with the word that ends it.
var heredoc = expr.New(`<<-?["']?(\w+)["']?`)

var variableName = expr.New(`^[A-Za-z_]\w*$`)

// inside is a path of the container, seen from its working folder.
func inside(workdir, to string) string {
	if strings.HasPrefix(to, "/") {
		return path.Clean(to)
	}
	return path.Join(workdir, to)
}
