package fireview

import (
	"fmt"
	"net/http"
	"slices"
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/input"
	"nightdrill.dev/internal/tui/msg"
	"nightdrill.dev/internal/tui/pane"
)

func statusText(status int) string { return http.StatusText(status) }

// overlay is what covers the view for a while: the logs, or the environment.
type overlay struct {
	env      string // the function whose environment it is; "" for the logs
	values   []string
	set      []string // names that were set for this session
	at       int
	search   string
	typing   *input.Line // the search, while it is typed
	function string      // whose lines are shown; "" for all
	names    []string
	instance string             // of the invocation that is shown, where only its lines are wanted
	only     []session.LogEntry // the lines of that invocation alone, where only those are wanted
	entries  []session.LogEntry
	end      uint64 // the last entry shown; 0 follows
	height   int
}

var overlayKeys = struct{ Search, Function, Only, Set, Unset, Follow key.Binding }{
	Search:   pane.Bind("search", "/"),
	Function: pane.Bind("of another function", "f"),
	Only:     pane.Bind("this instance, this invocation", "o"),
	Set:      pane.Bind("change it for this session", "enter"),
	Unset:    pane.Bind("reset to project value", "D"),
	Follow:   key.NewBinding(key.WithKeys("end", "G"), key.WithHelp("end", "follow")),
}

func newLogs(m *Model) *overlay {
	o := &overlay{}
	o.refresh(m.s)
	return o
}

// openEnv opens the environment of the function that the payload goes to.
func (m *Model) openEnv() tea.Cmd {
	fn := m.function()
	if fn == "" {
		return msg.Complain("This payload reaches no function.")
	}
	m.over = &overlay{env: fn}
	m.over.refresh(m.s)
	return nil
}

func (o *overlay) refresh(s *session.Session) {
	if o.env != "" {
		o.values, o.set = s.Env(o.env), nil
		states, _ := s.States()
		for _, x := range states {
			if x.Name == o.env {
				o.set = x.Env
			}
		}
		o.at = min(o.at, max(len(o.values), 0))
		return
	}
	p := s.Plan()
	o.names = []string{""}
	for i := range p.Functions {
		o.names = append(o.names, p.Functions[i].Name)
	}
	for i := range p.Services {
		o.names = append(o.names, p.Services[i].Name)
	}
	to := o.end
	if to == 0 {
		to = ^uint64(0)
	}
	needle := strings.ToLower(o.search)
	if o.only != nil {
		o.entries = nil
		for _, e := range o.only {
			if e.N <= to && strings.Contains(strings.ToLower(e.Text), needle) {
				o.entries = append(o.entries, e)
			}
		}
		return
	}
	o.entries = s.Log.Up(to, max(o.height, 50), func(e *session.LogEntry) bool {
		return (o.function == "" || e.Function == o.function) && (o.instance == "" || e.Instance == o.instance) &&
			(needle == "" || strings.Contains(strings.ToLower(e.Text), needle))
	})
}

func (o *overlay) help() []key.Binding {
	switch {
	case o.typing != nil:
		return []key.Binding{pane.Bind("done", "enter")}
	case o.env != "":
		return []key.Binding{overlayKeys.Set, overlayKeys.Unset, Keys.Up, Keys.Close}
	}
	return []key.Binding{overlayKeys.Search, overlayKeys.Function, overlayKeys.Only, Keys.Up, overlayKeys.Follow,
		Keys.Close}
}

// edit passes a key or a paste to the search.
func (o *overlay) edit(x tea.Msg, s *session.Session) tea.Cmd {
	if o.typing != nil {
		o.typing.Update(x)
		o.search, o.end = o.typing.Value(), 0
		o.refresh(s)
	}
	return nil
}

func (m *Model) overlayKey(k tea.KeyPressMsg) tea.Cmd {
	o := m.over
	if o.typing != nil {
		if k.String() == "esc" || k.String() == "enter" {
			o.typing = nil
			return nil
		}
		return o.edit(k, m.s)
	}
	is := func(b key.Binding) bool { return key.Matches(k, b) }
	if is(Keys.Close) {
		m.over = nil
		return nil
	}
	if o.env != "" {
		return m.envKey(k)
	}
	switch {
	case is(Keys.Logs):
		m.over = nil
		return nil
	case is(overlayKeys.Search):
		o.typing, o.search = input.New("", nil), ""
	case is(overlayKeys.Function):
		o.function = o.names[(slices.Index(o.names, o.function)+1)%len(o.names)]
		o.instance = ""
	case is(overlayKeys.Only):
		switch t := m.page.v.Last(); {
		case o.only != nil || t == nil || t.Name == "":
			o.only, o.instance = nil, ""
		case o.instance != "":
			if o.only = m.s.Lines(m.page.v, t, linesShown); o.only == nil {
				o.only = []session.LogEntry{}
			}
		default:
			o.instance, o.function = t.Name, ""
		}
		o.end = 0
	case is(overlayKeys.Follow):
		o.end = 0
	case is(Keys.Up), is(Keys.PageUp):
		by := 1
		if is(Keys.PageUp) {
			by = max(o.height-2, 1)
		}
		if n := len(o.entries); n > by {
			o.end = o.entries[n-1-by].N
		}
	case is(Keys.Down), is(Keys.PageDown):
		if o.end > 0 {
			by := uint64(1)
			if is(Keys.PageDown) {
				by = uint64(max(o.height-2, 1))
			}
			if o.end += by; o.end >= m.s.Log.Last() {
				o.end = 0
			}
		}
	}
	o.refresh(m.s)
	return nil
}

