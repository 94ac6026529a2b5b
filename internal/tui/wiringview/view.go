// Package wiringview is the map of what reaches which function: sources on the
// left, functions on the right, wires between them with what goes over them. An
// event put on it shows its way, stop by stop, and where it stopped and why.
package wiringview

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/core/draw"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/text"
	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/session/catalog"
	"nightdrill.dev/internal/session/explain"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/msg"
	"nightdrill.dev/internal/tui/pane"
)

// Keys are the keys of the view.
var Keys = struct {
	Up, Down, Left, Right, Put, Next, Fire, Again, Clock, Count, Upload, Publish, Letters, Upstream, Remove, Export,
	Filter,
	Copy, Close key.Binding
}{
	Up:       key.NewBinding(key.WithKeys("up"), key.WithHelp("↑↓←→", "choose")),
	Down:     key.NewBinding(key.WithKeys("down")),
	Left:     key.NewBinding(key.WithKeys("left")),
	Right:    key.NewBinding(key.WithKeys("right")),
	Put:      pane.Bind("put an event on the map", "enter"),
	Next:     pane.Bind("its next stop", "space"),
	Fire:     pane.Bind("fire it", "f"),
	Again:    pane.Bind("offer unmatched ones again", "o"),
	Clock:    pane.Bind("run or pause schedules", "s"),
	Count:    pane.Bind("counts: last run, or now", "r"),
	Upload:   pane.Bind("upload a file", "u"),
	Publish:  pane.Bind("publish a file of events", "p"),
	Letters:  pane.Bind("send failed events of a queue again", "d"),
	Upstream: pane.Bind("record, replay or slow down an upstream", "m"),
	Remove:   pane.Bind("remove an object", "D"),
	Export:   pane.Bind("export as SVG or PDF", "x"),
	Copy:     pane.Bind("copy what is said of it", "y"),
	Filter:   pane.Bind("filter the events", "/"),
	Close:    pane.Bind("take it off", "esc"),
}

// Export asks the shell to write the map to a file.
type Export struct{ Path string }

// Model is the state of the view.
type Model struct {
	s        *session.Session
	plan     *plan.Expanded
	w, h     int
	traffic  *explain.Traffic
	states   func(fn int) (canvas.Style, []string) // of each function, in words, the longest first
	right    bool                                  // the cursor is among the functions
	at       [2]int                                // its place among sources and among functions
	top      int                                   // rows scrolled
	drill    *plan.Drill                           // in progress
	elapsed  time.Duration                         // of it
	live     *record.Run                           // of the drill in progress
	run      *record.Run                           // the last one that was seen whole
	ofRun    *explain.Traffic                      // what went over the wires in it, while that is shown
	now      time.Time
	counted  time.Time // when the traffic was counted
	journey  []explain.Stop
	stop     int
	item     *catalog.Item   // that is on the map, where it can be fired
	firing   *session.Firing // whose way is shown
	settled  *session.Firing // the one whose way is known to its end
	choices  []choice        // events of a source, while one is chosen
	chosen   int
	events   []choice // all of them; choices are those that have what is wanted
	want     string
	choosing bool
	trend    trend
	short    struct { // names that were made short
		width int
		plan  *plan.Expanded
		names [2][]string
	}
}

// choice is an event that can be put on the map.
type choice struct {
	label, what string
	item        *catalog.Item
	firing      *session.Firing
	event       int64 // of the run, from 1
	bad         bool  // no wire takes it
}

// New returns the view of a session; states says how a function stands, the longest
// words first.
func New(s *session.Session, states func(fn int) (canvas.Style, []string)) *Model {
	m := &Model{s: s, states: states, now: time.Now()}
	m.Refresh()
	return m
}

// NeedsRun reports whether the last run would be of use and is not known yet.
func (m *Model) NeedsRun() bool { return m.run == nil && m.drill == nil }

// Run takes the last run in.
func (m *Model) Run(r *record.Run) {
	m.run = r
	if m.ofRun != nil {
		m.ofRun = explain.RunTraffic(m.plan, r)
	}
}

// Resize sets the view's size in cells.
func (m *Model) Resize(w, h int) tea.Cmd {
	m.w, m.h = w, h
	return nil
}

// countEvery is the least time between two counts of the traffic.
const countEvery = 90 * time.Millisecond

