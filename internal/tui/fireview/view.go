// Package fireview is the view of one event at a time: what is sent, what the
// function replies and writes, where the time went, and what differs from the
// reply before.
package fireview

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/core/jsondiff"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/session/catalog"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/input"
	"nightdrill.dev/internal/tui/msg"
	"nightdrill.dev/internal/tui/pane"
)

// Keys are the keys of the view.
var Keys = struct {
	Fire, Cold, Times, Async, Variant, Again, Check, Filter, Up, Down, Left, Right, PageUp, PageDown, Before, After,
	Earlier,
	Later,
	Form, Resend,
	Edit, Blank, Copy, Rename, Delete, Undo, Curl, Keep, Save, Open, LeaveOut, Logs, Start, Env, Hold, Record, Map,
	Stop,
	Close key.Binding
}{
	Fire:     pane.Bind("fire", "enter"),
	Cold:     pane.Bind("fire cold", "c"),
	Times:    pane.Bind("fire n times in a row", "n"),
	Async:    pane.Bind("fire without waiting", "a"),
	Variant:  pane.Bind("next variant", "v"),
	Again:    pane.Bind("re-fire on save", "w"),
	Check:    pane.Bind("check expectations on save", "W"),
	Filter:   pane.Bind("filter the payloads", "/"),
	Up:       pane.Keys.Up,
	Down:     pane.Keys.Down,
	Left:     pane.Keys.Left,
	Right:    pane.Keys.Right,
	PageUp:   pane.Keys.PageUp,
	PageDown: pane.Keys.PageDown,
	Before:   key.NewBinding(key.WithKeys("{"), key.WithHelp("{ }", "previous, next source")),
	After:    key.NewBinding(key.WithKeys("}")),
	Earlier:  key.NewBinding(key.WithKeys(","), key.WithHelp(", .", "earlier, later firings")),
	Later:    key.NewBinding(key.WithKeys(".")),
	Form:     pane.Bind("formatted, raw, bytes", "m"),
	Edit:     pane.Bind("edit in $EDITOR", "e"),
	Blank:    pane.Bind("new payload", "b"),
	Copy:     pane.Bind("duplicate", "d"),
	Rename:   pane.Bind("rename", "r"),
	Delete:   pane.Bind("delete", "D"),
	Undo:     pane.Bind("bring back what was deleted", "u"),
	Curl:     pane.Bind("copy: as curl, payload, reply or log", "y"),
	Keep:     pane.Bind("save the reply as a payload", "k"),
	Save:     pane.Bind("save the reply to a file", "s"),
	Open:     pane.Bind("save and open the reply", "o"),
	LeaveOut: pane.Bind("ignore a field when comparing", "i"),
	Resend:   pane.Bind("send the shown event again", "t"),
	Logs:     pane.Bind("logs", "l"),
	Start:    pane.Bind("take its start apart", "X"),
	Env:      pane.Bind("environment", "E"),
	Hold:     pane.Bind("suspend timeouts for a debugger", "H"),
	Record:   pane.Bind("record the front", "R"),
	Map:      pane.Bind("trace on the map", "g"),
	Stop:     pane.Bind("stop waiting, close", "esc"),
	Close:    pane.Bind("close", "esc"),
}

const (
	onList = iota
	onSent
	onReply
	onLog
	panes
)

// Model is the state of the view.
type Model struct {
	s    *session.Session
	w, h int

	items  []*catalog.Item // those that the filter leaves
	filter string
	typing *input.Line // the filter, while it is typed
	chosen string      // key of the item under the cursor
	at     int         // its place in items
	form   int         // of the payload: formatted, as it is, bytes
	panes  pane.Set
	// payloads that were deleted since the program was opened, the last at the end
	deleted []*catalog.Item
	drawn   pane.List
	counts  map[string]int // of the payloads that are listed, by source

	variant  string
	follow   bool // show the latest firing
	shown    *session.Firing
	page     page                // of what is shown
	reading  *session.Firing     // of which a page is being made
	unread   bool                // it changed meanwhile
	leaveOut map[string][]string // JSON Pointers, by the item's key
	firings  []mark              // for the strip
	sent     sentPage
	series   *session.Series // firings in a row that are in progress
	over     *overlay        // logs or environment, while open
}

