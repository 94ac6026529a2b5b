// Package setsview is the view of the payload sets: what is in them and how it is spread, one payload in full with
// its errors, and what a schema makes with another seed or in another mode.
package setsview

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/core/infer"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/template"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/msg"
	"nightdrill.dev/internal/tui/pane"
)

// Fire requests the Fire view, with an item chosen.
type Fire struct{ Key string }

// Keys are the keys of the view.
var Keys = struct {
	Up, Down, Left, Right, PageUp, PageDown, Before, After, Filter, Go, Fire, Map, Keep, Copy, Gets, Shape, Reseed,
	Mode, Record, Back key.Binding
}{
	Up:       pane.Keys.Up,
	Down:     pane.Keys.Down,
	Left:     pane.Keys.Left,
	Right:    pane.Keys.Right,
	PageUp:   pane.Keys.PageUp,
	PageDown: pane.Keys.PageDown,
	Before:   key.NewBinding(key.WithKeys(","), key.WithHelp(", .", "previous, next payload")),
	After:    key.NewBinding(key.WithKeys(".")),
	Filter:   pane.Bind("filter the sets", "/"),
	Go:       pane.Bind("go to payload n", "n"),
	Fire:     pane.Bind("open in Fire", "enter"),
	Map:      pane.Bind("trace on the map", "g"),
	Keep:     pane.Bind("save as…", "k"),
	Copy:     pane.Bind("copy the payload", "y"),
	Gets:     pane.Bind("what the function receives", "f"),
	Shape:    pane.Bind("shape from an example…", "x"),
	Reseed:   pane.Bind("generate with another seed", "s"),
	Mode:     pane.Bind("valid, edges, broken", "m"),
	Record:   pane.Bind("record from a broker", "R"),
	Back:     pane.Bind("reset to project value", "esc"),
}

const (
	onSets = iota
	onPayload
	onFields
	panes
)

// looked is how many payloads of a set are looked into for what occurs in them.
const looked = 5000

// about is what was found out about a set.
type about struct {
	set      *payload.Set
	overview payload.Overview
	fields   []infer.Field
	learned  int // payloads that were looked into
	wrong    int // of those, payloads that do not fit the schema
	answers  []answerRow
}

// answerRow is a line on how the payloads were answered.
type answerRow struct {
	style canvas.Style
	text  string
}

// Model is the state of the view.
type Model struct {
	s    *session.Session
	plan *plan.Expanded
	w, h int
	at   int // the set under the cursor
	n    int // the payload of it, from 0

	known   map[*payload.Set]*about
	looking *payload.Set // of which something is being found out
	panes   pane.Set
	drawn   pane.List
	filter  string // what a set must have in its name or source to be listed
	seed    uint64 // of previews; with mode, where made is set
	mode    string
	made    *payload.Payload // instead of the project's own; nil for that
	breaks  string
	busy    bool // something is being made
	trouble string
	gets    bool     // show what the function gets beside it
	learned *learned // a shape that was learned, in place of the payload; nil for none
	page    page
	// what the page is of
	pageOf   any
	pageWide int
}

// learned is a shape that was learned from an example.
type learned struct {
	file, source string
	*template.Learned
	trouble string // why it is not written
}

type (
	knownMsg struct{ about *about }
	madeMsg  struct {
		set    *payload.Set
		n      int
		seed   uint64
		mode   string
		p      payload.Payload
		breaks string
		err    error
	}
)

// New returns the view of a session.
func New(s *session.Session) *Model {
	return &Model{s: s, panes: pane.New(panes), plan: s.Plan(), known: map[*payload.Set]*about{}}
}

// Resize sets the view's size in cells.
func (m *Model) Resize(w, h int) tea.Cmd {
	m.w, m.h = w, h
	m.pageOf = nil
	return m.Refresh()
}

// Refresh takes in what has changed in the session, and returns the command that finds
// out what is to be shown.
func (m *Model) Refresh() tea.Cmd {
	if p := m.s.Plan(); p != m.plan {
		name := ""
		if set := m.set(); set != nil {
			name = set.Name
		}
		m.plan, m.known = p, map[*payload.Set]*about{}
		m.reset()
		m.at = max(slices.IndexFunc(p.Sets, func(s payload.Set) bool { return s.Name == name }), 0)
	}
	return m.look()
}

