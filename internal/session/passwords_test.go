package session

import (
	"strings"
	"testing"

	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/stack"
)

// TestWrongPasswordsHaveAPlace tells in which file, and under which key, the password stands that a
// server refuses, and with what it disagrees; and never the password.
func TestWrongPasswordsHaveAPlace(t *testing.T) {
	t.Parallel()
	const refused = "the server refuses the password"
	for name, c := range map[string]struct{ url, key, want string }{
		"an address": {"postgres://quay:tide-1234@db:5432/ferry", "", refused +
			"; DATABASE_URL (api/.env:2) has another password than POSTGRES_PASSWORD of db " +
			"(compose.yaml:4)"},
		"a key of its own": {"postgres://db:5432/ferry", "DB_PASSWORD=tide-1234\n", refused +
			"; DB_PASSWORD (api/.env:3) has another password than POSTGRES_PASSWORD of db " +
			"(compose.yaml:4)"},
		"the same": {"postgres://quay:harbour-5678@db:5432/ferry", "", refused +
			"; DATABASE_URL (api/.env:2) has the password of POSTGRES_PASSWORD " +
			"(compose.yaml:4), so that " +
			"the data of db was made with an earlier one"},
		"nothing known": {"postgres://db:5432/ferry", "", refused},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := tree(t, map[string]string{
				"compose.yaml": "services:\n  db:\n    image: postgres:16\n    environment: " +
					"{POSTGRES_PASSWORD: harbour-5678}\n  api:\n    image: saltmarsh/api:1\n" +
					"    env_file: api/.env\n",
				"api/.env": "PORT=3000\nDATABASE_URL=" + c.url + "\n" + c.key,
			})
			s, err := w.Survey(WithoutCode)
			if err != nil {
				t.Fatal(err)
			}
			m, err := s.Mix(plan.Options{})
			if err != nil {
				t.Fatal(err)
			}
			f := []stack.Failure{{ID: "service:api", Code: passwordRefused, Text: refused},
				{ID: "service:db", Text: refused}}
			m.toldPasswords(f)
			if f[0].Text != c.want || f[1].Text != refused {
				t.Errorf("got %q, %q", f[0].Text, f[1].Text)
			}
			if strings.Contains(f[0].Text, "1234") || strings.Contains(f[0].Text, "5678") {
				t.Errorf("a password is shown: %q", f[0].Text)
			}
		})
	}
}