// New returns the view of a session.
func New(s *session.Session) *Model {
	m := &Model{s: s, panes: pane.New(panes), follow: true, leaveOut: map[string][]string{}}
	m.Refresh()
	return m
}

// Resize sets the view's size in cells.
func (m *Model) Resize(w, h int) tea.Cmd {
	m.w, m.h = w, h
	m.sent = sentPage{}
	return m.Refresh()
}

// Refresh takes in what has changed in the session, and returns the command that
// reads what is to be shown.
func (m *Model) Refresh() tea.Cmd {
	m.list()
	if m.over != nil {
		m.over.refresh(m.s)
	}
	return m.read()
}

// list makes the list of payloads that the filter leaves.
func (m *Model) list() {
	m.items, m.counts = m.items[:0], map[string]int{}
	for _, i := range m.s.List() {
		if m.fits(i) {
			m.items = append(m.items, i)
			m.counts[i.SourceName]++
		}
	}
	m.at = slices.IndexFunc(m.items, func(i *catalog.Item) bool { return i.Key() == m.chosen })
	if m.at < 0 && len(m.items) > 0 {
		m.at, m.chosen = 0, m.items[0].Key()
	}
}

// Choose moves the cursor to an item by its key.
func (m *Model) Choose(key string) tea.Cmd {
	m.chosen, m.filter, m.typing, m.panes.Focus, m.over = key, "", nil, onList, nil
	m.sent = sentPage{}
	return m.Refresh()
}

// sourceOf returns the source of a payload of the list.
func (m *Model) sourceOf(i int) string { return m.items[i].SourceName }

// fits reports whether an item holds every word of the filter.
func (m *Model) fits(i *catalog.Item) bool {
	content := strings.ToLower(i.SourceName + " " + i.Title() + " " + i.Label)
	for _, word := range strings.Fields(strings.ToLower(m.filter)) {
		if !strings.Contains(content, word) {
			return false
		}
	}
	return true
}

// item returns the payload under the cursor, or nil.
func (m *Model) item() *catalog.Item {
	if m.at < 0 || m.at >= len(m.items) {
		return nil
	}
	return m.items[m.at]
}

// Click chooses the payload that is pointed at, or the pane.
func (m *Model) Click(x, y int) tea.Cmd {
	if m.over != nil {
		return nil
	}
	switch {
	case m.drawn.Contains(x, y):
		m.panes.Focus = onList
		if at, ok := m.drawn.At(x, y); ok {
			return m.move(at - m.at)
		}
	case x < m.listWidth():
		m.panes.Focus = onSent
	default:
		m.panes.Focus = onReply
	}
	return nil
}

// Fired returns how many firings are shown.
func (m *Model) Fired() int { return len(m.firings) }

// Typing reports whether keys are text now.
func (m *Model) Typing() bool { return m.typing != nil || m.over != nil && m.over.typing != nil }

// Paste handles a paste while text is typed.
func (m *Model) Paste(p tea.PasteMsg) tea.Cmd {
	if m.over != nil {
		return m.over.edit(p, m.s)
	}
	return m.editFilter(p)
}

