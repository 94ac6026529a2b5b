// Package scroll is a page that is longer than the room that it has.
package scroll

import (
	"fmt"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/tui/canvas"
)

// Keys are the keys that scroll.
var Keys = struct{ Up, Down, PageUp, PageDown key.Binding }{
	Up:       key.NewBinding(key.WithKeys("up"), key.WithHelp("↑↓", "scroll")),
	Down:     key.NewBinding(key.WithKeys("down")),
	PageUp:   key.NewBinding(key.WithKeys("pgup"), key.WithHelp("PgUp", "and PgDn: by a page")),
	PageDown: key.NewBinding(key.WithKeys("pgdown", "space")),
}

// Page is how far a page is scrolled.
type Page struct {
	At     int // the first row that is seen
	Length int // of the page, as it was last drawn
	Room   int // rows that are seen
}

// Key handles a key, and reports whether it scrolls.
func (p *Page) Key(k tea.KeyPressMsg) bool {
	switch {
	case key.Matches(k, Keys.Up):
		p.to(p.At - 1)
	case key.Matches(k, Keys.Down):
		p.to(p.At + 1)
	case key.Matches(k, Keys.PageUp):
		p.to(p.At - p.step())
	case key.Matches(k, Keys.PageDown):
		p.to(p.At + p.step())
	default:
		return false
	}
	return true
}

// overlap is how many rows two screens of a page have in common: a heading may stay on the first of
// them, and the last says how much is below.
const overlap = 4

func (p *Page) step() int { return max(p.Room-overlap, 1) }

func (p *Page) to(at int) { p.At = max(min(at, p.Length-p.Room), 0) }

// Long reports whether there is anything to scroll.
func (p *Page) Long() bool { return p.Length > p.Room }

// Fit takes the length of the page and the rows that it has on the screen.
func (p *Page) Fit(length, room int) {
	p.Length, p.Room = length, max(room, 1)
	p.to(p.At)
}

// Draw draws what is seen of a page, from a row of the screen on.
func (p *Page) Draw(out *canvas.Canvas, y int, page *canvas.Canvas) { out.DrawRows(y, page, p.At) }

// Rest writes in the last row how much is hidden.
func (p *Page) Rest(out *canvas.Canvas) {
	if hidden := p.Length - p.Room - p.At; hidden > 0 {
		out.Fill(0, out.H-1, out.W, 1)
		out.Put(2, out.H-1, canvas.Dim, fmt.Sprintf("%d more lines below", hidden+1))
	}
}
