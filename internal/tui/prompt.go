package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"github.com/charmbracelet/x/ansi"

	"nightdrill/internal/live/proc"
	"nightdrill/internal/tui/canvas"
)

// prompt is the line in which a command is given by name, or a question of a
// view is answered.
type prompt struct {
	text  string
	title string               // of a question
	done  func(string) tea.Cmd // of a question: gets the answer
}

// matches returns the commands that begin with the text, then those that hold it.
func (p *prompt) matches(all []command) (out []command) {
	for _, c := range all {
		if strings.HasPrefix(c.name, p.text) {
			out = append(out, c)
		}
	}
	for _, c := range all {
		if !strings.HasPrefix(c.name, p.text) && strings.Contains(c.name, p.text) {
			out = append(out, c)
		}
	}
	return out
}

func (s *shell) promptKey(k tea.KeyPressMsg) tea.Cmd {
	p := s.prompt
	switch k.String() {
	case "esc":
		s.prompt = nil
	case "backspace":
		if p.text == "" {
			if p.done == nil {
				s.prompt = nil
			}
			return nil
		}
		r := []rune(p.text)
		p.text = string(r[:len(r)-1])
	case "ctrl+u":
		p.text = ""
	case "tab":
		if p.done != nil {
			return nil
		}
		if m := p.matches(s.commands()); len(m) > 0 {
			p.text = m[0].name
		}
	case "enter":
		if p.done != nil {
			s.prompt = nil
			return p.done(p.text)
		}
		m := p.matches(s.commands())
		s.prompt = nil
		if len(m) == 0 {
			s.note, s.good = "unknown command "+p.text, false
			return nil
		}
		return m[0].do()
	default:
		if t := k.Key().Text; t != "" {
			p.text += t
		}
	}
	return nil
}

func (p *prompt) draw(c *canvas.Canvas, y int, all []command) {
	if p.done != nil {
		x := c.PutUpTo(1, y, c.W*2/3, canvas.Dim, p.title+" ")
		shown := []rune(p.text)
		for ansi.StringWidth(string(shown)) > c.W-x-2 {
			shown = shown[1:] // the end is where it is written
		}
		x = c.Put(x, y, canvas.Warm, proc.Harmless(string(shown)))
		c.Set(x, y, canvas.Chosen, ' ')
		return
	}
	x := c.Put(1, y, canvas.Key, ":")
	x = c.Put(x, y, canvas.Plain, p.text)
	c.Set(x, y, canvas.Chosen, ' ')
	x += 3
	for i, m := range p.matches(all) {
		style := canvas.Dim
		if i == 0 {
			style = canvas.Warm
		}
		x = c.Put(x, y, style, m.name) + 2
	}
}