// Key handles a key.
func (m *Model) Key(k tea.KeyPressMsg) tea.Cmd {
	if m.over != nil {
		return m.overlayKey(k)
	}
	if m.typing != nil {
		return m.filterKey(k)
	}
	if cmd, ok := m.panes.Key(k, m.move); ok {
		return cmd
	}
	is := func(b key.Binding) bool { return key.Matches(k, b) }
	switch {
	case is(Keys.Fire):
		return m.fire(session.Order{})
	case is(Keys.Cold):
		return m.fire(session.Order{Cold: true})
	case is(Keys.Async):
		return m.fire(session.Order{Async: true})
	case is(Keys.Times):
		return m.askTimes()
	case is(Keys.Again):
		m.s.SetAgain(!m.s.Again())
		if m.s.Again() {
			return msg.Say("The last event is fired again after each change.")
		}
		return msg.Say("Changes no longer fire anything.")
	case is(Keys.Check):
		m.s.SetChecking(!m.s.Checks().On)
		if m.s.Checks().On {
			return msg.Say("All expectations are checked, now and after each change; ! opens what broke.")
		}
		return msg.Say("Changes no longer check anything.")
	case is(Keys.Variant):
		return m.nextVariant()
	case is(Keys.Filter):
		m.typing, m.panes.Focus = input.New(m.filter, nil), onList
	case is(Keys.Before):
		return m.move(pane.Jump(m.at, -1, len(m.items), m.sourceOf) - m.at)
	case is(Keys.After):
		return m.move(pane.Jump(m.at, 1, len(m.items), m.sourceOf) - m.at)
	case is(Keys.Earlier):
		return m.step(-1)
	case is(Keys.Later):
		return m.step(1)
	case is(Keys.Form):
		m.form = (m.form + 1) % 3
		m.sent = sentPage{}
	case is(Keys.Stop):
		if m.series != nil {
			m.series.Stop()
		}
		if m.shown != nil && !m.page.v.Over {
			m.shown.Stop()
		}
		m.filter = ""
		m.list()
	case is(Keys.Start):
		function := m.function()
		if function == "" {
			return msg.Complain("Choose a payload that reaches a function.")
		}
		return func() tea.Msg { return msg.Start{Function: function} }
	case is(Keys.Resend):
		if m.shown == nil || m.page.v.Sent == nil {
			return msg.Complain("No event is shown that could be sent again.")
		}
		f := m.s.Resend(&m.page.v)
		if f == nil {
			return msg.Complain("Only the beginning of this event is kept, so it cannot be sent again.")
		}
		m.follow = true
		m.show(f)
		return m.read()
	case is(Keys.Logs):
		m.over = newLogs(m)
	case is(Keys.Env):
		return m.openEnv()
	case is(Keys.Hold):
		return m.hold()
	case is(Keys.Record):
		return m.record()
	default:
		return m.payloadKey(k)
	}
	return nil
}

// payloadKey handles the keys that make, change and keep payloads.
func (m *Model) payloadKey(k tea.KeyPressMsg) tea.Cmd {
	is := func(b key.Binding) bool { return key.Matches(k, b) }
	switch {
	case is(Keys.Edit):
		return m.edit()
	case is(Keys.Blank):
		return m.blank()
	case is(Keys.Copy):
		return m.duplicate()
	case is(Keys.Rename):
		return m.rename()
	case is(Keys.Delete):
		return m.remove()
	case is(Keys.Map):
		if i := m.item(); i != nil {
			return func() tea.Msg { return msg.Map{Item: i} }
		}
	case is(Keys.Undo):
		return m.undo()
	case is(Keys.Curl):
		return m.copy()
	case is(Keys.Keep):
		return m.keep()
	case is(Keys.Save):
		return m.save(false)
	case is(Keys.Open):
		return m.save(true)
	case is(Keys.LeaveOut):
		return m.leave()
	}
	return nil
}

func ask(title, content string, done func(string) tea.Cmd) tea.Cmd {
	return func() tea.Msg { return msg.Ask{Title: title, Text: content, Done: done} }
}

func (m *Model) filterKey(k tea.KeyPressMsg) tea.Cmd {
	switch k.String() {
	case "esc":
		m.typing, m.filter = nil, ""
	case "enter":
		m.typing = nil
	case "up":
		return m.move(-1)
	case "down":
		return m.move(1)
	default:
		return m.editFilter(k)
	}
	m.list()
	return nil
}

