package tui

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/input"
)

// prompt is the line in which a command is given by name, or a question of a
// view is answered.
type prompt struct {
	*input.Line
	at    int                  // of a command: the one that is chosen among those that match
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
	case "enter":
		if p.done != nil {
			s.prompt = nil
			s.typed[p.title].Add(p.Value())
			return p.done(p.Value())
		}
		if m := p.matches(s.commands()); p.at < len(m) {
			s.prompt = nil
			return m[p.at].do()
		}
	case "up", "down":
		if p.done == nil {
			by := map[string]int{"up": -1, "down": 1}[k.String()]
			p.at = max(min(p.at+by, len(p.matches(s.commands()))-1), 0)
			return nil
		}
		p.Update(k)
	default:
		p.Update(k)
		p.at = 0
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

// mostCommands bounds the commands that are listed at once.
const mostCommands = 12

// draw draws the prompt in the last line: a question, or the beginning of a command with those that
// match above it.
func (p *prompt) draw(c *canvas.Canvas, y int, all []command) {
	help := "enter does it   esc cancels"
	if p.done != nil {
		x := c.PutUpTo(1, y, c.W*2/3, canvas.Dim, p.title+" ")
		if x = p.Draw(c, x, y, c.W-1, canvas.Warm); x+3+len(help) < c.W {
			c.Right(c.W-1, y, canvas.Dim, "enter accepts   esc cancels")
		}
		return
	}
	found := p.matches(all)
	rows := min(len(found), mostCommands, y-4)
	top := max(min(p.at-rows/2, len(found)-rows), 0)
	wide := min(60, c.W-2)
	c.Frame(0, y-rows-2, wide, rows+2, fmt.Sprintf("%d of %d commands", len(found), len(all)))
	for i := range rows {
		m, at := found[top+i], y-rows-1+i
		c.PutUpTo(2, at, wide-10, canvas.Plain, m.name)
		c.Right(wide-2, at, canvas.Key, m.key)
		if top+i == p.at {
			c.Restyle(1, at, wide-2, canvas.Chosen)
		}
	}
	x := c.Put(1, y, canvas.Key, ":")
	p.Draw(c, x, y, c.W/2, canvas.Plain)
	c.Right(c.W-1, y, canvas.Dim, "↑↓ choose   "+help)
}
