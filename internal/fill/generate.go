package fill

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
)

var (
	byteCount = regexp.MustCompile(`(?i)(\d+)[- ](?:random |secure )*bytes?`)
	charCount = regexp.MustCompile(`(?i)(\d+)[- ](?:random |hex |alphanumeric |letters and )*(?:char(?:acter)?s?|digits|letters)`)
)

// generate makes a secret up, in the form that the comment asks for: so many bytes or characters, in
// hex, base64 (with a prefix) or as a UUID. Without a wish it is 32 bytes in hex, and for a password 24
// letters and digits, which need no escaping anywhere.
func generate(random io.Reader, key, comment string) string {
	say := strings.ToLower(comment)
	bytes, chars := number(byteCount, comment), number(charCount, comment)
	switch {
	case strings.Contains(say, "uuid"):
		b := read(random, 16)
		b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
		return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
	case strings.Contains(say, "base64:"):
		return "base64:" + base64.StdEncoding.EncodeToString(read(random, or(bytes, 32)))
	case strings.Contains(say, "base64url") || strings.Contains(say, "url-safe"):
		return cut(base64.RawURLEncoding.EncodeToString(read(random, or(bytes, or(chars, 32)))), chars)
	case strings.Contains(say, "base64"):
		return base64.StdEncoding.EncodeToString(read(random, or(bytes, 32)))
	case strings.Contains(say, "hex"), bytes > 0:
		if chars > 0 && bytes == 0 {
			return cut(hex.EncodeToString(read(random, (chars+1)/2)), chars)
		}
		return hex.EncodeToString(read(random, or(bytes, 32)))
	case chars > 0:
		return letters(random, chars)
	case passwordKey.MatchString(key):
		return letters(random, 24)
	}
	return hex.EncodeToString(read(random, 32))
}

func number(expr *regexp.Regexp, s string) int {
	m := expr.FindStringSubmatch(s)
	if m == nil {
		return 0
	}
	n, err := strconv.Atoi(m[1])
	if err != nil || n > 4096 {
		return 0
	}
	return n
}

func or(n, otherwise int) int {
	if n > 0 {
		return n
	}
	return otherwise
}

func cut(s string, n int) string {
	if n > 0 && n < len(s) {
		return s[:n]
	}
	return s
}

// read panics when the system has no randomness, since no secret may be made without.
func read(random io.Reader, n int) []byte {
	b := make([]byte, n)
	if _, err := io.ReadFull(random, b); err != nil {
		panic("no randomness: " + err.Error())
	}
	return b
}

// letters draws from the 62 letters and digits without favouring any.
func letters(random io.Reader, n int) string {
	const set = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789"
	out := make([]byte, 0, n)
	for len(out) < n {
		for _, b := range read(random, n) {
			if int(b) < 4*len(set) && len(out) < n {
				out = append(out, set[int(b)%len(set)])
			}
		}
	}
	return string(out)
}