// editFilter passes a key or a paste to the filter.
func (m *Model) editFilter(x tea.Msg) tea.Cmd {
	m.typing.Update(x)
	m.filter = m.typing.Value()
	m.list()
	return nil
}

// fire fires what is under the cursor.
func (m *Model) fire(o session.Order) tea.Cmd {
	i := m.item()
	if i == nil {
		return msg.Complain("Nothing to fire yet: b creates a payload.")
	}
	o.Item, o.Variant = i, m.variantOf(i)
	m.follow = true
	m.show(m.s.Fire(o))
	return m.read()
}

// variantOf returns the chosen variant where the item's source leads to it.
func (m *Model) variantOf(i *catalog.Item) string {
	if slices.Contains(m.s.Variants(i.SourceName), m.variant) {
		return m.variant
	}
	return ""
}

func (m *Model) nextVariant() tea.Cmd {
	i := m.item()
	if i == nil {
		return nil
	}
	all := append([]string{""}, m.s.Variants(i.SourceName)...)
	if len(all) == 1 {
		return msg.Complain("The functions behind %s have no variants; add them under variants: in the project file.",
			i.SourceName)
	}
	m.variant = all[(slices.Index(all, m.variantOf(i))+1)%len(all)]
	if m.variant == "" {
		return msg.Say("The next event goes to the function itself.")
	}
	return msg.Say("The next event goes to the variant %s.", m.variant)
}

func (m *Model) askTimes() tea.Cmd {
	return ask("fire how many times in a row?", "20", func(content string) tea.Cmd {
		n, err := strconv.Atoi(strings.TrimSpace(content))
		if err != nil || n < 1 || n > 10_000 {
			return msg.Complain("%q must be a number from 1 to 10000", content)
		}
		i := m.item()
		if i == nil {
			return nil
		}
		m.follow = true
		m.series = m.s.FireTimes(session.Order{Item: i, Variant: m.variantOf(i)}, n)
		series := m.series
		return func() tea.Msg {
			<-series.Done()
			return msg.Note{Text: series.Says()}
		}
	})
}

// show shows a firing.
func (m *Model) show(f *session.Firing) {
	if m.shown != f {
		m.shown = f
		m.panes.Scroll[onReply], m.panes.Scroll[onLog] = 0, 0
	}
}

// step shows an earlier or a later firing.
func (m *Model) step(by int) tea.Cmd {
	at := slices.IndexFunc(m.firings, func(x mark) bool { return x.f == m.shown })
	if to := at + by; at >= 0 && to >= 0 && to < len(m.firings) {
		m.show(m.firings[to].f)
		m.follow = to == len(m.firings)-1
		return m.read()
	}
	return nil
}

// move chooses another payload.
func (m *Model) move(by int) tea.Cmd {
	if len(m.items) == 0 {
		return nil
	}
	m.at = min(max(m.at+by, 0), len(m.items)-1)
	m.chosen, m.panes.Scroll[onSent] = m.items[m.at].Key(), 0
	return nil
}

// record records what comes to the front, or ends that.
func (m *Model) record() tea.Cmd {
	if name, _ := m.s.RecordingNow(); name != "" {
		return work(m.s.StopRecording, func(said string) tea.Cmd { return msg.Say("%s.", said) })
	}
	if m.s.Front == nil {
		return msg.Complain("The front is closed, so nothing can be recorded there.")
	}
	return ask("name for the recording of the front", "front-"+time.Now().Format("0102-1504"),
		func(name string) tea.Cmd {
			return work(func() (string, error) { return name, m.s.Record(name) }, func(name string) tea.Cmd {
				return msg.Say("Requests to http://%s are recorded as %s; R ends it.", m.s.Front.Address, name)
			})
		})
}

