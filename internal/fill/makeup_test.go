package fill

import (
	"crypto/rand"
	"testing"

	"nimbleharbor/internal/expr"
)

// TestMadeUp makes up what a program could make up for itself, in the form that the name asks for,
// and nothing that only somebody else can give.
func TestMadeUp(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ key, framework, form string }{
		{"TIDE_SIGNING_SECRET", "", `^[0-9a-f]{64}$`},
		{"SESSION_SECRET", "", `^[0-9a-f]{64}$`},
		{"JWT_SECRET", "", `^[0-9a-f]{64}$`},
		{"ADMIN_PASSWORD", "", `^[A-Za-z0-9]{24}$`},
		{"SECRET_KEY", "django", `^.{32,}$`},
		// somebody issues them
		{"STRIPE_SECRET_KEY", "", `^$`}, {"AWS_SECRET_ACCESS_KEY", "", `^$`},
		{"GITHUB_CLIENT_SECRET", "", `^$`}, {"SMTP_PASSWORD", "", `^$`},
		{"OPENAI_API_KEY", "", `^$`}, {"GOOGLE_OAUTH_SECRET", "", `^$`},
		// they are no secrets, whatever they hold
		{"TIDE_URL", "", `^$`}, {"PORT", "", `^$`}, {"TOKENIZER", "", `^$`}, {"", "", `^$`},
	} {
		got := MadeUp(rand.Reader, c.key, c.framework)
		if !expr.New(c.form).MatchString(got) {
			t.Errorf("%s of %q is %q, want %s", c.key, c.framework, got, c.form)
		}
		if again := MadeUp(rand.Reader, c.key, c.framework); got != "" && got == again {
			t.Errorf("%s is the same each time", c.key)
		}
	}
}
