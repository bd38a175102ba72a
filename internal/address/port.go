package address

// PortOf is the number of a port that a text is; 0 for any other text.
func PortOf(text string) int {
	n := 0
	for _, c := range text {
		if c < '0' || c > '9' || n > 65535 {
			return 0
		}
		n = 10*n + int(c-'0')
	}
	if n > 65535 {
		return 0
	}
	return n
}
