package compose

import (
	"bytes"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"
)

// docIntro stands before the tables of docs/compose.md, which TestDoc keeps true.
const docIntro = `# Compose files: what is read, and what a launch does with it

Every key of the Compose Specification is read, checked and brought into its long form; see it with nharbor
survey --compose, which shows for each setting of a container what it will be and where it is from. An unknown
key that does not begin with x- is an error, with the nearest known one suggested. What a launch does not act
on is named in a remark of nharbor survey, with the services that have it. What it does act on is shown to be
by [cases](../internal/execute/testdata/keys), compose files and what a real engine then has of each key.
How images are built and what services on several engines do: [containers.md](containers.md).

Files are found under their usual names, with their override, as the README starts them, or as COMPOSE_FILE (with
COMPOSE_PATH_SEPARATOR), COMPOSE_PROFILES and COMPOSE_PROJECT_NAME say, in the shell or in the .env file
beside them. include and extends are followed inside of the workspace; what lies outside is named and not
read. Old files are read too: version is taken and ignored, and a file without the key services is a file of
services.

Values are interpolated, keys are not: ${A}, $A, ${A:-b}, ${A-b}, ${A:?why}, ${A?why}, ${A:+b}, ${A+b}, nested
ones too; $$ is a dollar sign. The shell comes first, then the .env file. A variable without a value is
named in a remark; one that is required is an error.

Merging files: mappings are merged, lists appended, single values replaced; command, entrypoint and
healthcheck.test are replaced as a whole; volumes, secrets and devices with the same target, hosts of the same
name and equal ports replace each other; !reset removes a key and !override replaces it. What the
specification takes where nothing is said is put in when all is merged.

A file may have 32 MB, values may nest 200 deep, and aliases may write out to 262144 values.

Examples of all of this, input and result side by side, are the folders in
[internal/compose/testdata/cases](../internal/compose/testdata/cases).
`

func TestDoc(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	out.WriteString(docIntro)
	table := func(title string, keys map[string]rule, does func(key string) string) {
		fmt.Fprintf(&out, "\n## %s\n\n| key | at launch |\n|---|---|\n", title)
		for _, k := range slices.Sorted(maps.Keys(keys)) {
			fmt.Fprintf(&out, "| %s | %s |\n", k, does(k))
		}
	}
	does := func(section string, unobeyed map[string]lack) func(key string) string {
		return func(key string) string {
			path := join(section, key)
			var inside []string
			for at, l := range unobeyed {
				if at == path {
					return "named in a remark: " + l.why
				}
				if rest, ok := strings.CutPrefix(at, path+"."); ok {
					inside = append(inside, rest)
				}
			}
			switch slices.Sort(inside); {
			case nothingToDo[key] && section == "":
				return "nothing to do"
			case key == "extends":
				return "followed while reading"
			case len(inside) > 0:
				return "acted on; named in a remark: " + strings.Join(inside, ", ")
			}
			return "acted on"
		}
	}
	table("Keys of a service", serviceKeys, does("", unobeyed))
	table("Keys of build", buildKeys, does("build", unobeyed))
	table("Keys of a network", networkKeys, does("networks", unobeyedAtTop))
	table("Keys of a volume", volumeKeys, does("volumes", unobeyedAtTop))
	table("Keys of a secret or a config", fileKeys, does("secrets", unobeyedAtTop))
	table("Keys at the top", topLevel, func(k string) string {
		switch k {
		case "include", "name", "version":
			return "followed while reading"
		case "models":
			return "named in a remark"
		}
		return "acted on"
	})
	const file = "../../docs/compose.md"
	if *update {
		if err := os.WriteFile(file, out.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	data, err := os.ReadFile(file)
	if err != nil || !bytes.Equal(data, out.Bytes()) {
		t.Errorf("docs/compose.md does not say what the reader does (%v); go test "+
			"./internal/compose -update writes it", err)
	}
}

// TestEveryKeyHasACase looks for each service key in the cases, which are what a user reads to
// learn it.
func TestEveryKeyHasACase(t *testing.T) {
	t.Parallel()
	var all strings.Builder
	for _, pattern := range []string{"testdata/cases"} {
		err := fsWalk(pattern, func(name string, data []byte) {
			if !strings.HasPrefix(name, "want") {
				all.Write(data)
			}
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	for k := range serviceKeys {
		if !strings.Contains(all.String(), k+":") {
			t.Errorf("no case shows the key %s", k)
		}
	}
}

func fsWalk(root string, f func(name string, data []byte)) error {
	entries, err := os.ReadDir(root)
	if err != nil {
		return err
	}
	for _, e := range entries {
		path := root + "/" + e.Name()
		if e.IsDir() {
			if err := fsWalk(path, f); err != nil {
				return err
			}
			continue
		}
		data, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		f(e.Name(), data)
	}
	return nil
}