// hold suspends timeouts and idle stops, or resumes them.
func (m *Model) hold() tea.Cmd {
	fn := m.function()
	if fn == "" {
		return msg.Complain("This payload reaches no function.")
	}
	states, _ := m.s.States()
	for _, x := range states {
		if x.Name == fn {
			m.s.Hold(fn, !x.Held)
			if x.Held {
				return msg.Say("%s has its timeouts and idle stops again.", fn)
			}
			return msg.Say("%s is held: one instance, no timeouts, no idle stop. Attach the debugger; H releases it.",
				fn)
		}
	}
	return nil
}

// function names the function that the payload under the cursor goes to.
func (m *Model) function() string {
	i := m.item()
	if i == nil {
		return ""
	}
	p := m.s.Plan()
	if i.Source >= len(p.Sources) {
		return ""
	}
	for _, w := range p.Sources[i.Source].Wires {
		if i.Payload == nil || i.Payload.Request == nil || w.When.Matches(i.Payload.Request) {
			name := p.Functions[w.To].Name
			if v := m.variantOf(i); v != "" && p.FunctionNamed(name+"@"+v) >= 0 {
				name += "@" + v
			}
			return name
		}
	}
	return ""
}

// leave requests a field that is ignored in comparisons.
func (m *Model) leave() tea.Cmd {
	if m.shown == nil {
		return nil
	}
	first := ""
	for _, d := range m.page.differences {
		if strings.HasPrefix(d.At, "/") {
			first = d.At
			break
		}
	}
	key := m.shown.Item.Key()
	title := "field to ignore: a JSON Pointer, * for any one member (empty to compare everything again)"
	return ask(title, first, func(content string) tea.Cmd {
		content = strings.TrimSpace(content)
		if content == "" {
			delete(m.leaveOut, key)
		} else if _, err := jsondiff.Parse(content); err != nil {
			return msg.Complain("%v", err)
		} else {
			m.leaveOut[key] = append(m.leaveOut[key], content)
		}
		return m.read()
	})
}

// edited is what comes back from the editor.
type edited struct {
	err  error
	path string
	item *catalog.Item
	was  []byte
	name string // under which it is kept, if it is new
}

// edit opens a copy of the payload in the user's editor.
func (m *Model) edit() tea.Cmd {
	i := m.item()
	if i == nil {
		return m.blank()
	}
	if i.File != "" {
		return m.editor(i, i.Name, i.Content())
	}
	name := m.s.FreeName(i.SourceName, fmt.Sprintf("%s-%d", i.Set, i.N))
	return ask("name for the edited copy, for "+i.SourceName+" as", name, func(name string) tea.Cmd {
		return m.editor(i, strings.TrimSpace(name), i.Content())
	})
}

// editor runs the editor on a copy of a text.
func (m *Model) editor(i *catalog.Item, name string, content []byte) tea.Cmd {
	suffix := ".json"
	if i.HTTP {
		suffix = ".http"
	}
	copied := func() (path string, err error) {
		file, err := os.CreateTemp("", "nightdrill-*"+suffix)
		if err == nil {
			_, err = file.Write(content)
			if e := file.Close(); err == nil {
				err = e
			}
		}
		if err != nil {
			if file != nil {
				os.Remove(file.Name())
			}
			return "", failed("Cannot create a copy for the editor: %v", err)
		}
		return file.Name(), nil
	}
	return work(copied, func(path string) tea.Cmd {
		c, err := editorCommand(path)
		if err != nil {
			os.Remove(path)
			return msg.Complain("%v", err)
		}
		back := edited{path: path, item: i, was: content, name: name}
		return tea.Exec(editing{c}, func(err error) tea.Msg {
			back.err = err
			return back
		})
	})
}

