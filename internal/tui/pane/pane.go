// Package pane is what views share that are divided into panes: keys go to one of them, which is
// chosen with the arrows, and each remembers how far it is scrolled.
package pane

import (
	"fmt"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/tui/canvas"
)

// Keys are the keys of panes.
var Keys = struct{ Up, Down, Left, Right, PageUp, PageDown key.Binding }{
	Up:       key.NewBinding(key.WithKeys("up"), key.WithHelp("↑↓", "choose, scroll")),
	Down:     key.NewBinding(key.WithKeys("down")),
	Left:     key.NewBinding(key.WithKeys("left"), key.WithHelp("←→", "switch pane")),
	Right:    key.NewBinding(key.WithKeys("right")),
	PageUp:   key.NewBinding(key.WithKeys("pgup")),
	PageDown: key.NewBinding(key.WithKeys("pgdown")),
}

// Set is the panes of a view, from 0.
type Set struct {
	Focus  int   // the pane that keys go to
	Scroll []int // the first row that is seen of each
}

// New returns n panes, of which the first has the keys.
func New(n int) Set { return Set{Scroll: make([]int, n)} }

// Key handles a key that moves between panes, or within the first, which is a list: by choose. It
// reports whether it was one.
func (s *Set) Key(k tea.KeyPressMsg, choose func(by int) tea.Cmd) (cmd tea.Cmd, ok bool) {
	by, n := 0, len(s.Scroll)
	switch {
	case key.Matches(k, Keys.Left):
		s.Focus = (s.Focus + n - 1) % n
		return nil, true
	case key.Matches(k, Keys.Right):
		s.Focus = (s.Focus + 1) % n
		return nil, true
	case key.Matches(k, Keys.Up):
		by = -1
	case key.Matches(k, Keys.Down):
		by = 1
	case key.Matches(k, Keys.PageUp):
		by = -10
	case key.Matches(k, Keys.PageDown):
		by = 10
	default:
		return nil, false
	}
	if s.Focus == 0 {
		return choose(by), true
	}
	s.Scroll[s.Focus] = max(s.Scroll[s.Focus]+by, 0)
	return nil, true
}

// Heading draws a pane's title, brighter where the keys go, and returns the column after it.
func (s *Set) Heading(c *canvas.Canvas, x, y, edge, pane int, title string) int {
	style := canvas.Dim
	if s.Focus == pane {
		style = canvas.Bold
		c.Set(x, y, canvas.Warm, '▸')
	}
	return c.PutUpTo(x+2, y, edge, style, title)
}

// First returns the first row that is seen of a pane with n rows and room for some of them.
func (s *Set) First(pane, n, room int) int {
	s.Scroll[pane] = max(min(s.Scroll[pane], n-room), 0)
	return s.Scroll[pane]
}

// Rows draws the rows of a pane from where it is scrolled to, down to a bottom, and says how many
// are below.
func (s *Set) Rows(c *canvas.Canvas, x, y, edge, bottom int, rows []canvas.Row, pane int) {
	room := bottom - y
	first := s.First(pane, len(rows), room)
	for n := range min(room, len(rows)-first) {
		c.PutRow(x, y+n, edge, rows[first+n])
	}
	if more := len(rows) - first - room; more > 0 && room > 0 {
		c.Fill(x, bottom-1, edge-x, 1)
		c.Put(x, bottom-1, canvas.Dim, fmt.Sprintf("%d more below", more+1))
	}
}

// Top returns the first row that is seen of a list of n rows whose cursor is at one of them.
func Top(at, n, room int) int { return min(max(at-room/2, 0), max(n-room, 0)) }
