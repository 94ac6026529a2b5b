package text

import (
	"slices"
	"strings"
	"unicode/utf8"
)

// Shorten returns names with at most width characters each, so that different names stay different
// where that can be: what all begin with is left out where one is too long, and then the middle of
// those that still are. Names that fit are returned as they are.
func Shorten(names []string, width int) []string {
	long := func(all []string) bool {
		return slices.ContainsFunc(all, func(s string) bool { return utf8.RuneCountInString(s) > width })
	}
	if width < 3 || !long(names) {
		return names
	}
	short := withoutCommon(names, width)
	for tail := width / 2; ; tail++ {
		out := make([]string, len(short))
		for i, s := range short {
			out[i] = elide(s, width, tail)
		}
		if tail >= width-1 || distinct(names, out) {
			return out
		}
	}
}

// separators stand between the words of a name.
const separators = "-_./:"

// withoutCommon leaves out what all names begin with, up to a separator; of that, it keeps as much as there
// is room for.
func withoutCommon(names []string, width int) []string {
	if len(names) < 2 {
		return names
	}
	common := names[0]
	for _, s := range names[1:] {
		n := 0
		for n < len(common) && n < len(s) && common[n] == s[n] {
			n++
		}
		common = common[:n]
	}
	cut := strings.LastIndexAny(common, separators) + 1
	if cut < 3 { // the sign for it would take as much
		return names
	}
	longest := 0
	for _, s := range names {
		longest = max(longest, utf8.RuneCountInString(s[cut:]))
	}
	before, kept := []rune(names[0][:cut]), ""
	if room := width - 1 - longest; room > 0 { // whole words of it
		kept = string(before[max(len(before)-room, 0):])
		kept = kept[strings.IndexAny(kept, separators)+1:]
	}
	out := make([]string, len(names))
	for i, s := range names {
		out[i] = "…" + kept + s[cut:]
	}
	return out
}

// elide leaves out the middle of a text, so that it has at most width characters, of which the last
// are its tail.
func elide(s string, width, tail int) string {
	all := []rune(s)
	if len(all) <= width {
		return s
	}
	return string(all[:width-1-tail]) + "…" + string(all[len(all)-tail:])
}

// distinct reports whether names that differ differ when they are shortened, too.
func distinct(names, short []string) bool {
	of := map[string]string{}
	for i, s := range short {
		if was, ok := of[s]; ok && was != names[i] {
			return false
		}
		of[s] = names[i]
	}
	return true
}
