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