// takeBack takes back what the editor made.
func (m *Model) takeBack(e edited) tea.Cmd {
	return work(func() (key string, err error) {
		content, err := os.ReadFile(e.path)
		os.Remove(e.path)
		switch {
		case e.err != nil:
			return "", failed("The editor failed (%v); nothing was changed.", e.err)
		case err != nil:
			return "", failed("Cannot read what was edited: %v", err)
		case slices.Equal(content, e.was):
			return "", nil
		case e.item.File != "" && e.name == e.item.Name:
			return e.item.Key(), m.s.Rewrite(e.item, content)
		}
		return m.s.Save(e.item.SourceName, e.name, content)
	}, func(key string) tea.Cmd {
		if key == "" {
			return msg.Say("Nothing was changed.")
		}
		return m.choose(key)
	})
}

// choose takes the cursor to an item, and says what is wrong with it.
func (m *Model) choose(key string) tea.Cmd {
	m.filter, m.chosen, m.sent = "", key, sentPage{}
	m.panes.Scroll[onSent] = 0
	m.list()
	if i := m.item(); i != nil && i.Wrong != "" {
		return msg.Complain("%s is saved, but cannot be sent yet: %s. e edits it again.", i.Title(), i.Wrong)
	}
	return nil
}

// source returns the source that something new is for.
func (m *Model) source() (name string, http bool) {
	if i := m.item(); i != nil {
		return i.SourceName, i.HTTP
	}
	if p := m.s.Plan(); len(p.Sources) > 0 {
		return p.Sources[0].Name, p.Sources[0].Kind == 0
	}
	return "", false
}

func (m *Model) blank() tea.Cmd {
	name, _ := m.source()
	if name == "" {
		return msg.Complain("The project has no sources yet.")
	}
	return ask("source and name of the new payload", name+" "+m.s.FreeName(name, "new"), func(content string) tea.Cmd {
		source, name, _ := strings.Cut(strings.TrimSpace(content), " ")
		p := m.s.Plan()
		at := p.SourceNamed(source)
		if at < 0 {
			return msg.Complain("Unknown source %q.", source)
		}
		http := p.Sources[at].Kind == 0
		return work(func() (string, error) {
			return m.s.Save(source, strings.TrimSpace(name), payload.Blank(http))
		}, func(key string) tea.Cmd {
			m.choose(key)
			return m.edit()
		})
	})
}

func (m *Model) duplicate() tea.Cmd {
	i := m.item()
	if i == nil {
		return nil
	}
	like := i.Name
	if like == "" {
		like = fmt.Sprintf("%s-%d", i.Set, i.N)
	}
	return ask("name for the copy", m.s.FreeName(i.SourceName, like), func(name string) tea.Cmd {
		name = strings.TrimSpace(name)
		var without error
		return work(func() (key string, err error) {
			if key, err = m.s.Save(i.SourceName, name, i.Content()); err == nil {
				without = m.s.KeepExpectation(i, name)
			}
			return key, err
		}, func(key string) tea.Cmd {
			if without != nil {
				return tea.Batch(m.choose(key), msg.Complain("The copy is saved without its expectations: %v", without))
			}
			return m.choose(key)
		})
	})
}

func (m *Model) rename() tea.Cmd {
	i := m.item()
	if i == nil || i.File == "" {
		return msg.Complain("Only saved payloads can be renamed; d duplicates this one.")
	}
	return ask("new name", i.Name, func(name string) tea.Cmd {
		return work(func() (string, error) { return m.s.Rename(i, strings.TrimSpace(name)) }, m.choose)
	})
}

// undo brings the payload back that was deleted last.
func (m *Model) undo() tea.Cmd {
	n := len(m.deleted)
	if n == 0 {
		return msg.Complain("Nothing was deleted since the program was opened.")
	}
	i := m.deleted[n-1]
	return work(func() (string, error) { return m.s.Save(i.SourceName, i.Name, i.Text) }, func(key string) tea.Cmd {
		m.deleted = m.deleted[:n-1]
		return tea.Batch(m.choose(key), msg.Say("%s is back.", i.Title()))
	})
}

