// Package startview is the view that takes the start of a function apart: what cost most in sentences, the shares of
// the start, its threads and children on a line of time, and the tree of what was loaded.
package startview

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/core/anatomy"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/msg"
	"nightdrill.dev/internal/tui/pane"
)

// Keys are the keys of the view.
var Keys = struct{ Up, Down, Left, Right, Other, Again, Filter, Export, Back key.Binding }{
	Up:     key.NewBinding(key.WithKeys("up"), key.WithHelp("↑↓←→", "walk the tree")),
	Down:   key.NewBinding(key.WithKeys("down")),
	Left:   key.NewBinding(key.WithKeys("left")),
	Right:  key.NewBinding(key.WithKeys("right")),
	Other:  pane.Bind("another function", "f"),
	Again:  pane.Bind("start it and look", "enter"),
	Filter: pane.Bind("filter the tree", "/"),
	Export: pane.Bind("export to files", "x"),
	Back:   pane.Bind("end, or clear the filter", "esc"),
}

// Model is the state of the view.
type Model struct {
	s        *session.Session
	w, h     int
	function string // that is chosen; "" for the first
	report   *anatomy.Report
	before   *anatomy.Report // the one of the same function before
	change   []string        // what is different from that one
	doing    string          // what is going on; "" for nothing
	end      context.CancelFunc
	number   int // of the latest order
	trouble  string
	tree     *tree
	filter   string
	steps    chan string
}

type (
	doneMsg struct {
		number int
		report *anatomy.Report
		err    error
	}
	stepMsg struct {
		number int
		text   string
	}
)

// New returns the view.
func New(s *session.Session) *Model { return &Model{s: s} }

// Resize takes in the size of the view.
func (m *Model) Resize(w, h int) tea.Cmd {
	m.w, m.h = w, h
	return nil
}

// Refresh takes in what has changed in the session.
func (m *Model) Refresh() tea.Cmd { return nil }

// names returns the functions whose starts can be taken apart.
func (m *Model) names() []string { return m.s.Starts() }

func (m *Model) chosen() string {
	all := m.names()
	if len(all) == 0 {
		return ""
	}
	if slices.Contains(all, m.function) {
		return m.function
	}
	return all[0]
}

// Take takes the start of a function apart.
func (m *Model) Take(function string) tea.Cmd {
	if function != m.function {
		m.report, m.before, m.tree, m.filter = nil, nil, nil, ""
	}
	m.function = function
	if m.doing != "" {
		return msg.Complain("The starts of a function are looked at just now; esc ends that.")
	}
	function = m.chosen()
	if function == "" {
		return msg.Complain("No function of the project is started by Night Drill.")
	}
	m.number++
	number := m.number
	ctx, end := context.WithCancel(context.Background())
	m.end, m.doing, m.trouble = end, "starting "+function, ""
	steps := make(chan string, 16)
	m.steps = steps
	return tea.Batch(func() tea.Msg {
		defer end()
		defer close(steps)
		r, err := m.s.Anatomy(ctx, function, false, func(step string) {
			select {
			case steps <- step:
			default: // it is drawn slowly
			}
		})
		return doneMsg{number, r, err}
	}, m.listen(number))
}

func (m *Model) listen(number int) tea.Cmd {
	steps := m.steps
	return func() tea.Msg {
		if step, ok := <-steps; ok {
			return stepMsg{number, step}
		}
		return nil
	}
}

// Took takes in a message; ok is false for those of others.
func (m *Model) Took(x tea.Msg) (cmd tea.Cmd, ok bool) {
	switch x := x.(type) {
	case stepMsg:
		if x.number == m.number && m.doing != "" {
			m.doing = x.text
			return m.listen(x.number), true
		}
		return nil, true
	case doneMsg:
		if x.number != m.number {
			return nil, true
		}
		m.doing, m.end = "", nil
		switch {
		case x.err == nil:
			if m.report != nil && m.report.Function == x.report.Function {
				m.before = m.report
			}
			m.report, m.tree, m.change = x.report, newTree(x.report), nil
			m.tree.filter(m.filter)
			if m.before != nil {
				m.change = changes(anatomy.Compare(m.before.Side(m.report.Function), m.report.Side(m.report.Function)))
			}
		case strings.Contains(x.err.Error(), context.Canceled.Error()):
			return msg.Say("Ended; nothing of it is kept."), true
		default:
			m.trouble = x.err.Error()
		}
		return nil, true
	}
	return nil, false
}

// changes describes what is different from the report before, the verdict first.
func changes(d *anatomy.Difference) (out []string) {
	out = append(out, d.Verdict)
	const most = 4
	var all []string
	for _, c := range append(d.Parts, d.Imports...) {
		if len(all) < most {
			all = append(all, fmt.Sprintf("%s %.1f → %.1f ms", c.What, c.Before, c.After))
		}
	}
	if d.Beyond && len(all) > 0 {
		out = append(out, strings.Join(all, "; "))
	}
	return out
}

// Busy reports whether starts are being looked at.
func (m *Model) Busy() bool { return m.doing != "" }

// Stop ends what is going on.
func (m *Model) Stop() {
	if m.end != nil {
		m.end()
	}
}

// Key handles a key.
func (m *Model) Key(k tea.KeyPressMsg) tea.Cmd {
	is := func(b key.Binding) bool { return key.Matches(k, b) }
	switch {
	case is(Keys.Again):
		return m.Take(m.chosen())
	case is(Keys.Other):
		all := m.names()
		if len(all) == 0 || m.doing != "" {
			return nil
		}
		next := all[(slices.Index(all, m.chosen())+1)%len(all)]
		m.function, m.report, m.before, m.tree, m.trouble = next, nil, nil, nil, ""
	case is(Keys.Back) && m.doing != "":
		m.Stop()
	case is(Keys.Back):
		m.filter = ""
		m.tree.filter("")
	case is(Keys.Filter) && m.tree != nil:
		return func() tea.Msg {
			return msg.Ask{Title: "Only what has this in its name:", Text: m.filter, Done: func(want string) tea.Cmd {
				m.filter = strings.TrimSpace(want)
				m.tree.filter(m.filter)
				return nil
			}}
		}
	case is(Keys.Export) && m.report != nil:
		return m.export()
	case is(Keys.Up):
		m.tree.up()
	case is(Keys.Down):
		m.tree.down()
	case is(Keys.Left):
		m.tree.beside(-1)
	case is(Keys.Right):
		m.tree.beside(1)
	}
	return nil
}

// Keys returns all keys of the view, for the help.
func (m *Model) Keys() []key.Binding {
	return []key.Binding{Keys.Again, Keys.Other, Keys.Up, Keys.Filter, Keys.Export, Keys.Back}
}

// Help returns the keys that work now.
func (m *Model) Help() []key.Binding {
	switch {
	case m.doing != "":
		return []key.Binding{Keys.Back}
	case m.tree == nil:
		return []key.Binding{Keys.Again, Keys.Other}
	}
	return []key.Binding{Keys.Again, Keys.Other, Keys.Up, Keys.Filter, Keys.Export}
}

// Title returns what the view shows, for the top line.
func (m *Model) Title() (canvas.Style, string) {
	if m.doing != "" {
		return canvas.Warm, m.doing
	}
	if m.report != nil {
		return canvas.Dim, fmt.Sprintf("%s, %s without looking", m.report.Function, text.Plural(len(m.report.Untraced),
			"start"))
	}
	return canvas.Dim, "the start of " + m.chosen()
}