// Refresh takes in what has changed in the session.
func (m *Model) Refresh() tea.Cmd {
	p := m.s.Plan()
	if m.ofRun != nil && p != m.plan { // the project was read again
		m.ofRun = explain.RunTraffic(p, m.run)
	}
	m.plan, m.now = p, time.Now()
	switch {
	case m.drill == nil && m.ofRun != nil:
		m.traffic = m.ofRun
	case m.drill == nil && m.now.Sub(m.counted) >= countEvery:
		m.traffic, m.counted = m.s.Traffic(), m.now
	}
	for side, n := range []int{m.sources(), m.functions()} {
		m.at[side] = max(min(m.at[side], n-1), 0)
	}
	if m.firing != nil && m.firing != m.settled {
		select {
		case <-m.firing.Whole():
			m.settled = m.firing // nothing of it changes any more
		default:
		}
		v := m.s.Look(m.firing)
		at := m.stop == len(m.journey)-1
		if m.journey = m.journeyOf(&v); at {
			m.stop = len(m.journey) - 1
		}
		m.stop = max(min(m.stop, len(m.journey)-1), 0)
	}
	return nil
}

// Drill takes in how the drill in progress stands.
func (m *Model) Drill(d *plan.Drill, t *explain.Traffic, r *record.Run) {
	m.drill, m.live, m.traffic, m.elapsed = d, r, t, time.Duration(t.Clock)
}

// Over takes in that no drill is in progress. What went over the wires in one that
// has just ended stays on the map. A nil run has nothing to do with it.
func (m *Model) Over(r *record.Run) {
	if r != nil {
		if m.drill != nil {
			m.ofRun = &explain.Traffic{}
		}
		m.Run(r)
	}
	m.drill, m.live, m.counted = nil, nil, time.Time{}
	m.Refresh()
}

func (m *Model) journeyOf(v *session.Shown) []explain.Stop {
	if v.Refused != nil {
		return []explain.Stop{{Source: v.Item.SourceName, Text: v.Refused.Text, Bad: true}}
	}
	return explain.Journey(m.s.Trace(v))
}

// sources and functions are the project's own; what stands for variants comes
// after them.
func (m *Model) sources() (n int) {
	for i := range m.plan.Sources {
		if m.plan.From[i] == i {
			n++
		}
	}
	return n
}

func (m *Model) functions() (n int) {
	for i := range m.plan.Functions {
		if m.plan.Of[i] == i {
			n++
		}
	}
	return n
}

// source returns the source under the cursor, or the first that leads to the
// function under it; -1 for none.
func (m *Model) source() int {
	if !m.right {
		if m.sources() == 0 {
			return -1
		}
		return m.at[0]
	}
	for i := range m.sources() {
		if slices.ContainsFunc(m.plan.Sources[i].Wires, func(w plan.Wire) bool { return w.To == m.at[1] }) {
			return i
		}
	}
	return -1
}

// Choose puts an item on the map.
func (m *Model) Choose(i *catalog.Item) {
	m.Refresh()
	at := m.plan.SourceNamed(i.SourceName)
	if at < 0 {
		return
	}
	m.choosing, m.right, m.at[0], m.item, m.firing, m.stop = false, false, at, i, nil, 0
	p, err := m.s.Preview(i)
	if err != nil {
		m.journey = []explain.Stop{{Source: i.SourceName, Text: i.Title() + " cannot be read: " + err.Error(),
			Bad: true}}
		return
	}
	m.journey = explain.Would(&m.plan.Project, at, catalog.AsObject(&m.plan.Sources[at], p))
}