// Ran notes that a drill has ended, so that sets may have been answered otherwise.
func (m *Model) Ran() { m.known = map[*payload.Set]*about{} }

func (m *Model) set() *payload.Set {
	if m.at < 0 || m.at >= len(m.plan.Sets) {
		return nil
	}
	return &m.plan.Sets[m.at]
}

// look finds out about the set under the cursor, once.
func (m *Model) look() tea.Cmd {
	set := m.set()
	if set == nil || m.known[set] != nil || m.looking != nil {
		return nil
	}
	m.looking = set
	columns, session := arrivalColumns, m.s
	return func() tea.Msg {
		a := &about{set: set, overview: set.Overview(columns)}
		var l infer.Learner
		for i := range set.Payloads[:min(len(set.Payloads), looked)] {
			if p := &set.Payloads[i]; p.Request != nil {
				l.AddRequest(p.Request)
			} else if len(p.Data()) > 0 {
				_ = l.Add(p.Data()) // what is not JSON is not learned from
			}
			// what was made was checked then
			if set.Fits != nil && set.Maker == nil && len(faults(set, &set.Payloads[i])) > 0 {
				a.wrong++
			}
		}
		a.fields, a.learned = l.Fields(), l.N()
		a.answers = answersOf(session, set)
		return knownMsg{a}
	}
}

// answersOf describes how the payloads of a set were answered, and which values go with which answer.
func answersOf(s *session.Session, set *payload.Set) (out []answerRow) {
	add := func(style canvas.Style, format string, args ...any) {
		out = append(out, answerRow{style, text.Harmless(fmt.Sprintf(format, args...))})
	}
	answers, run, ok := s.Answered(set)
	if !ok {
		add(canvas.Dim, "No run has sent this set yet; after a drill, which values go with which answer is shown here.")
		return out
	}
	labels, counts := answers.Counts()
	var parts []string
	for i, l := range labels {
		if i == 4 {
			parts = append(parts, fmt.Sprintf("%d others", len(labels)-i))
			break
		}
		parts = append(parts, fmt.Sprintf("%s × %d", l, counts[l]))
	}
	add(canvas.Bold, "How they were answered in %s", run.Label(time.Now()))
	add(canvas.Plain, "%s", strings.Join(parts, ", "))
	rules := answers.Rules()
	for _, r := range rules {
		add(canvas.Warm, "%s %s: %s in %d of %d, elsewhere in %d of %d", strings.TrimPrefix(r.At, "/"), r.Is, r.Label,
			r.With, r.OfWith, r.Without, r.OfWithout)
	}
	if len(labels) > 1 && len(rules) == 0 {
		add(canvas.Dim, "No single field goes with the answer, beyond chance.")
	}
	return out
}

// Took takes what was found out; ok is false for a message that is not its own.
func (m *Model) Took(msg tea.Msg) (cmd tea.Cmd, ok bool) {
	switch msg := msg.(type) {
	case knownMsg:
		m.looking = nil
		m.known[msg.about.set] = msg.about
		return m.look(), true
	case madeMsg:
		m.busy = false
		// something else is wanted meanwhile
		if msg.set != m.set() || msg.n != m.n || msg.seed != m.seed || msg.mode != m.mode {
			return m.make(), true
		}
		if msg.err != nil {
			m.trouble = msg.err.Error()
			return nil, true
		}
		m.trouble, m.made, m.breaks, m.pageOf = "", &msg.p, msg.breaks, nil
		return nil, true
	}
	return nil, false
}

// reset restores the settings of the project file.
func (m *Model) reset() {
	m.n, m.made, m.breaks, m.trouble, m.seed, m.mode, m.pageOf = 0, nil, "", "", 0, "", nil
	m.panes.Scroll[onPayload], m.panes.Scroll[onFields] = 0, 0
}

