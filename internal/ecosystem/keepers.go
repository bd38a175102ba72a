package ecosystem

import (
	"io/fs"
	"path"

	"nimbleharbor/internal/expr"
)

// A version manager keeps several versions of a tool and puts one of them where a shell finds it.
// Where that was not done in this shell, a tool seems to be absent, or too old, although one that
// fits lies there. What all of them have in common is a folder of programs for each version; with
// that in front of PATH the version is loaded, whatever the manager's own word for it is.

// keeper is a place below a person's home in which versions of a tool lie.
type keeper struct {
	tool, by string
	dir      string // a folder for each version, which its name tells
	bin      string // the programs of a version, below its folder
}

var keepers = []keeper{
	{"node", "nvm", ".nvm/versions/node", "bin"},
	{"node", "fnm", ".local/share/fnm/node-versions", "installation/bin"},
	{"node", "volta", ".volta/tools/image/node", "bin"},
	{"node", "asdf", ".asdf/installs/nodejs", "bin"},
	{"node", "mise", ".local/share/mise/installs/node", "bin"},
	{"python3", "pyenv", ".pyenv/versions", "bin"},
	{"python3", "asdf", ".asdf/installs/python", "bin"},
	{"python3", "mise", ".local/share/mise/installs/python", "bin"},
	{"ruby", "rbenv", ".rbenv/versions", "bin"},
	{"ruby", "rvm", ".rvm/rubies", "bin"},
	{"ruby", "asdf", ".asdf/installs/ruby", "bin"},
	{"ruby", "mise", ".local/share/mise/installs/ruby", "bin"},
	{"java", "sdkman", ".sdkman/candidates/java", "bin"},
	{"java", "asdf", ".asdf/installs/java", "bin"},
	{"java", "mise", ".local/share/mise/installs/java", "bin"},
	{"go", "goenv", ".goenv/versions", "bin"},
	{"go", "asdf", ".asdf/installs/golang", "go/bin"},
	{"go", "mise", ".local/share/mise/installs/go", "bin"},
	{"php", "phpenv", ".phpenv/versions", "bin"},
	{"php", "asdf", ".asdf/installs/php", "bin"},
	{"elixir", "asdf", ".asdf/installs/elixir", "bin"},
	{"elixir", "mise", ".local/share/mise/installs/elixir", "bin"},
	{"cargo", "rustup", ".rustup/toolchains", "bin"},
}

// own are the folders below a person's home into which installers put programs without asking
// anybody's leave; whoever installs them must add them to PATH.
var own = []string{".local/bin", "bin", ".cargo/bin", "go/bin", ".bun/bin", ".dotnet",
	".local/share/pnpm",
	".local/share/mise/shims", ".asdf/shims", ".deno/bin", ".volta/bin", ".yarn/bin"}

// Kept is a program that lies in a person's home.
type Kept struct {
	Version string // empty where only its program can tell
	By      string // the version manager; empty for a folder of the person's own
	Bin     string // the folder of its programs, below the home, with slashes
}

var versionInName = expr.New(`\d+(\.\d+)+|\d+`)

// KeptIn lists what lies of a tool in a home folder.
func KeptIn(home fs.FS, name string) (out []Kept) {
	program := ToolNamed(name).Program
	if program == "" {
		program = name
	}
	here := func(bin string) bool {
		info, err := fs.Stat(home, path.Join(bin, program))
		return err == nil && info.Mode().IsRegular() && info.Mode().Perm()&0o111 != 0
	}
	for _, k := range keepers {
		if k.tool != name {
			continue
		}
		versions, err := fs.ReadDir(home, k.dir)
		if err != nil {
			continue
		}
		for _, v := range versions {
			number, bin := versionInName.FindString(v.Name()), path.Join(k.dir, v.Name(), k.bin)
			if number != "" && here(bin) {
				out = append(out, Kept{number, k.by, bin})
			}
		}
	}
	for _, bin := range own {
		if here(bin) {
			out = append(out, Kept{Bin: bin})
		}
	}
	return out
}