// Key handles a key.
func (m *Model) Key(k tea.KeyPressMsg) tea.Cmd {
	if m.choosing {
		return m.chooseKey(k)
	}
	side := 0
	n := m.sources()
	if m.right {
		side, n = 1, m.functions()
	}
	switch {
	case m.journey != nil && (key.Matches(k, Keys.Next) || key.Matches(k, Keys.Right)):
		m.stop = min(m.stop+1, len(m.journey)-1)
	case m.journey != nil && key.Matches(k, Keys.Left):
		m.stop = max(m.stop-1, 0)
	case key.Matches(k, Keys.Close):
		m.journey, m.item, m.firing = nil, nil, nil
	case key.Matches(k, Keys.Up):
		m.at[side] = max(m.at[side]-1, 0)
	case key.Matches(k, Keys.Down):
		m.at[side] = max(min(m.at[side]+1, n-1), 0)
	case key.Matches(k, Keys.Left), key.Matches(k, Keys.Right):
		m.right = key.Matches(k, Keys.Right)
	case key.Matches(k, Keys.Put):
		m.offer()
		if len(m.choices) == 0 {
			return note("no payloads for this source; press 1 for payloads", true)
		}
	case key.Matches(k, Keys.Fire):
		return m.fire()
	case key.Matches(k, Keys.Again) && m.ofRun != nil:
		s, run := m.s, m.run
		return func() tea.Msg {
			missed, taken, err := s.OfferRunAgain(run)
			return Offered{missed, taken, err}
		}
	case key.Matches(k, Keys.Again):
		switch missed, taken := m.s.OfferAgain(); {
		case missed == 0:
			return note("no unmatched events", false)
		default:
			return note(fmt.Sprintf("%d unmatched, %d of them are taken now", missed, taken), taken == 0)
		}
	case key.Matches(k, Keys.Clock):
		m.s.SetTicking(!m.s.Ticking())
		if m.s.Ticking() {
			return note("schedules fire automatically while the program is open", false)
		}
		return note("schedules are paused; fire their runs by hand", false)
	case key.Matches(k, Keys.Count) && m.drill == nil:
		switch {
		case m.ofRun != nil:
			m.ofRun, m.counted = nil, time.Time{}
		case m.run == nil:
			return note("no runs yet; press 4 for drills", false)
		default:
			m.ofRun = explain.RunTraffic(m.plan, m.run)
		}
		m.Refresh()
	case key.Matches(k, Keys.Copy):
		title, lines := m.about()
		return msg.Copy(title, strings.Join(append([]string{title}, lines...), "\n"))
	case key.Matches(k, Keys.Upload):
		return m.upload()
	case key.Matches(k, Keys.Publish):
		return m.publish()
	case key.Matches(k, Keys.Letters):
		at := m.source()
		if at < 0 || !m.plan.Sources[at].Kind.Published() {
			return note("put the cursor on a queue or a stream first", true)
		}
		name := m.plan.Sources[at].Name
		switch n, err := m.s.SendAgain(name); {
		case err != nil:
			return note(err.Error(), true)
		case n == 0:
			return note("no failed events of "+name+" that were not sent again", false)
		default:
			return note(text.Plural(n, "failed event")+" of "+name+" sent again", false)
		}
	case key.Matches(k, Keys.Upstream):
		return m.askUpstream()
	case key.Matches(k, Keys.Remove):
		return note("press enter at a storage source, choose an object of its bucket, then x", true)
	case key.Matches(k, Keys.Export):
		return func() tea.Msg {
			return msg.Ask{Title: "file to write the map to", Text: "wiring.svg", Done: func(path string) tea.Cmd {
				return func() tea.Msg { return Export{path} }
			}}
		}
	}
	return nil
}

func note(content string, bad bool) tea.Cmd {
	return func() tea.Msg { return msg.Note{Text: content, Bad: bad} }
}

// askUpstream asks for a setting of an upstream: one of those of the function under the cursor.
func (m *Model) askUpstream() tea.Cmd {
	all := m.s.Neighbours()
	if len(all) == 0 {
		return note("the project has no upstreams: services that its functions call, in the project file's "+
			"upstreams:", true)
	}
	at := 0
	if m.right {
		if own := m.plan.Functions[m.at[1]].Upstreams; len(own) > 0 && own[0] < len(all) {
			at = own[0]
		}
	}
	next := map[plan.Mode]string{plan.Pass: "record", plan.Record: "replay", plan.Replay: "pass"}[all[at].Mode]
	s := m.s
	return func() tea.Msg {
		return msg.Ask{Title: "Upstream: NAME=pass, record or replay, or NAME.SETTING=VALUE",
			Text: all[at].Name + "=" + next, Done: func(change string) tea.Cmd {
				return func() tea.Msg {
					said, err := s.SetUpstreams(strings.Fields(change))
					if err != nil {
						return msg.Failed(err)
					}
					return msg.Note{Text: said}
				}
			}}
	}
}

