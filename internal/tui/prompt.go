package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"nightdrill/internal/tui/paint"
)

// prompt is the line in which a command is given by name.
type prompt struct{ text string }

// matches gives the commands that begin with the text, then those that hold it.
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
			s.prompt = nil
			return nil
		}
		r := []rune(p.text)
		p.text = string(r[:len(r)-1])
	case "tab":
		if m := p.matches(s.commands()); len(m) > 0 {
			p.text = m[0].name
		}
	case "enter":
		m := p.matches(s.commands())
		s.prompt = nil
		if len(m) == 0 {
			s.note = "there is no command " + p.text
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

func (p *prompt) draw(c *paint.Canvas, y int, all []command) {
	x := c.Put(1, y, paint.Key, ":")
	x = c.Put(x, y, paint.Plain, p.text)
	c.Set(x, y, paint.Chosen, ' ')
	x += 3
	for i, m := range p.matches(all) {
		style := paint.Dim
		if i == 0 {
			style = paint.Warm
		}
		x = c.Put(x, y, style, m.name) + 2
	}
}