func (m *Model) envKey(k tea.KeyPressMsg) tea.Cmd {
	o := m.over
	is := func(b key.Binding) bool { return key.Matches(k, b) }
	name, value := "", ""
	if o.at < len(o.values) {
		name, value, _ = strings.Cut(o.values[o.at], "=")
	}
	change := func(name, value string, set bool) tea.Cmd {
		if err := m.s.SetEnv(o.env, name, value, set); err != nil {
			return msg.Complain("%v", err)
		}
		o.refresh(m.s)
		return msg.Say("%s is set for this session; instances of %s are replaced.", name, o.env)
	}
	switch {
	case is(Keys.Up):
		o.at = max(o.at-1, 0)
	case is(Keys.Down):
		o.at = min(o.at+1, len(o.values))
	case is(overlayKeys.Unset) && slices.Contains(o.set, name):
		return change(name, "", false)
	case is(overlayKeys.Set) && name == "":
		return ask("set a variable for this session: NAME=value", "", func(content string) tea.Cmd {
			name, value, ok := strings.Cut(content, "=")
			if !ok {
				return msg.Complain("%q must have the form NAME=value", content)
			}
			return change(strings.TrimSpace(name), value, true)
		})
	case is(overlayKeys.Set):
		if payload.SecretVariable(name) {
			value = "" // it is not shown, not even to be changed
		}
		return ask(name+" for this session", value, func(content string) tea.Cmd { return change(name, content, true) })
	}
	return nil
}

func (o *overlay) draw(c *canvas.Canvas, m *Model) {
	if o.env != "" {
		o.drawEnv(c)
		return
	}
	title := "Log output of the functions"
	if o.function != "" {
		title = "Log output of " + o.function
	}
	switch {
	case o.only != nil:
		title = fmt.Sprintf("Log output of %s for firing %d", o.instance, m.page.v.N)
	case o.instance != "":
		title = "Log output of " + o.instance
	}
	c.Rule(0, title)
	x := c.Put(2, 1, canvas.Dim, "search: ")
	if o.typing != nil {
		o.typing.Draw(c, x, 1, c.W/2, canvas.Warm)
	} else {
		c.PutUpTo(x, 1, c.W/2, canvas.Warm, o.search)
	}
	state := "following"
	if o.end > 0 {
		state = "paused; end follows again"
	}
	c.Right(c.W-1, 1, canvas.Dim, state)
	o.height = c.H - 3
	if len(o.entries) == 0 {
		c.Put(2, 3, canvas.Dim, "No log output yet, or nothing matches the search. Fire something.")
	}
	shown := o.entries[max(0, len(o.entries)-o.height):]
	widest := 8
	for _, e := range shown {
		widest = max(widest, min(len(e.Instance), 24))
	}
	for i, e := range shown {
		y := 3 + i
		c.Put(1, y, canvas.Dim, e.At.Format("15:04:05.000"))
		c.PutUpTo(15, y, 15+widest, canvas.Field, e.Instance)
		style, mark := canvas.LineMark(e.Kind)
		c.Put(17+widest, y, style, mark+e.Text)
	}
}

func (o *overlay) drawEnv(c *canvas.Canvas) {
	c.Rule(0, "Environment of "+o.env)
	widest := 4
	for _, v := range o.values {
		name, _, _ := strings.Cut(v, "=")
		widest = max(widest, min(len(name), 40))
	}
	for i, v := range append(slices.Clone(o.values), "") {
		y := 2 + i
		name, value, _ := strings.Cut(v, "=")
		if payload.SecretVariable(name) && value != "" {
			value = payload.Hidden
		}
		switch {
		case v == "":
			c.Put(2, y, canvas.Dim, "another variable")
		default:
			c.PutUpTo(2, y, 2+widest, canvas.Field, name)
			x := c.PutUpTo(4+widest, y, c.W-28, canvas.Plain, value)
			if slices.Contains(o.set, name) {
				c.Put(x+2, y, canvas.Warm, "set for this session")
			}
		}
		if i == o.at {
			c.Restyle(2, y, c.W-3, canvas.Chosen)
		}
	}
	c.Put(2, min(5+len(o.values), c.H-1), canvas.Dim, "It also inherits Night Drill's environment. A change replaces "+
		"its instances.")
}
