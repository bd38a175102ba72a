package dotenv

import "testing"

// TestIsKey tells names that say no more than that they hold a key.
func TestIsKey(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]bool{"STRIPE_KEY": true, "MAPS_KEY": true, "TIDE_TABLE_KEY": true,
		"API_KEY": false, "SECRET_KEY": false, "ENCRYPTION_KEY": false, // of which more is known
		"PUBLIC_KEY": false, "STRIPE_PUBLISHABLE_KEY": false, "RECAPTCHA_SITE_KEY": false, "CACHE_KEY": false,
		"SORT_KEY": false, "NEXT_PUBLIC_STRIPE_KEY": false, "VITE_MAPS_KEY": false, "KEY_PREFIX": false,
		"MONKEY":  false,
		"sortKey": false, "KEY": false} {
		if IsKey(name) != want {
			t.Errorf("%s: %v", name, !want)
		}
		if want && !IsSecret(name, "") {
			t.Errorf("%s is shown", name)
		}
	}
	for _, name := range []string{"PGPASSWORD", "DBPASS", "SMTPPASSWORD", "MYSQLPWD"} {
		if !IsSecret(name, "") {
			t.Errorf("%s is shown", name)
		}
	}
	for _, name := range []string{"BYPASS", "COMPASS", "ENCOMPASS", "PUBLIC_KEY", "CACHE_KEY",
		"NEXT_PUBLIC_STRIPE_KEY"} {
		if IsSecret(name, "") {
			t.Errorf("%s is hidden", name)
		}
	}
}
