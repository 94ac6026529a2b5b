package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"nightdrill/internal/tui/canvas"
	"nightdrill/internal/tui/input"
)

// prompt is the line in which a command is given by name, or a question of a
// view is answered.
type prompt struct {
	*input.Line
	title string               // of a question
	done  func(string) tea.Cmd // of a question: gets the answer
}

// matches returns the commands that begin with the text, then those that hold it.
func (p *prompt) matches(all []command) (out []command) {
	for _, c := range all {
		if strings.HasPrefix(c.name, p.Value()) {
			out = append(out, c)
		}
	}
	for _, c := range all {
		if !strings.HasPrefix(c.name, p.Value()) && strings.Contains(c.name, p.Value()) {
			out = append(out, c)
		}
	}
	return out
}

// openPrompt opens the prompt: for a command, or, with done, for the answer to a question.
func (s *shell) openPrompt(title, text string, done func(string) tea.Cmd) {
	if s.typed == nil {
		s.typed = map[string]*input.History{}
	}
	if s.typed[title] == nil {
		s.typed[title] = &input.History{}
	}
	s.prompt = &prompt{Line: input.New(text, s.typed[title]), title: title, done: done}
}

func (s *shell) promptKey(k tea.KeyPressMsg) tea.Cmd {
	p := s.prompt
	switch k.String() {
	case "esc":
		s.prompt = nil
	case "backspace":
		if p.Value() == "" && p.done == nil {
			s.prompt = nil
			return nil
		}
		p.Update(k)
	case "tab":
		if m := p.matches(s.commands()); p.done == nil && len(m) > 0 {
			p.SetValue(m[0].name)
		}
	case "enter":
		s.prompt = nil
		s.typed[p.title].Add(p.Value())
		if p.done != nil {
			return p.done(p.Value())
		}
		m := p.matches(s.commands())
		if len(m) == 0 {
			s.note, s.good = "unknown command "+p.Value(), false
			return nil
		}
		return m[0].do()
	default:
		p.Update(k)
	}
	return nil
}

// paste passes what is pasted to the line that is being typed.
func (s *shell) paste(m tea.PasteMsg) tea.Cmd {
	if s.prompt != nil {
		s.prompt.Update(m)
		return nil
	}
	if v := s.typing(); v != nil {
		return v.Paste(m)
	}
	return nil
}

func (p *prompt) draw(c *canvas.Canvas, y int, all []command) {
	if p.done != nil {
		x := c.PutUpTo(1, y, c.W*2/3, canvas.Dim, p.title+" ")
		p.Draw(c, x, y, c.W-1, canvas.Warm)
		return
	}
	x := c.Put(1, y, canvas.Key, ":")
	x = p.Draw(c, x, y, c.W/3, canvas.Plain) + 2
	for i, m := range p.matches(all) {
		style := canvas.Dim
		if i == 0 {
			style = canvas.Warm
		}
		x = c.Put(x, y, style, m.name) + 2
	}
}