// fire fires what is on the map and follows it.
func (m *Model) fire() tea.Cmd {
	if m.item == nil {
		return note("put an event on the map first: enter", true)
	}
	m.firing, m.ofRun = m.s.Fire(session.Order{Item: m.item}), nil
	m.stop, m.journey = 0, []explain.Stop{{Source: m.item.SourceName, Text: "fired"}}
	m.Refresh()
	m.stop = max(len(m.journey)-1, 0)
	return nil
}

// Offered is the result of offering a run's unmatched events again.
type Offered struct {
	Missed, Taken int
	Err           error // why one could not be offered
}

// Took takes what came of an upload or of an offer; ok is false for messages of others.
func (m *Model) Took(result tea.Msg) (cmd tea.Cmd, ok bool) {
	switch r := result.(type) {
	case Offered:
		return m.offered(r), true
	case uploaded:
		return m.uploaded(r), true
	case published:
		if r.err != nil {
			return note(r.err.Error(), true), true
		}
		return note(fmt.Sprintf("published to %s: %d", r.source, r.events), false), true
	}
	return nil, false
}

// offered shows those that are taken now.
func (m *Model) offered(o Offered) tea.Cmd {
	switch {
	case o.Missed == 0:
		return note("the run had no unmatched events", false)
	case o.Taken == 0 && o.Err != nil:
		return note(o.Err.Error(), true)
	case o.Taken > 0:
		m.ofRun, m.counted = nil, time.Time{}
		m.Refresh()
	}
	return note(fmt.Sprintf("the run had %d unmatched, %d of them are taken now", o.Missed, o.Taken), o.Taken == 0)
}

// uploaded is the result of an upload.
type uploaded struct {
	Item *catalog.Item
	Err  error
}

// storage returns the storage source under the cursor, or nil.
func (m *Model) storage() *plan.Source {
	if at := m.source(); at >= 0 && m.plan.Sources[at].Kind == plan.Storage {
		return &m.plan.Sources[at]
	}
	return nil
}

// upload requests a file and for its key, and puts it into the bucket of the source under the
// cursor.
func (m *Model) upload() tea.Cmd {
	src, s := m.storage(), m.s
	if src == nil {
		return note("put the cursor on a storage source first", true)
	}
	ask := func(title, content string, done func(string) tea.Cmd) tea.Cmd {
		return func() tea.Msg { return msg.Ask{Title: title, Text: content, Done: done} }
	}
	return ask("file to upload to "+src.Name, "", func(path string) tea.Cmd {
		if path == "" {
			return note("missing file name", true)
		}
		return ask("object key", catalog.UsualKey(src, path), func(key string) tea.Cmd {
			return func() tea.Msg {
				i, err := s.Upload(src.Name, path, key)
				return uploaded{i, err}
			}
		})
	})
}

// published is the outcome of publishing a file's events.
type published struct {
	source string
	events int
	err    error
}

// publish asks for a file of events, and publishes them to the queue or stream under the cursor.
func (m *Model) publish() tea.Cmd {
	at, s := m.source(), m.s
	if at < 0 || !m.plan.Sources[at].Kind.Published() {
		return note("put the cursor on a queue or a stream first", true)
	}
	name := m.plan.Sources[at].Name
	return func() tea.Msg {
		return msg.Ask{Title: "file of events to publish to " + name, Done: func(path string) tea.Cmd {
			if path == "" {
				return note("missing file name", true)
			}
			return func() tea.Msg {
				n, err := s.PublishFile(name, path)
				return published{name, n, err}
			}
		}}
	}
}

// uploaded fires the event of a file that is in its bucket, and follows it.
func (m *Model) uploaded(u uploaded) tea.Cmd {
	if u.Err != nil {
		return note(u.Err.Error(), true)
	}
	if at := m.plan.SourceNamed(u.Item.SourceName); at >= 0 {
		m.choosing, m.right, m.at[0] = false, false, at
	}
	m.item = u.Item
	return m.fire()
}

// remove removes the object that is chosen from its bucket.
func (m *Model) remove() tea.Cmd {
	i := m.choices[m.chosen].item
	if i == nil || !i.InBucket() {
		return note("only objects in the bucket can be removed", true)
	}
	m.choosing = false
	s := m.s
	return func() tea.Msg {
		return msg.Ask{Title: fmt.Sprintf("Remove %s from its bucket? y / any other key", i.Label), YesNo: true,
			Done: func(string) tea.Cmd {
				return func() tea.Msg {
					if err := s.RemoveObject(i); err != nil {
						return msg.Failed(err)
					}
					return msg.Note{Text: i.Label + " removed; event sent"}
				}
			}}
	}
}

