package diagnose

import (
	"bufio"
	"io"
	"strings"

	"nimbleharbor/internal/expr"
)

// migrationForms are how tools that bring a database up to date name the one at which they are:
// that it begins, or that it has failed. What ends well says so behind it, or on a line of its own.
var migrationForms = []*expr.Expr{
	expr.New(`^ *Applying:? ([\w.-]+?)\.{3}(?: *$| *Traceback)`),
	expr.New(`^ *Applying: ([\w.-]+)$`),
	expr.New(`Running upgrade .*-> (\w+)(?:,|$)`),
	expr.New(`^== (?:\d+ )?([\w.-]+): migrating`),
	expr.New(`^ *Migrating:? +"?([\w.-]+)"?`),
	expr.New(`^ *(\d{4}_\d\d_\d\d_\w+) \.+ .*FAIL`),
	expr.New(`(?i)\bmigration(?: file)? ["']?([\w.-]+)["']? failed`),
	expr.New(`Migration name: ([\w.-]+)`),
	expr.New(`Failed to run ([\w.-]+) with`),
	expr.New(`goose run: ERROR ([\w.-]+):`),
}

// migrationEnds are lines by which one has ended well.
var migrationEnds = expr.New(`^== .*: migrated|^ *Migrated:? |^ *Applied:? `)

// Migration is the name of the migration at which a log ends: the last that has begun, or that is
// said to have failed, and has not ended well. Empty where it names none.
func Migration(log io.Reader) (name string) {
	lines := bufio.NewScanner(log)
	lines.Buffer(nil, maxLine)
	for lines.Scan() {
		line := strings.TrimRight(lines.Text(), "\r ")
		if migrationEnds.MatchString(line) {
			name = ""
			continue
		}
		for _, form := range migrationForms {
			if m := form.FindStringSubmatch(line); m != nil {
				name = m[1]
				break
			}
		}
	}
	return name
}
