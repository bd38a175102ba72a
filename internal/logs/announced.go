package logs

import (
	"bufio"
	"slices"
	"strconv"

	"nimbleharbor/internal/expr"
)

// announces are the forms in which servers tell where they listen. The group is the port.
var announces = []*expr.Expr{
	expr.New(`(?i)\bhttps?://(?:localhost|127\.0\.0\.1|0\.0\.0\.0|\[::1?\]|[\w-]+\.localhost):(\d{2,5})\b`),
	expr.New(`(?i)\b(?:listening|listens|running|started|serving|server|available|ready|served)\b[^:\n]{0,60}?` +
		`(?:\bport[: ]+|(?:localhost|127\.0\.0\.1|0\.0\.0\.0|\[::\]|\*|::|\s):)(\d{2,5})\b`),
}

// noAnnouncement are lines that name an address for another reason: where they connect to, or what
// is wrong.
var noAnnouncement = expr.New(`(?i)\b(connect(?:ing|ed)? to|proxy|proxied|origin|cors|upstream|redirect|refused|` +
	`in use|` + `failed|error|ECONN\w+|fetch|request|webhook|GET|POST|docs? at|see )\b`)

// early is how many lines of a log are looked at: where a server listens it says at its start.
const early = 2000

// AnnouncedIn is the port that a line announces; 0 for none.
func AnnouncedIn(text string) int {
	text = colour.ReplaceAllString(text, "")
	if noAnnouncement.MatchString(text) {
		return 0
	}
	for _, form := range announces {
		if m := form.FindStringSubmatch(text); m != nil {
			if port, err := strconv.Atoi(m[1]); err == nil && port > 0 && port < 65536 {
				return port
			}
		}
	}
	return 0
}

// Announced are the ports that a service has announced in the beginning of its log, each once, in
// their order.
func Announced(root, service string) []int {
	in, err := All(root, service)
	if err != nil {
		return nil
	}
	defer in.Close()
	var out []int
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 2*maxLine)
	for n := 0; n < early && lines.Scan(); n++ {
		if port := AnnouncedIn(lines.Text()); port > 0 && !slices.Contains(out, port) {
			out = append(out, port)
		}
	}
	return out
}