// make makes the payload under the cursor with the seed and mode that were chosen.
func (m *Model) make() tea.Cmd {
	set := m.set()
	if set == nil || set.Maker == nil || m.mode == "" || m.busy {
		return nil
	}
	m.busy = true
	n, seed, mode := m.n, m.seed, m.mode
	return func() tea.Msg {
		p, breaks, err := set.Maker.Make(mode, seed, uint64(n))
		return madeMsg{set, n, seed, mode, p, breaks, err}
	}
}

// payload returns what is shown.
func (m *Model) payload() *payload.Payload {
	set := m.set()
	switch {
	case set == nil:
		return nil
	case m.mode != "":
		return m.made
	case m.n < len(set.Payloads):
		return &set.Payloads[m.n]
	}
	return nil
}

// Click chooses the set that is pointed at, or the pane.
func (m *Model) Click(x, y int) tea.Cmd {
	switch {
	case m.drawn.Contains(x, y):
		m.panes.Focus = onSets
		if at, ok := m.drawn.At(x, y); ok {
			return m.choose(m.listed()[at])
		}
	case !m.drawn.Left(x):
		m.panes.Focus = onPayload
	}
	return nil
}

// Key handles a key.
func (m *Model) Key(k tea.KeyPressMsg) tea.Cmd {
	if cmd, ok := m.panes.Key(k, m.move); ok {
		return cmd
	}
	is := func(b key.Binding) bool { return key.Matches(k, b) }
	switch {
	case is(Keys.Before):
		return m.step(-1)
	case is(Keys.After):
		return m.step(1)
	case is(Keys.Go):
		return m.askNumber()
	case is(Keys.Filter):
		return m.askFilter()
	case is(Keys.Shape):
		return m.askExample()
	case is(Keys.Back) && m.learned != nil:
		m.learned = nil
	case is(Keys.Back) && m.filter != "" && m.mode == "":
		m.filter = ""
	case is(Keys.Back):
		m.reset()
	case is(Keys.Reseed):
		return m.other(func(maker *payload.Maker) { m.seed++ })
	case is(Keys.Mode):
		return m.other(func(maker *payload.Maker) {
			m.mode = payload.Modes[(slices.Index(payload.Modes, m.mode)+1)%len(payload.Modes)]
		})
	case is(Keys.Gets):
		m.gets, m.pageOf = !m.gets, nil
	case is(Keys.Fire):
		return m.fire(false)
	case is(Keys.Map):
		return m.fire(true)
	case is(Keys.Keep):
		return m.keep()
	case is(Keys.Record):
		return m.record()
	case is(Keys.Copy):
		if p := m.payload(); p != nil {
			return msg.Copy("the payload", string(p.Text()))
		}
	}
	return nil
}

// record begins or ends a recording from a broker.
func (m *Model) record() tea.Cmd {
	if c, _ := m.s.CopyingNow(); c != nil {
		s := m.s
		return func() tea.Msg {
			said, err := s.StopCopying()
			if err != nil {
				return msg.Note{Text: err.Error(), Bad: true}
			}
			return msg.Note{Text: said + "."}
		}
	}
	suggested := "mqtt://127.0.0.1 topic=# as=recorded"
	if all := m.plan.Brokers; len(all) > 0 {
		suggested = all[0].Name + " " + map[string]string{"mqtt": "topic=#", "amqp": "exchange= key=#",
			"redis": "stream=",
			"nats":  "subject=>", "kafka": "topic="}[all[0].Kind()] + " as=" + all[0].Name
	}
	return func() tea.Msg {
		return msg.Ask{Title: "Record from: broker, place, as=NAME",
			Text: suggested, Done: func(content string) tea.Cmd {
				c, err := m.s.ParseCopy(content)
				if err == nil {
					err = m.s.CopyFrom(c)
				}
				if err != nil {
					return msg.Complain("%s", err)
				}
				return nil
			}}
	}
}

// drawCopying draws the recording that is being made over the end of the view, and returns its height.
func (m *Model) drawCopying(c *canvas.Canvas) {
	x, over := m.s.CopyingNow()
	if x == nil {
		return
	}
	h := min(len(x.Latest)+2, m.h)
	y := m.h - h
	c.Fill(0, y, m.w, h)
	c.Rule(y, "Recording "+x.Name+" from "+text.Harmless(x.From))
	switch words := text.Plural(x.Count, "message"); {
	case over:
		c.Put(2, y+1, canvas.Bad, words+"; it has ended: R shows how")
	case !x.Ready:
		c.Put(2, y+1, canvas.Dim, "connecting   R ends it")
	default:
		c.Put(2, y+1, canvas.Good, words+"   R ends it")
	}
	for i, line := range x.Latest {
		c.PutUpTo(2, y+2+i, m.w-1, canvas.Plain, line)
	}
}

