package dotenv

import "regexp"

var secretName = regexp.MustCompile(`(?i)(^|[_.-])(pass(word|wd|phrase)?|pwd|secrets?|token|credentials?|private[_-]?key|(api|access|secret|app|signing|encryption|master)[_-]?keys?|salt|pepper|dsn)([_.-]|$)`)

var urlPassword = regexp.MustCompile(`([a-zA-Z][a-zA-Z0-9+.-]*://[^/\s:@]*):([^/\s@]+)@`)

// IsSecret reports whether a setting's value must not be shown, judged by its name and value.
// A URL counts when it carries a password.
func IsSecret(key, value string) bool {
	return secretName.MatchString(key) || urlPassword.MatchString(value)
}

// Mask replaces the passwords in the URLs of a text.
func Mask(text string) string {
	return urlPassword.ReplaceAllString(text, "$1:***@")
}

// PasswordOf gives the password inside a URL; empty if the value is no URL with one.
func PasswordOf(value string) string {
	if m := urlPassword.FindStringSubmatch(value); m != nil {
		return m[2]
	}
	return ""
}
