// Package input is the line in which the user types: a command, an answer, a filter, a search.
// It moves the cursor, deletes words, takes what is pasted and recalls earlier lines, by the
// keys of bubbles' text input. A view passes key presses and pastes to Update, reads Value, and
// draws the line on its canvas.
package input

import (
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/tui/canvas"
)

// History holds earlier lines, the newest last.
type History []string

// mostKept bounds a history.
const mostKept = 100

// Add appends a line, unless it is empty or the latest one.
func (h *History) Add(line string) {
	if n := len(*h); line == "" || n > 0 && (*h)[n-1] == line {
		return
	}
	if *h = append(*h, line); len(*h) > mostKept {
		*h = (*h)[1:]
	}
}

// Line is a line of text that is being typed. Use New to make one.
type Line struct {
	field     textinput.Model
	prefilled bool     // the first character typed replaces the text
	history   *History // recalled by up and down; nil for none
	at        int      // in the history; its length for the line itself
	own       string   // the line itself, while an earlier one is shown
}

// New returns a line with a text in it, which the first character typed replaces. history may be
// nil.
func New(text string, history *History) *Line {
	l := &Line{field: textinput.New(), prefilled: text != "", history: history}
	l.field.Focus()
	l.field.SetVirtualCursor(false)
	l.field.SetValue(text)
	l.field.CursorEnd()
	if history != nil {
		l.at = len(*history)
	}
	return l
}

// Value returns the text.
func (l *Line) Value() string { return l.field.Value() }

// SetValue replaces the text, with the cursor at its end.
func (l *Line) SetValue(text string) {
	l.prefilled = false
	l.field.SetValue(text)
	l.field.CursorEnd()
}

// Update handles a key press or a paste.
func (l *Line) Update(m tea.Msg) {
	typed := false
	switch m := m.(type) {
	case tea.KeyPressMsg:
		typed = m.Key().Text != ""
		switch m.String() {
		case "up":
			l.recall(-1)
			return
		case "down":
			l.recall(1)
			return
		}
	case tea.PasteMsg:
		typed = true
	}
	if typed && l.prefilled {
		l.field.Reset()
	}
	l.prefilled = false
	l.field, _ = l.field.Update(m) // its command blinks a cursor that is not drawn
}

// recall shows an earlier or a later line of the history.
func (l *Line) recall(by int) {
	if l.history == nil || l.at+by < 0 || l.at+by > len(*l.history) {
		return
	}
	if l.at == len(*l.history) {
		l.own = l.Value()
	}
	if l.at += by; l.at == len(*l.history) {
		l.SetValue(l.own)
		return
	}
	l.SetValue((*l.history)[l.at])
}

// Draw writes the text from x up to edge, with the cursor; what does not fit is scrolled. It
// returns the column after the cursor.
func (l *Line) Draw(c *canvas.Canvas, x, y, edge int, style canvas.Style) int {
	text := []rune(l.Value())
	at := l.field.Position()
	first := 0
	for first < at && x+ansi.StringWidth(string(text[first:at])) > edge-1 {
		first++
	}
	x = c.Put(x, y, style, string(text[first:at]))
	under := " "
	if at < len(text) {
		under = string(text[at])
	}
	cursor := x
	x = c.PutUpTo(x, y, edge, canvas.Chosen, under)
	if at < len(text) {
		c.PutUpTo(x, y, edge, style, string(text[at+1:]))
	}
	return cursor + 1
}