func (m *Model) remove() tea.Cmd {
	i := m.item()
	if i == nil || i.File == "" {
		return msg.Complain("Only saved payloads can be deleted; this one is part of a recording.")
	}
	return func() tea.Msg {
		return msg.Ask{Title: fmt.Sprintf("Delete %s? y / any other key", i.Title()), YesNo: true,
			Done: func(string) tea.Cmd {
				return work(func() (string, error) { return i.Title(), m.s.Delete(i) }, func(title string) tea.Cmd {
					m.list()
					m.deleted = append(m.deleted, i)
					return msg.Say("%s deleted; u brings it back.", title)
				})
			}}
	}
}

// copy copies what has the keys: the payload, as a curl command where it is a request, the reply, or
// the log lines.
func (m *Model) copy() tea.Cmd {
	put := msg.Copy
	v := &m.page.v
	switch t := v.Last(); {
	case m.panes.Focus == onReply && t != nil && t.Reply != nil && t.Reply.Status != 0:
		body, _ := t.Reply.Plain()
		return put("the reply", string(body))
	case m.panes.Focus == onLog && t != nil:
		var lines []string
		for _, l := range m.s.Lines(*v, t, 1000) {
			lines = append(lines, l.Text)
		}
		return put("the log lines", strings.Join(lines, "\n"))
	}
	i := m.item()
	if i == nil {
		return msg.Complain("No payload is chosen.")
	}
	if i.HTTP && m.s.Front != nil && m.panes.Focus == onList {
		return m.curl()
	}
	return put("the payload", string(i.Content()))
}

func (m *Model) curl() tea.Cmd {
	i := m.item()
	if i == nil || !i.HTTP {
		return msg.Complain("Only HTTP requests can be copied as a curl command.")
	}
	if m.s.Front == nil {
		return msg.Complain("The front is closed, so there is no address to send it to.")
	}
	p, err := m.s.Preview(i)
	if err != nil {
		return msg.Complain("%v", err)
	}
	base := "http://" + m.variantAddress(i)
	return tea.Batch(tea.SetClipboard(payload.Curl(base, p.Request)),
		msg.Say("Copied: %s", payload.Curl(base, payload.Shown(p.Request))))
}

// variantAddress returns where the front takes a request for the variant that is chosen, or for the function itself.
func (m *Model) variantAddress(i *catalog.Item) string {
	if address := m.s.VariantAddress(m.function()); m.variantOf(i) != "" && address != "" {
		return address
	}
	return m.s.Front.At()
}

// keep makes a payload of the reply.
func (m *Model) keep() tea.Cmd {
	if t := m.page.v.Last(); t == nil || t.Reply == nil || t.Reply.Status == 0 {
		return msg.Complain("No reply to save.")
	}
	v := m.page.v
	p := m.s.Plan()
	other := ""
	for i := range p.Sources {
		if p.From[i] == i && p.Sources[i].Name != v.Item.SourceName && len(p.Sources[i].Wires) > 0 {
			other = p.Sources[i].Name
			break
		}
	}
	if other == "" {
		other = v.Item.SourceName
	}
	name := m.s.FreeName(other, "reply-of-"+v.Item.SourceName)
	return ask("source and name for the reply", other+" "+name, func(content string) tea.Cmd {
		source, name, _ := strings.Cut(strings.TrimSpace(content), " ")
		at := p.SourceNamed(source)
		if at < 0 {
			return msg.Complain("Unknown source %q.", source)
		}
		return work(func() (string, error) {
			kept, err := session.Keep(&v, &p.Sources[at])
			if err == nil {
				_, err = m.s.Save(source, strings.TrimSpace(name), kept)
			}
			return strings.TrimSpace(name), err
		}, func(name string) tea.Cmd {
			m.list()
			return msg.Say("The reply is saved for %s as %s.", source, name)
		})
	})
}

