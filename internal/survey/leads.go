package survey

import (
	"path"
	"slices"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/shell"
)

// leaf is a command that calls no other by a name of the checkout's, and the folder that it is run in.
type leaf struct {
	shell.Command
	cwd string
}

// leaves lists what a command comes to in the end, in its order: the lines of the task, of the package script or of
// the file of commands that it calls, and theirs in turn; else the command itself.
func (s *surveyor) leaves(part shell.Command, cwd string) []leaf {
	return s.leavesBelow(part, cwd, 0)
}

func (s *surveyor) leavesBelow(part shell.Command, cwd string, depth int) (out []leaf) {
	if len(part.Words) == 0 {
		return nil
	}
	cwd = path.Join(cwd, part.Folder)
	if !s.isFolder(cwd) {
		cwd = s.ownFolder(cwd)
	}
	c := &covering{words: part.Words, cwd: cwd}
	s.intoMember(c)
	inner, ok := s.calls(c.words, c.cwd)
	if !ok || depth > maxTasks {
		part.Folder = "."
		return []leaf{{part, cwd}}
	}
	for _, c := range inner {
		out = append(out, s.leavesBelow(c.Command, c.cwd, depth+1)...)
	}
	return out
}

// calls are the commands that the named thing consists of which the words call, with the folders that they are run in;
// ok is false where they call nothing by name.
func (s *surveyor) calls(words []string, cwd string) (inner []leaf, ok bool) {
	in := func(dir string, commands []shell.Command) {
		for _, c := range commands {
			inner = append(inner, leaf{c, dir})
		}
		ok = true
	}
	if file := scriptFile(words); file != "" {
		if commands, dir, there := s.commandsIn(file, cwd); there {
			in(dir, commands)
		}
		return inner, ok
	}
	if ecosystem.ManagerNamed(words[0]).Tasks {
		if t := s.target(words, cwd); t != nil {
			in(cwd, commandsOfLines(t.Lines))
		}
		return inner, ok
	}
	scripts, members, byRunner := ecosystem.TaskRun(words)
	if usual := ecosystem.Canonical(words); len(usual) > 1 && usual[0] == "script" {
		scripts, members = usual[1:2], []string{cwd}
	} else if !byRunner {
		return nil, false
	}
	for _, part := range ecosystem.PartsCalled(s.stack.Projects, members, cwd) {
		for _, name := range scripts {
			if lines := part.Scripts[name]; len(lines) > 0 {
				in(part.Folder, commandsOfLines(lines))
			}
		}
	}
	return inner, ok
}

// commandsIn are the commands of a file of commands, and the folder that it works in.
func (s *surveyor) commandsIn(file, cwd string) (inner []shell.Command, dir string, ok bool) {
	full := path.Join(cwd, file)
	if !s.exists(full) {
		return nil, cwd, false
	}
	data, err := s.fsys.ReadFile(full)
	if err != nil || len(data) > maxScriptFile {
		return nil, cwd, false
	}
	if m := ownFolderIs.FindSubmatch(data); m != nil {
		cwd = path.Join(path.Dir(full), string(m[1]))
	}
	return saying(shell.Parse(string(data))), cwd, true
}

func commandsOfLines(lines []string) (out []shell.Command) {
	for _, line := range lines {
		out = append(out, shell.Parse(line)...)
	}
	return saying(out)
}

// saying leaves out the commands that prepare and start nothing, and opens those that are given to a shell.
func saying(commands []shell.Command) (out []shell.Command) {
	for _, c := range commands {
		if len(c.Words) == 0 || slices.Contains(saysNothing, c.Words[0]) {
			continue
		}
		if script, ok := givenToShell(c.Words); ok {
			for _, inner := range saying(shell.Parse(script)) {
				inner.Folder, inner.Set = path.Join(c.Folder, inner.Folder), slices.Concat(c.Set, inner.Set)
				out = append(out, inner)
			}
			continue
		}
		out = append(out, c)
	}
	return out
}
