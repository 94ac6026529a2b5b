package canvas

import (
	"strings"

	"github.com/charmbracelet/x/ansi"
)

// Flow writes text over as many rows as it needs, broken between words, or
// inside one that is wider than a row, and returns the row after it.
func Flow(c *Canvas, x, y, edge int, style Style, content string) int {
	content = strings.Join(strings.Fields(content), " ")
	for line := range strings.SplitSeq(ansi.Wrap(content, max(edge-x, 1), ""), "\n") {
		c.PutUpTo(x, y, edge, style, line)
		y++
	}
	return y
}

// Warnings writes warnings, each marked and over as many rows as it needs, and returns the row after
// them.
func Warnings(c *Canvas, y, edge int, style Style, warnings []string) int {
	for _, content := range warnings {
		c.Put(1, y, Bad, "!")
		y = Flow(c, 3, y, edge, style, content)
	}
	return y
}
