// Package text makes strings fit to be shown: without control characters, with the right plural.
package text

import (
	"fmt"
	"strings"
	"unicode"
)

// Harmless returns a string without anything that a terminal would obey: control characters and
// marks that turn the direction of writing become a dot, tabs a space.
func Harmless(s string) string { return strings.Map(Visible, s) }

// Visible returns the character that is shown for r.
func Visible(r rune) rune {
	switch {
	case r == '\t':
		return ' '
	case unicode.IsControl(r), r == unicode.ReplacementChar, r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069:
		return '·'
	}
	return r
}

// Plural returns a number with a word, in the plural unless it is 1.
func Plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	if stem, ok := strings.CutSuffix(word, "ly"); ok { // reply
		return fmt.Sprintf("%d %slies", n, stem)
	}
	return fmt.Sprintf("%d %ss", n, word)
}
