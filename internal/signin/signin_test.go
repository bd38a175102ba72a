package signin

import (
	"strings"
	"testing"
)

// TestSentences finds a user and a password in what people write, and in nothing else.
func TestSentences(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"Sign in as `bob` with the password `tide-1`.":                "bob tide-1",
		"Log in with the user kim@quay.example and password `tide-2`": "kim@quay.example tide-2",
		"## Login\nUse username ann and password tide-3":              "ann tide-3",
		"You may log in as \"ida\" using the password \"tide-4\"":     "ida tide-4",
		"Sign in as a user with password authentication":              "",
		"You sign in as the user with the password that was mailed":   "",
		"The default username and password are the same":              "",
		"An admin whose login and password are **tide-5**.":           "tide-5 tide-5",
		"An admin user which admin and password are `tide-6`;":        "tide-6 tide-6",
		"Sign in with your e-mail and password":                       "",
		"as `root` with the password `<yours>`":                       "",
	} {
		got := ""
		lines := strings.Split(text, "\n")
		for _, f := range InProse(lines, map[int]bool{1: strings.HasPrefix(text, "#")}) {
			if IsValue(f.User) && IsValue(f.Password) {
				got += f.User + " " + f.Password
			}
		}
		if got != want {
			t.Errorf("%q tells %q, want %q", text, got, want)
		}
	}
}
