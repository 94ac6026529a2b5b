package canvas

// Flow writes text over as many rows as it needs, broken between words,
// and returns the row after it.
func Flow(c *Canvas, x, y, edge int, style Style, content string) int {
	at := x
	word := []rune{}
	flush := func() {
		if len(word) == 0 {
			return
		}
		if at > x && at+len(word) > edge {
			y, at = y+1, x
		}
		at = c.PutUpTo(at, y, edge, style, string(word)) + 1
		word = word[:0]
	}
	for _, r := range content {
		if r == ' ' {
			flush()
			continue
		}
		word = append(word, r)
	}
	flush()
	return y + 1
}
