package tui

import (
	"context"
	"io"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/tui/canvas"
)

// Choice is what someone wants who opened the program where no project is.
type Choice int

const (
	Leave Choice = iota
	Began        // the project is there now
	Demo
)

// welcome is what is shown where no project is.
type welcome struct {
	dir    string
	b      *project.Beginning
	wrong  string
	queue  bool
	w, h   int
	theme  *canvas.Theme
	choice Choice
}

// Welcome offers to begin a project in a folder that has none.
func Welcome(ctx context.Context, dir string, in io.Reader, out io.Writer) (Choice, error) {
	m := &welcome{dir: dir, theme: themeFor(true)}
	m.look()
	err := runStoppable(m, nil, tea.WithInput(in), tea.WithOutput(out), tea.WithContext(ctx),
		tea.WithoutSignalHandler())
	if ctx.Err() != nil {
		return Leave, ErrInterrupted
	}
	return m.choice, err
}

// look finds out what a project here would be.
func (m *welcome) look() {
	kinds := []string{"http"}
	if m.queue {
		kinds = append(kinds, "queue")
	}
	var err error
	if m.b, err = project.Begin(m.dir, "", nil, kinds); err != nil {
		m.wrong = err.Error()
	}
}

func (m *welcome) Init() tea.Cmd { return tea.RequestBackgroundColor }

func (m *welcome) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.w, m.h = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		m.theme = themeFor(msg.IsDark())
	case tea.KeyPressMsg:
		switch msg.String() {
		case "q", "esc", "ctrl+c":
			return m, tea.Quit
		case "d":
			m.choice = Demo
			return m, tea.Quit
		case "s":
			m.queue = !m.queue
			m.look()
		case "enter":
			if m.b == nil {
				return m, nil
			}
			if err := m.b.Lay(m.dir); err != nil {
				m.wrong = err.Error()
				return m, nil
			}
			m.choice = Began
			return m, tea.Quit
		}
	}
	return m, nil
}

func (m *welcome) View() tea.View {
	c := canvas.New(m.w, m.h, m.theme)
	x := max((m.w-72)/2, 1)
	y := max(m.h/4, 1)
	put := func(style canvas.Style, line string) {
		for line := range strings.SplitSeq(ansi.Wrap(text.Harmless(line), max(m.w-x-1, 10), ""), "\n") {
			c.Put(x, y, style, line)
			y++
		}
	}
	put(canvas.Warm, "night drill")
	y++
	put(canvas.Plain, "No project in "+m.dir)
	y++
	if m.b != nil {
		put(canvas.Plain, "Create one here "+m.b.String()+".")
		put(canvas.Dim, "It would write "+strings.Join(m.b.Files(), ", ")+"; nothing is overwritten.")
		y++
	}
	if m.wrong != "" {
		put(canvas.Bad, m.wrong)
		y++
	}
	what := "HTTP requests; s adds a queue"
	if m.queue {
		what = "HTTP requests and a queue; s leaves the queue out"
	}
	for _, k := range []struct{ key, does string }{{"enter", "create it, with " + what}, {"d", "open the demo instead"},
		{"q", "quit"}} {
		if k.key == "enter" && m.b == nil {
			continue
		}
		c.Put(x, y, canvas.Key, k.key)
		c.Put(x+8, y, canvas.Plain, k.does)
		y++
	}
	y++
	put(canvas.Dim, "nightdrill init -- COMMAND creates one around any command; nightdrill --project DIR opens "+
		"another folder.")
	v := tea.NewView(c.String())
	v.AltScreen = true
	v.WindowTitle = "Night Drill"
	return v
}
