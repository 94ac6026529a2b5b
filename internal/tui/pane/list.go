package pane

import (
	"fmt"

	"charm.land/bubbles/v2/key"

	"nightdrill.dev/internal/tui/canvas"
)

// Bind returns the binding of a key that goes by its own name.
func Bind(help, k string) key.Binding {
	return key.NewBinding(key.WithKeys(k), key.WithHelp(k, help))
}

// Short returns a binding with shorter words, for the line at the bottom.
func Short(b key.Binding, words string) key.Binding {
	b.SetHelp(b.Help().Key, words)
	return b
}

// List is a list of items in a pane, under headings where they have any. It remembers where it was drawn, so
// that a click finds the item that is pointed at.
type List struct {
	shown     []int // the item of each row that was drawn; -1 for a heading
	x, y, end int   // the first column and row, and the column after the last
}

// Draw draws as many of n items as there are rows for, so that the one at the cursor is seen. heading returns
// the heading of an item, or ""; the first row has the heading of what follows, however far the list is
// scrolled. item draws an item in a row.
func (l *List) Draw(c *canvas.Canvas, x, y, edge, rows, n, at int, heading func(i int) string, item func(i, y int)) {
	l.shown, l.x, l.y, l.end = l.shown[:0], x, y, edge
	var all []int
	cursor, last := 0, ""
	for i := range n {
		if h := heading(i); h != "" && h != last {
			all, last = append(all, -1-i), h
		}
		if i == at {
			cursor = len(all)
		}
		all = append(all, i)
	}
	top := Top(cursor, len(all), rows)
	for k := top; k < min(top+rows, len(all)); k++ {
		i, row := all[k], y+k-top
		if h := ""; k == top && i > 0 && k != cursor {
			if h = heading(i); h != "" { // of a group that began above
				i = -1 - i
			}
		}
		if i < 0 {
			c.PutUpTo(x, row, edge, canvas.Field, heading(-1-i))
			l.shown = append(l.shown, -1)
			continue
		}
		item(i, row)
		if i == at {
			c.Restyle(x, row, edge-x, canvas.Chosen)
		}
		l.shown = append(l.shown, i)
	}
	if below := len(all) - top - rows; below > 0 && rows > 2 {
		more := fmt.Sprintf(" +%d ", below)
		c.Put(edge-len(more), y+rows-1, canvas.Dim, more)
	}
}

// Contains reports whether a place is in the list, its title included.
func (l *List) Contains(x, y int) bool {
	return x >= l.x-2 && x < l.end && y >= l.y-1 && y < l.y+len(l.shown)
}

// Left reports whether a column is one of the list's, or left of it.
func (l *List) Left(x int) bool { return x < l.end }

// At returns the item at a place; ok is false for a heading, and for what is outside.
func (l *List) At(x, y int) (i int, ok bool) {
	if k := y - l.y; x >= l.x && x < l.end && k >= 0 && k < len(l.shown) && l.shown[k] >= 0 {
		return l.shown[k], true
	}
	return 0, false
}

// Jump returns the first item under the next heading, or under the one before.
func Jump(at, by, n int, heading func(i int) string) int {
	if at < 0 || at >= n {
		return 0
	}
	first := func(i int) int { // of the group of an item
		for i > 0 && heading(i-1) == heading(i) {
			i--
		}
		return i
	}
	if by < 0 {
		if begin := first(at); begin < at || begin == 0 {
			return begin
		}
		return first(at - 1)
	}
	for i := at; i < n; i++ {
		if heading(i) != heading(at) {
			return i
		}
	}
	return at
}