// save writes the reply to a file, and opens it if that is wanted.
func (m *Model) save(open bool) tea.Cmd {
	t := m.page.v.Last()
	if t == nil || t.Reply == nil || t.Reply.Status == 0 {
		return msg.Complain("No reply to save.")
	}
	body, _ := t.Reply.Plain()
	if int64(len(t.Reply.Body)) < t.Reply.Size {
		return msg.Complain("Only the first %d of %d bytes of this reply are kept; fire it again to save it.",
			len(t.Reply.Body), t.Reply.Size)
	}
	name := fmt.Sprintf("%s-%d%s", m.page.v.Item.SourceName, m.page.v.N, suffixOf(t.Reply.Header.Get("Content-Type")))
	return ask("file to save the reply to", name, func(name string) tea.Cmd {
		path := strings.TrimSpace(name)
		if !filepath.IsAbs(path) {
			path = filepath.Join(m.s.Plan().Dir, path)
		}
		return work(func() (said string, err error) {
			file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
			if err == nil {
				_, err = file.Write(body)
				if e := file.Close(); err == nil {
					err = e
				}
			}
			if err != nil {
				return "", failed("The reply was not saved: %v", err)
			}
			if !open {
				return "", nil
			}
			if err := openFile(path); err != nil {
				return "", failed("Saved to %s, but not opened: %v", path, err)
			}
			return " and opened", nil
		}, func(and string) tea.Cmd { return msg.Say("Saved to %s%s.", path, and) })
	})
}

// Help returns the keys that work now, in the order of their use.
func (m *Model) Help() []key.Binding {
	switch {
	case m.over != nil:
		return m.over.help()
	case m.typing != nil:
		done := pane.Bind("done", "enter")
		none := pane.Bind("no filter", "esc")
		return []key.Binding{done, none}
	case m.shown != nil && !m.page.v.Over || m.series != nil && !m.series.Over():
		return []key.Binding{Keys.Stop, Keys.Fire, Keys.Logs}
	}
	short := pane.Short
	return []key.Binding{Keys.Fire, short(Keys.Cold, "cold"), short(Keys.Times, "n times"), Keys.Again,
		short(Keys.Edit, "edit"), short(Keys.Filter, "filter"),
		short(Keys.Left, "panes"), short(Keys.Earlier, "earlier"), Keys.Logs, short(Keys.Keep, "save reply")}
}

// Keys returns all keys of what has the focus, for the help.
func (m *Model) Keys() []key.Binding {
	if m.over != nil {
		return m.over.help()
	}
	return []key.Binding{Keys.Fire, Keys.Cold, Keys.Times, Keys.Async, Keys.Variant, Keys.Again, Keys.Check, Keys.Stop,
		Keys.Filter,
		Keys.Up, Keys.Left, Keys.Before, Keys.Earlier, Keys.Form, Keys.Resend, Keys.Logs, Keys.Start,
		Keys.Env, Keys.Hold, Keys.Record, Keys.Map,
		Keys.Edit,
		Keys.Blank, Keys.Copy, Keys.Rename, Keys.Delete, Keys.Undo, Keys.Curl, Keys.Keep, Keys.Save, Keys.Open,
		Keys.LeaveOut}
}

// Title returns where the front is.
func (m *Model) Title() (canvas.Style, string) {
	content := "the front is closed"
	if m.s.Front != nil {
		content = "front http://" + m.s.Front.Address
		if m.w < 120 {
			content = "front " + strings.TrimPrefix(m.s.Front.Address, "127.0.0.1")
		}
	}
	if name, n := m.s.RecordingNow(); name != "" {
		return canvas.Bad, fmt.Sprintf("● recording %s, %d · %s", name, n, content)
	}
	if m.s.Again() {
		return canvas.Warm, "re-fire on save · " + content
	}
	return canvas.Dim, content
}

// age is a time of day to be shown.
func age(t time.Time) string { return t.Format("15:04:05") }
