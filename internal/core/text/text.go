// Package text makes strings fit to be shown: without control characters, with the right plural.
package text

import (
	"fmt"
	"strconv"
	"strings"
	"time"
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

// List returns names for a sentence: "a", "a and b", "a, b and c".
func List(names []string) string {
	if len(names) < 2 {
		return strings.Join(names, "")
	}
	last := len(names) - 1
	return strings.Join(names[:last], ", ") + " and " + names[last]
}

// Measured returns a measured duration for a sentence, with three significant digits as in tables:
// 48.7 ms, 17.4 s, 2 min 34 s.
func Measured(d time.Duration) string {
	unit := time.Duration(1)
	for d.Abs() >= 1000*unit {
		unit *= 10
	}
	return Duration(d.Round(unit))
}

// Duration returns a duration for a sentence: 250 ms, 1.5 s, 2 min 30 s, 24 h. It is exact; what was
// measured is for [Measured].
func Duration(d time.Duration) string {
	switch {
	case d < 0:
		return "-" + Duration(-d)
	case d == 0:
		return "0 s"
	case d < time.Microsecond:
		return fmt.Sprintf("%d ns", d)
	case d < time.Millisecond:
		return decimal(d, time.Microsecond) + " µs"
	case d < time.Second:
		return decimal(d, time.Millisecond) + " ms"
	}
	var parts []string
	for _, u := range []struct {
		length time.Duration
		name   string
	}{{time.Hour, " h"}, {time.Minute, " min"}} {
		if n := d / u.length; n > 0 {
			parts = append(parts, strconv.Itoa(int(n))+u.name)
			d %= u.length
		}
	}
	if d > 0 {
		parts = append(parts, decimal(d, time.Second)+" s")
	}
	return strings.Join(parts, " ")
}

// decimal returns d in units, with the digits that it has.
func decimal(d, unit time.Duration) string {
	whole, rest := d/unit, strconv.Itoa(int(unit + d%unit))[1:]
	return strings.TrimRight(strings.TrimRight(fmt.Sprintf("%d.%s", int64(whole), rest), "0"), ".")
}
