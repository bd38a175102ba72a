package fill

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"nimbleharbor/internal/expr"
	values "nimbleharbor/internal/value"
)

var (
	// A beginning that a placeholder or a comment shows.
	standPrefix   = expr.New(`^([A-Za-z]{2,}[_-])(?:[A-Za-z]{2,}[_-])*(?:x{3,}|X{3,}|\.{3}|\*{3,}|<|your)`)
	commentPrefix = expr.New("(?i)(?:begins?|starts?|prefixed|prefix(?: is)?:?) (?:with |by " +
		")?[\"'`]?([A-Za-z0-9]+[_.-](?:[A-Za-z0-9]+[_-])*)")
	exactLength = expr.New(
		`(?i)(?:exactly |of |\b)(\d+)[- ](?:hex(?:adecimal)? )?(?:characters?|chars|letters|digits)(?: long)?`)
	aUUID = expr.New(`(?i)^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$`)
)

// valid judges a value that was given: an error tells why it can't be right, a note what is worth
// knowing. Neither shows any of the value.
func (m giving) valid(s *Setting, value string) (note string, err error) {
	issued := issuedKey.MatchString(s.Key)
	switch {
	case value == "":
		return "", nil
	case values.Placeholder(value) && issued:
		return "", errors.New("this is the template's placeholder and no value")
	case strings.ContainsAny(value, "\x00"):
		return "", errors.New("it holds a byte that no setting can hold")
	case strings.Contains(strings.ToLower(s.Comment), "uuid") && issued && !aUUID.MatchString(value):
		return "", errors.New("it is no UUID, which the comment asks for")
	case s.Issued || s.Secret && s.Origin == Missing || issued:
		if err := inForm(s, value); err != nil {
			return "", err
		}
	}
	return m.expiry(value)
}

// inForm compares a third party's value with the form that the template or the comment shows.
func inForm(s *Setting, value string) error {
	for _, from := range []struct {
		expr *expr.Expr
		text string
		name string
	}{{standPrefix, s.was, "the template"}, {commentPrefix, s.Comment, "the comment"}} {
		p := from.expr.FindStringSubmatch(from.text)
		if p == nil || values.Placeholder(strings.TrimRight(p[1], "_-")) {
			continue
		}
		if !strings.HasPrefix(value, p[1]) {
			return fmt.Errorf("it does not begin with %s, as %s shows", p[1], from.name)
		}
	}
	n := number(exactLength, s.Comment)
	if n > 0 && len(value) != n && !strings.Contains(s.Comment, "at least") {
		return fmt.Errorf("it has %d characters, and the comment asks for %d", len(value), n)
	}
	if strings.ContainsAny(value, " \t") && !strings.Contains(value, "PRIVATE KEY") {
		return errors.New("there is a blank in it")
	}
	return nil
}

// expiry reads when a JSON Web Token (RFC 7519, section 4.1.4) expires.
func (m giving) expiry(value string) (note string, err error) {
	parts := strings.Split(value, ".")
	if len(parts) != 3 || m.opt.Now.IsZero() {
		return "", nil
	}
	var head struct {
		Alg string `json:"alg"`
	}
	var claims struct {
		Exp float64 `json:"exp"`
		Nbf float64 `json:"nbf"`
	}
	decode := func(part string, into any) bool {
		data, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(part, "="))
		return err == nil && json.Unmarshal(data, into) == nil
	}
	if !decode(parts[0], &head) || head.Alg == "" || !decode(parts[1], &claims) || claims.Exp <= 0 ||
		claims.Exp > 1e11 {
		return "", nil
	}
	until := time.Unix(int64(claims.Exp), 0)
	left := until.Sub(m.opt.Now)
	switch {
	case left <= 0:
		return "", fmt.Errorf("it expired %s ago, at %s", span(-left), until.UTC().Format("2006-01-02 15:04 UTC"))
	case claims.Nbf > 0 && time.Unix(int64(claims.Nbf), 0).After(m.opt.Now.Add(time.Minute)):
		return "", fmt.Errorf("it is not valid before %s",
			time.Unix(int64(claims.Nbf), 0).UTC().Format("2006-01-02 15:04 UTC"))
	}
	return fmt.Sprintf("expires in %s, at %s", span(left), until.UTC().Format("2006-01-02 15:04 UTC")), nil
}

// span says a duration in its largest unit.
func span(d time.Duration) string {
	for _, u := range []struct {
		size time.Duration
		name string
	}{{24 * time.Hour, "day"}, {time.Hour, "hour"}, {time.Minute, "minute"}} {
		if n := int(d / u.size); n > 1 || n == 1 && u.size == time.Minute {
			s := "s"
			if n == 1 {
				s = ""
			}
			return fmt.Sprintf("%d %s%s", n, u.name, s)
		}
	}
	if d >= time.Minute {
		return fmt.Sprintf("%d minutes", int(d/time.Minute))
	}
	return "less than a minute"
}
