package view

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/compose"
)

// TestComposeReadsBack shows the model of every case of package compose as YAML, and reads that
// again: what is shown must mean the same.
func TestComposeReadsBack(t *testing.T) {
	t.Parallel()
	dirs, err := filepath.Glob("../compose/testdata/cases/*")
	if err != nil || len(dirs) < 100 {
		t.Fatalf("%d cases, %v", len(dirs), err)
	}
	read := 0
	for _, dir := range dirs {
		p, err := compose.Load(os.DirFS(dir), ".", compose.Options{})
		if err != nil || p.Model.Get("services") == nil || strings.HasSuffix(dir, "not-in-keys") {
			continue
		}
		var out bytes.Buffer
		(&Text{Out: &out, Width: 80}).Compose("name", p.Files, []*compose.Value{p.Model}, nil)
		// What is shown has its values in it, so that a dollar sign is one.
		text := strings.ReplaceAll(out.String(), "$", "$$")
		again, err := compose.Load(fstest.MapFS{"compose.yaml": {Data: []byte(text)}}, ".",
			compose.Options{})
		if err != nil {
			t.Errorf("%s: %v in\n%s", filepath.Base(dir), err, text)
			continue
		}
		for _, section := range []string{"services", "networks", "volumes", "secrets", "configs"} {
			want, _ := compose.Section([]*compose.Value{p.Model}, section).MarshalJSON()
			got, _ := compose.Section([]*compose.Value{again.Model}, section).MarshalJSON()
			if !bytes.Equal(got, want) {
				t.Errorf("%s, %s: shown as\n%s\nit reads back as\n%s\nnot as\n%s",
					filepath.Base(dir), section, text, got, want)
			}
		}
		read++
	}
	if read < 80 {
		t.Errorf("only %d cases could be compared", read)
	}
}
