package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestNeedsInstall says what is missing on a made-up machine, installs what it may, and only with
// consent.
func TestNeedsInstall(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	bin := filepath.Join(b.home, "bin")
	program := func(name, script string) {
		t.Helper()
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(name, []byte("#!/bin/sh\n"+script+"\n"), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	program(bin+"/node", "echo v18.1.0")
	program(bin+"/corepack", `echo "enabling for $HOME"; printf '#!/bin/sh\necho 9.4.0\n' > `+bin+"/pnpm; chmod +x "+
		""+bin+"/pnpm; pwd > "+bin+"/where")
	program(b.home+"/.nvm/versions/node/v22.3.0/bin/node", "echo v22.3.0")
	for _, needed := range []string{"git", "sh", "chmod"} {
		real, err := exec.LookPath(needed)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.Symlink(real, filepath.Join(bin, needed)); err != nil {
			t.Fatal(err)
		}
	}
	b.env = append(b.env, "PATH="+bin)
	b.write(map[string]string{"package.json": `{"packageManager": "pnpm@9.1.0", "engines": {"node": ">=22"},
		"scripts": {"start": "node x.js --port 4731"}}`, "pnpm-lock.yaml": "lockfileVersion: 9\n", "x.js": "",
		"scripts/open.sh": "#!/bin/sh\r\necho open\r\n"})
	for _, words := range [][]string{{"init", "-q"}, {"add", "-A"},
		{"commit", "-q", "-m", "Open the pier"}} {
		cmd := exec.Command("git", append([]string{"-C", b.dir, "-c", "user.name=ida", "-c",
			"user.email=ida@quay.example"}, words...)...)
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("git %v: %v\n%s", words, err, out)
		}
	}
	said := b.must(1, "needs")
	for _, want := range []string{"22.3.0 is here, kept by nvm, and not loaded in this shell",
		"missing: pnpm: not installed", "Install it: corepack enable pnpm", "line endings of " +
			"scripts/open.sh",
		`export PATH="$HOME/.nvm/versions/node/v22.3.0/bin:$PATH"`, "nharbor needs --install"} {
		if !strings.Contains(strings.Join(strings.Fields(said), " "), want) {
			t.Errorf("%q is not said in\n%s", want, said)
		}
	}
	if said := b.must(1, "needs", "--install"); !strings.Contains(said, "Nothing was run") {
		t.Error(said)
	}
	if _, err := os.Stat(bin + "/pnpm"); err == nil {
		t.Fatal("something was installed without consent")
	}
	said = b.must(1, "needs", "--install", "--agree")
	if !strings.Contains(said, "  enabling for "+b.home) ||
		strings.Contains(said, "missing: pnpm") {
		t.Error(said)
	}
	if where, _ := os.ReadFile(bin + "/where"); strings.TrimSpace(string(where)) != "/" {
		t.Errorf("it was run in %s", where)
	}
	b.must(2, "needs", "--agree")
	b.env = append(b.env, "PATH="+b.home+"/.nvm/versions/node/v22.3.0/bin:"+bin)
	b.must(0, "needs")
}
