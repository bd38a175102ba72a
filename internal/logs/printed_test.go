package logs

import (
	"fmt"
	"strings"
	"testing"
)

// TestPrintedIn lifts passwords that were just made up out of a log, and nothing else.
func TestPrintedIn(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"Generated password for user ida: tern-4482-kelp":       "ida tern-4482-kelp",
		"\x1b[32mINFO\x1b[0m admin password is 'w1nkle-99x'":    "admin w1nkle-99x",
		"initial setup: username: harbour, password: Lamp#2213": "harbour Lamp#2213",
		"An admin user was created. Use this password:\n\n  4f7c9a1be2\n\nagain": "admin " +
			"4f7c9a1be2",
		"Temporary password:\nnot one word here\nb0atsw4in77":           " b0atsw4in77",
		"Generated password: first-one\nGenerated password: second-one": " second-one",
		"password authentication failed for user \"ida\"":               "",
		"default password is required":                                  "",
		"admin password: ********":                                      "",
		"created with password=${ADMIN_PASSWORD}":                       "",
		"setting password: http://quay.example/reset":                   "",
		"The password was changed by admin to nothing":                  "",
		"user ida signed in":                                            "",
		"generated 3 files: password.go, password_test.go":              "",
		"Generated password below:\n1 2\n3 4\n5 6\n7 8\ntoolatehere":    "",
	} {
		var lines []Line
		for line := range strings.SplitSeq(text, "\n") {
			lines = append(lines, Line{Source: "gate", Text: line})
		}
		var got []string
		for _, p := range PrintedIn(lines) {
			got = append(got, fmt.Sprintf("%s %s", p.User, p.Password))
		}
		if strings.Join(got, "|") != want {
			t.Errorf("%q gives %q, want %q", text, got, want)
		}
	}
}