// other changes how the set under the cursor is made, for a look.
func (m *Model) other(change func(*payload.Maker)) tea.Cmd {
	set := m.set()
	if set == nil || set.Maker == nil {
		return msg.Complain("This set was recorded; only generated sets can be generated differently.")
	}
	if m.mode == "" {
		m.mode, m.seed = set.Maker.Mode, set.Maker.Seed
	}
	change(set.Maker)
	return m.make()
}

// listed returns the places of the sets that have what the filter wants in their name or source.
func (m *Model) listed() (out []int) {
	want := strings.ToLower(m.filter)
	for i := range m.plan.Sets {
		set := &m.plan.Sets[i]
		source, _ := m.source(set)
		if want == "" || strings.Contains(strings.ToLower(set.Name+" "+source), want) {
			out = append(out, i)
		}
	}
	return out
}

// move chooses another set of those that are listed.
func (m *Model) move(by int) tea.Cmd {
	listed := m.listed()
	if len(listed) == 0 {
		return nil
	}
	return m.choose(listed[min(max(slices.Index(listed, m.at)+by, 0), len(listed)-1)])
}

func (m *Model) choose(at int) tea.Cmd {
	if at != m.at {
		m.at, m.learned = at, nil
		m.reset()
	}
	return m.look()
}

func (m *Model) askFilter() tea.Cmd {
	before := m.filter
	return func() tea.Msg {
		return msg.Ask{Title: "Only sets with this in name or source:", Text: before, Done: func(want string) tea.Cmd {
			m.filter = strings.TrimSpace(want)
			if listed := m.listed(); len(listed) > 0 && !slices.Contains(listed, m.at) {
				return m.choose(listed[0])
			}
			return nil
		}}
	}
}

// step goes to another payload of the set.
func (m *Model) step(by int) tea.Cmd { return m.goTo(m.n + by) }

func (m *Model) goTo(n int) tea.Cmd {
	set := m.set()
	if set == nil {
		return nil
	}
	m.learned = nil
	if n = min(max(n, 0), len(set.Payloads)-1); n != m.n {
		m.n, m.pageOf, m.panes.Scroll[onPayload] = n, nil, 0
	}
	return m.make()
}

func (m *Model) askNumber() tea.Cmd {
	set := m.set()
	if set == nil {
		return nil
	}
	return func() tea.Msg {
		return msg.Ask{Title: fmt.Sprintf("which payload, 1 to %d", len(set.Payloads)),
			Done: func(content string) tea.Cmd {
				n, err := strconv.Atoi(content)
				if err != nil || n < 1 || n > len(set.Payloads) {
					return msg.Complain("%s has payloads 1 to %d, not %q.", set.Name, len(set.Payloads), content)
				}
				return m.goTo(n - 1)
			}}
	}
}

// source returns a source that the set can be sent to.
func (m *Model) source(set *payload.Set) (string, bool) {
	for _, d := range m.plan.Drills {
		for _, f := range d.Feeds {
			if f.Set >= 0 && &m.plan.Sets[f.Set] == set {
				return m.plan.Sources[f.Source].Name, true
			}
		}
	}
	for i := range m.plan.Sources {
		if s := &m.plan.Sources[i]; len(s.Wires) > 0 && len(set.Payloads) > 0 &&
			(s.Kind == plan.HTTP) == (set.Payloads[0].Request != nil) {
			return s.Name, true
		}
	}
	return "", false
}

// fire sends the payload that is shown to Fire, or to the map.
func (m *Model) fire(onMap bool) tea.Cmd {
	set, p := m.set(), m.payload()
	if set == nil || p == nil {
		return msg.Complain("Nothing to send.")
	}
	source, ok := m.source(set)
	if !ok {
		return msg.Complain("No source takes the payloads of %s; add one to the project.", set.Name)
	}
	item := m.s.Offer(source, set, m.n, p, m.mode != "")
	if onMap {
		return func() tea.Msg { return msg.Map{Item: m.s.Find(item)} }
	}
	return func() tea.Msg { return Fire{item} }
}

