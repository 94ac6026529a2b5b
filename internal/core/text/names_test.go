package text

import (
	"strings"
	"testing"
	"unicode/utf8"
)

// Names that are too long lose what all begin with, then their middles, and never read alike.
func TestShorten(t *testing.T) {
	for _, c := range []struct {
		names string
		width int
		want  string
	}{
		{"fares scans", 8, "fares scans"},
		{"harbour-events-fares harbour-events-scans", 8, "…fares …scans"},
		{"recorded-requests-of-0 recorded-requests-of-1", 16, "…requests-of-0 …requests-of-1"},
		{"boarding-scans-refused boarding-scans", 14, "…scans-refused …scans"},
		{"a-very-long-name-indeed short", 12, "a-ver…indeed short"},
		{"northern-line-of-quay-one southern-line-of-quay-one", 10, "nort…y-one sout…y-one"},
		{"quay-east-terminal-1-of-twenty quay-east-terminal-2-of-twenty", 14, ""},
		{"one", 2, "one"},
	} {
		names := strings.Fields(c.names)
		got := Shorten(names, c.width)
		if c.want != "" && strings.Join(got, " ") != c.want {
			t.Errorf("%s in %d: %q, want %q", c.names, c.width, got, c.want)
		}
		for i, s := range got {
			if utf8.RuneCountInString(s) > c.width && c.width > 2 {
				t.Errorf("%q is longer than %d", s, c.width)
			}
			for k := range i {
				if got[k] == s {
					t.Errorf("%s and %s both read %q", names[k], names[i], s)
				}
			}
		}
	}
}