// blob returns the bytes that a run kept under a number; nil for what is not there.
func (m *Model) blob(r *record.Run, n int32) []byte {
	switch {
	case n <= 0:
		return nil
	case int(n) <= len(r.Blobs):
		return r.Blobs[n-1]
	}
	data, _ := m.s.Runs.Blob(r.ID, n) // what is not there is not shown
	return data
}

// Follow puts an event of a run on the map.
func (m *Model) Follow(r *record.Run, event int64) {
	m.Refresh()
	m.choosing, m.item, m.firing, m.stop = false, nil, nil, 0
	m.journey = explain.Journey(explain.RunSteps(&m.plan.Project, r, event,
		func(n int32) []byte { return m.blob(r, n) }))
	source := r.Sources[r.Arrivals[event].Source].Name
	if len(m.journey) == 0 {
		m.journey = []explain.Stop{{Source: source, Text: "arrives at " + source + ", and is in progress: its " +
			"outcome is not known yet"}}
	}
	if at := m.plan.SourceNamed(source); at >= 0 {
		m.right, m.at[0] = false, at
	}
}

// mostChoices bounds the events that are offered, mostLast the plain ones of a run
// among them: any other is found in its lanes.
const (
	mostChoices = 200
	mostLast    = 50
)

// offer lists the events that can be put on the map: those of the source under
// the cursor that were unmatched, its payloads, and the notable ones of the run.
func (m *Model) offer() {
	at := m.source()
	m.choices, m.chosen = nil, 0
	if at < 0 {
		return
	}
	name := m.plan.Sources[at].Name
	recent := m.s.Recent(100)
	for _, v := range slices.Backward(recent) {
		from := m.plan.SourceNamed(v.Item.SourceName)
		dead := from >= 0 && m.plan.Sources[from].DeadLetter == at && v.Outcome() == engine.DeadLettered
		if (v.Item.SourceName == name || dead) && v.Trace != nil {
			what := fmt.Sprintf("fired %s, %v", v.At.Format("15:04:05"), v.Origin)
			if dead {
				what = "dead-lettered " + v.At.Format("15:04:05") + ", " + v.DeadLetter()
			}
			m.choices = append(m.choices, choice{label: v.Item.Label, what: what, firing: v.Firing, item: v.Item,
				bad: v.Trace.Routes == 0})
		}
	}
	for _, i := range m.s.List() {
		if i.SourceName != name || len(m.choices) >= mostChoices {
			continue
		}
		x := choice{label: i.Label, what: i.Title(), item: i}
		if p := i.Payload; p != nil {
			if p.Event != nil && p.Event.Subject != "" && p.Event.Subject != i.Label {
				x.label += "  " + p.Event.Subject
			}
			x.bad = m.plan.Routes(at, catalog.AsObject(&m.plan.Sources[at], p)) == 0
		}
		m.choices = append(m.choices, x)
	}
	if m.run != nil {
		for _, x := range explain.NotableEvents(m.run) {
			from := m.plan.SourceNamed(x.Source)
			if x.Source == name || x.Dead && from >= 0 && m.plan.Sources[from].DeadLetter == at {
				what := "last run: " + x.What
				if x.Dead {
					what += explain.Beginning(m.blob(m.run, x.Reply))
				}
				m.choices = append(m.choices, choice{label: x.Label, what: what, event: x.Event + 1})
			}
		}
		for _, e := range explain.LatestEnded(m.run, mostLast,
			func(e *explain.Delivered) bool { return e.Source == name }) {
			m.choices = append(m.choices, choice{label: e.Label, what: fmt.Sprintf("last run, %s: %s", e.At, e.Word()),
				event: e.Event + 1})
		}
	}
	m.choosing, m.events, m.want = len(m.choices) > 0, m.choices, ""
}