// keep saves the payload that is shown under a name.
func (m *Model) keep() tea.Cmd {
	set, p := m.set(), m.payload()
	if set == nil || p == nil {
		return msg.Complain("Nothing to save.")
	}
	source, ok := m.source(set)
	if !ok {
		return msg.Complain("No source takes the payloads of %s, so they cannot be saved for one.", set.Name)
	}
	like := fmt.Sprintf("%s-%d", set.Name, m.n+1)
	if m.mode != "" {
		like += "-" + m.mode
	}
	return func() tea.Msg {
		return msg.Ask{Title: "save for " + source + " as", Text: m.s.FreeName(source, like),
			Done: func(name string) tea.Cmd {
				key, err := m.s.Save(source, name, p.Text())
				if err != nil {
					return msg.Complain("%v", err)
				}
				return msg.Say("Saved as %s; Fire lists it.", key)
			}}
	}
}

// askExample learns a shape from an example of what the function's platform sends it, and writes it where that is
// wanted.
func (m *Model) askExample() tea.Cmd {
	set := m.set()
	if set == nil {
		return msg.Complain("Choose a payload set first: its source is what the shape is for.")
	}
	source, ok := m.source(set)
	if !ok {
		return msg.Complain("No source takes the payloads of %s, so a shape for them has no use.", set.Name)
	}
	return func() tea.Msg {
		return msg.Ask{Title: "example of what the function is to get from " + source + ", a JSON file:",
			Done: func(file string) tea.Cmd { return m.learnFrom(strings.TrimSpace(file), source) }}
	}
}

func (m *Model) learnFrom(file, source string) tea.Cmd {
	if file == "" {
		return nil
	}
	x, err := m.s.ShapeLike(file, source)
	if x == nil {
		return msg.Complain("%s: %v", file, err)
	}
	m.learned, m.panes.Scroll[onPayload] = &learned{file: file, source: source, Learned: x}, 0
	if err != nil {
		m.learned.trouble = err.Error()
		return msg.Complain("%s: %v", file, err)
	}
	return func() tea.Msg {
		return msg.Ask{Title: "write the template to", Text: m.s.FreeFile("shape", ".tmpl"),
			Done: func(to string) tea.Cmd {
				if to = strings.TrimSpace(to); to == "" {
					return nil
				}
				if err := m.s.WriteShape(to, x); err != nil {
					return msg.Complain("%v", err)
				}
				return msg.Say("Written; a handler uses it with takes: shaped, shape: {template: %s}.", to)
			}}
	}
}

// Keys returns all keys of the view, for the help.
func (m *Model) Keys() []key.Binding {
	return []key.Binding{Keys.Up, Keys.Left, Keys.Filter, Keys.Before, Keys.Go, Keys.Fire, Keys.Map, Keys.Gets,
		Keys.Shape, Keys.Keep, Keys.Copy, Keys.Reseed, Keys.Mode, Keys.Record, Keys.Back}
}

// Title returns what the view shows, for the top line.
func (m *Model) Title() (canvas.Style, string) {
	n := 0
	for i := range m.plan.Sets {
		n += len(m.plan.Sets[i].Payloads)
	}
	return canvas.Dim, fmt.Sprintf("%s in %s", text.Plural(n, "payload"), text.Plural(len(m.plan.Sets), "set"))
}

// Help returns the keys that work now.
func (m *Model) Help() []key.Binding {
	list := []key.Binding{Keys.Up, Keys.Left, Keys.Before, Keys.Fire, Keys.Map, Keys.Gets, Keys.Keep, Keys.Record}
	if set := m.set(); set != nil && set.Maker != nil {
		list = append(list, Keys.Reseed, Keys.Mode)
		if m.mode != "" {
			list = append(list, Keys.Back)
		}
	}
	if m.learned != nil {
		list = append(list, Keys.Back)
	}
	return list
}
