package fill

import "testing"

// TestUnchosen finds the setting that chooses something else than the third party of a key, and
// none where that one is chosen, where nobody chooses, or where somebody chooses about something
// else.
func TestUnchosen(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		settings map[string]string
		key      string
		want     string
	}{
		"another store": {map[string]string{"FILESYSTEM_DISK": "local"}, "AWS_ACCESS_KEY_ID",
			"FILESYSTEM_DISK"},
		"that store": {map[string]string{"FILESYSTEM_DISK": "s3"}, "AWS_ACCESS_KEY_ID", ""},
		"for mail alone": {map[string]string{"FILESYSTEM_DISK": "local",
			"MAIL_MAILER": "ses"}, "AWS_SECRET", ""},
		"another mailer": {map[string]string{"MAIL_DRIVER": "log"}, "MAILGUN_SECRET",
			"MAIL_DRIVER"},
		"that mailer":     {map[string]string{"MAIL_MAILER": "postmark"}, "POSTMARK_TOKEN", ""},
		"nobody chooses":  {map[string]string{"APP_ENV": "local"}, "PUSHER_APP_KEY", ""},
		"an empty choice": {map[string]string{"BROADCAST_DRIVER": ""}, "PUSHER_APP_KEY", ""},
		"another broadcaster": {map[string]string{"BROADCAST_DRIVER": "log"}, "PUSHER_APP_KEY",
			"BROADCAST_DRIVER"},
		"about something": {map[string]string{"DB_CONNECTION": "mysql"}, "AWS_ACCESS_KEY_ID", ""},
		"nobody's":        {map[string]string{"FILESYSTEM_DISK": "local"}, "TIDES_API_KEY", ""},
	} {
		f := &File{}
		for key, value := range c.settings {
			f.Settings = append(f.Settings, Setting{Key: key, value: value})
		}
		got := ""
		if by := unchosen(f, c.key); by != nil {
			got = by.Key
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}