func (m *Model) chooseKey(k tea.KeyPressMsg) tea.Cmd {
	page := max(m.h-6, 1)
	switch {
	case key.Matches(k, Keys.Close) && m.want != "":
		m.filter("")
	case key.Matches(k, Keys.Close):
		m.choosing = false
	case key.Matches(k, Keys.Filter):
		before := m.want
		return func() tea.Msg {
			return msg.Ask{Title: "Only events with this text:", Text: before, Done: func(want string) tea.Cmd {
				m.filter(strings.TrimSpace(want))
				return nil
			}}
		}
	case len(m.choices) == 0:
	case key.Matches(k, Keys.Remove):
		return m.remove()
	case key.Matches(k, Keys.Up):
		m.chosen = max(m.chosen-1, 0)
	case key.Matches(k, Keys.Down):
		m.chosen = min(m.chosen+1, len(m.choices)-1)
	case k.String() == "pgup":
		m.chosen = max(m.chosen-page, 0)
	case k.String() == "pgdown":
		m.chosen = min(m.chosen+page, len(m.choices)-1)
	case key.Matches(k, Keys.Put):
		c := m.choices[m.chosen]
		m.choosing = false
		switch {
		case c.event > 0:
			m.Follow(m.run, c.event-1)
		case c.firing != nil:
			m.item, m.firing, m.settled, m.stop, m.journey = c.item, c.firing, nil, 0, nil
			m.Refresh()
			m.stop = 0
		default:
			m.Choose(c.item)
		}
	}
	return nil
}

// filter leaves those events in the list that have a text.
func (m *Model) filter(want string) {
	m.want, m.chosen, m.choices = want, 0, nil
	for _, x := range m.events {
		if strings.Contains(strings.ToLower(x.label+" "+x.what), strings.ToLower(want)) {
			m.choices = append(m.choices, x)
		}
	}
}

// Map returns what is drawn.
func (m *Model) Map() *draw.Wiring {
	w := explain.Map(m.plan, m.traffic)
	switch {
	case m.drill != nil:
		w.Title += fmt.Sprintf(", %.1f s into %s", m.elapsed.Seconds(), m.drill.Name)
	case m.ofRun != nil:
		w.Title += ", in a run of " + m.run.Drill
	}
	return w
}

// Help returns the keys that work now.
func (m *Model) Help() []key.Binding {
	switch {
	case m.choosing:
		out := []key.Binding{Keys.Put, Keys.Up, Keys.Filter, Keys.Close}
		if len(m.choices) == 0 {
			return out[2:]
		}
		if i := m.choices[m.chosen].item; i != nil && i.InBucket() {
			out = append(out, Keys.Remove)
		}
		return out
	case m.journey != nil:
		out := []key.Binding{Keys.Next}
		if m.item != nil && m.drill == nil {
			out = append(out, Keys.Fire)
		}
		return append(out, Keys.Close, Keys.Again, Keys.Export)
	}
	out := []key.Binding{Keys.Put, Keys.Up, Keys.Again}
	if m.storage() != nil {
		out = append(out, Keys.Upload)
	}
	if at := m.source(); at >= 0 && m.plan.Sources[at].Kind.Published() {
		out = append(out, Keys.Publish, Keys.Letters)
	}
	if m.run != nil && m.drill == nil {
		out = append(out, Keys.Count)
	}
	if slices.ContainsFunc(m.plan.Sources, func(s plan.Source) bool { return s.Kind == plan.Schedule }) {
		out = append(out, Keys.Clock)
	}
	return append(out, Keys.Export)
}

// Keys returns all keys of the view, for the help.
func (m *Model) Keys() []key.Binding {
	return []key.Binding{Keys.Up, Keys.Put, Keys.Next, Keys.Fire, Keys.Close, Keys.Again, Keys.Clock, Keys.Count,
		Keys.Upload, Keys.Publish, Keys.Letters, Keys.Remove, Keys.Filter, Keys.Copy, Keys.Export}
}

// Title describes what the map shows.
func (m *Model) Title() (canvas.Style, string) {
	if m.drill != nil {
		return canvas.Warm, fmt.Sprintf("%s, %.1f s", m.drill.Name, m.elapsed.Seconds())
	}
	if m.ofRun != nil {
		return canvas.Warm, "counts of the last run, " + m.run.Drill
	}
	if m.s.Objects.Address() != "" {
		return canvas.Dim, "objects at http://" + m.s.Objects.Address()
	}
	return canvas.Dim, "the session"
}
