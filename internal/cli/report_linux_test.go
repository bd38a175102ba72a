package cli_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"nimbleharbor/internal/testport"
)

// browser is a real one; without it the test is skipped, and where one is required it fails.
func browser(t *testing.T) string {
	t.Helper()
	for _, name := range []string{"chromium", "chromium-browser"} {
		if path, err := exec.LookPath(name); err == nil {
			return path
		}
	}
	if os.Getenv("NHARBOR_REQUIRE_BROWSER") != "" {
		t.Fatal("a browser is required, and none is installed")
	}
	t.Skip("no browser is installed")
	return ""
}

// browse opens a page without any window, and gives what the browser prints.
func browse(t *testing.T, b *bench, args ...string) string {
	t.Helper()
	cmd := exec.Command(browser(t),
		append([]string{"--headless=new", "--no-sandbox", "--disable-gpu",
			"--disable-dev-shm-usage", "--allow-file-access-from-files", "--user-data-dir=" +
				t.TempDir()}, args...)...)
	cmd.Env = append(b.env, "TMPDIR="+t.TempDir())
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	if err := cmd.Run(); err != nil {
		t.Fatalf("the browser: %v\n%s", err, errs.String())
	}
	return out.String()
}

// TestReport hands on a launch: the page stands alone, is drawn by a real browser on screens of all
// widths without leaving any, prints on A4, and holds neither secrets nor scripts; the same as
// Markdown.
func TestReport(t *testing.T) {
	t.Parallel()
	b, port := newBench(t), testport.Take(t)
	files := quay(port)
	files["main.go"] = strings.Replace(files["main.go"], "<title>Quay</title>",
		"<title>Quay <b>& more</title>", 1)
	files["compose.yaml"] = "services:\n  tides:\n    image: saltmarsh/tides:1\n    profiles: " +
		"[later]\n"
	files["README.md"] = "# Quay\n\n    go run .\n    make <script>alert(1)</script>\n"
	b.write(files)
	b.must(1, "report", "launch.svg")
	b.must(0, "launch", "--background", "--vouch")
	page, text := filepath.Join(b.home, "report.html"), filepath.Join(b.home, "report.md")
	b.must(0, "report", page)
	b.must(0, "report", text)
	b.must(2, "report", "report.pdf")
	drawn := filepath.Join(b.home, "launch.svg")
	b.must(0, "report", drawn)
	if got := read(t, drawn); !strings.Contains(got, `<circle class="aim"`) ||
		!strings.HasSuffix(got, "</svg>\n") {
		t.Errorf("the timeline is %s", got)
	}
	b.must(1, "report", filepath.Join(b.home, "no", "such", "folder.md"))
	secret := regexp.MustCompile(`QUAY_SECRET=(\S+)`).FindStringSubmatch(read(t,
		filepath.Join(b.dir, ".env")))
	for _, file := range []string{page, text} {
		got := read(t, file)
		for _, want := range []string{"It runs: its one service is as it should be.", fmt.Sprintf(
			"http://localhost:%d", port),
			"QUAY_SECRET", "go run .", "cp .env.example .env", "How the launch went", "What " +
				"starts after what"} {
			if !strings.Contains(got, want) {
				t.Errorf("%s does not say %q", file, want)
			}
		}
		if len(secret) < 2 || strings.Contains(got, secret[1]) || strings.Contains(got, b.dir) {
			t.Errorf("%s holds the secret, or where the workspace is", file)
		}
	}
	html := read(t, page)
	for _, never := range []string{"<script", "<b>& more", "src=", "@import", "url("} {
		if strings.Contains(html, never) {
			t.Errorf("the page has %s", never)
		}
	}
	// A page beside it opens the report in frames of several widths, and says how far each goes.
	outer := `<!doctype html><title>x</title>`
	for _, width := range []int{320, 390, 800, 1280} {
		outer += fmt.Sprintf(`<iframe id=w%d width=%d height=700 src=report.html></iframe>`, width,
			width)
	}
	outer += `<pre id=out></pre><script>onload = () => { for (const f of document.querySelectorAll("iframe")) {
		const d = f.contentDocument; out.textContent += f.id + " " + d.documentElement.scrollWidth + " " +
		d.querySelectorAll("svg").length + " " + d.title + "\n" } }</script>`
	if err := os.WriteFile(filepath.Join(b.home, "outer.html"), []byte(outer), 0o644); err != nil {
		t.Fatal(err)
	}
	said := browse(t, b, "--virtual-time-budget=5000", "--dump-dom",
		"file://"+filepath.Join(b.home, "outer.html"))
	for _, width := range []int{320, 390, 800, 1280} {
		m := regexp.MustCompile(fmt.Sprintf(`w%d (\d+) 2 work: how it was brought up`,
			width)).FindStringSubmatch(said)
		var goes int
		if len(m) > 1 {
			fmt.Sscan(m[1], &goes)
		}
		if goes == 0 || goes > width {
			t.Errorf("at %d columns of pixels it goes to %d: %s", width, goes, said)
		}
	}
	printed := filepath.Join(b.home, "report.pdf")
	browse(t, b, "--no-pdf-header-footer", "--print-to-pdf="+printed, "file://"+page)
	if pdf := read(t, printed); !regexp.MustCompile(`/MediaBox \[0 0 59[45](\.\d+)? 84[12](\.\d+)?\]`).MatchString(
		pdf) {
		t.Error("it is not printed on A4")
	}
	b.must(0, "stop")
	b.must(0, "report", page)
	if !strings.Contains(read(t, page), "It is not running now.") {
		t.Error("of a stack that was stopped it says that it runs")
	}
	b.leavesNothing()
}

func read(t *testing.T, file string) string {
	t.Helper()
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}
