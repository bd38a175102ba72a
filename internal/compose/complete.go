package compose

import (
	"strings"

	"nimbleharbor/internal/expr"
)

// What the specification takes where nothing is said is put in when all files are merged: what
// stands for nothing in one file must not replace what another one says.

// contexts gives each build without a context the folder of its file. It is done for the files of a
// folder, while the folder is known.
func contexts(model *Value, dir string) {
	for _, m := range model.Get("services").orEmpty().Members {
		build := m.Value.Get("build")
		if build != nil && build.Kind == Mapping && build.Get("context") == nil &&
			build.tag() != "!reset" {
			build.Set("context", build.like(String, dir))
		}
	}
}

// complete puts in all other defaults, at the very end.
func complete(model *Value) {
	for i := range model.Get("services").orEmpty().Members {
		s := model.Get("services").Members[i].Value
		if b := s.Get("build"); b != nil && b.Kind == Mapping && b.Get("dockerfile_inline") == nil {
			setDefault(b, "dockerfile", String, "Dockerfile")
		}
		for _, d := range s.Get("depends_on").orEmpty().Members {
			if d.Value.Kind == Mapping {
				setDefault(d.Value, "condition", String, "service_started")
				setDefault(d.Value, "required", Bool, "true")
			}
		}
		for _, e := range s.Get("env_file").orEmpty().Items {
			if e.Kind == Mapping {
				setDefault(e, "required", Bool, "true")
			}
		}
	}
}

// remote are addresses that an engine fetches what it builds from: repositories and archives.
var remote = expr.New(`^([a-z][a-z0-9+.-]*://|git@|github\.com/)`)

// Remote reports whether a build's context is an address instead of a folder.
func Remote(context string) bool {
	return remote.MatchString(context) && !strings.HasPrefix(context, "./")
}
