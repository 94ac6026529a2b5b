package drillview

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/rng"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/msg"
	"nightdrill.dev/internal/tui/viewtest"
)

func at(ms int) clock.Time { return clock.Time(ms) * clock.Time(time.Millisecond) }

// sample is a run with an instance that crashed, one that never started, one
// that is busy, and an event whose label would like to command the terminal.
func sample(lanes int) *record.Run {
	r := &record.Run{ID: "x", Drill: "d", Length: at(5000), Finished: true,
		Functions: []record.Function{{Name: "a-function-with-a-long-name", Max: 3, PerInstance: 1}},
		Sources:   []record.Source{{Name: "fares", To: []int{0}}},
		Payloads:  []record.Payload{{Set: "set", N: 1, Label: "GET /\x1b[2J\x1b]0;owned\a船", Blob: 1}},
		Blobs:     [][]byte{[]byte("GET /\x1b[2J\nx: 1\n\nbody\x07")},
		Levels:    []record.Level{{At: at(100), Waiting: 4}, {At: at(900)}}}
	for i := range lanes {
		in := record.Instance{ID: int32(i), Number: int32(i + 1), Spawned: at(100 * i), Ready: at(100*i + 50), PID: 7}
		switch i % 4 {
		case 1:
			in.Stopped, in.Reason, in.Exit = at(100*i+700), engine.Crashed, "exited with code 7"
		case 2:
			in.Ready, in.Stopped, in.Reason = 0, at(100*i+300), engine.NeverReady
		}
		r.Instances = append(r.Instances, in)
		if in.Ready == 0 {
			continue
		}
		for k := range 5 {
			id := uint64(len(r.Invocations) + 1)
			begin := in.Ready + at(100*k)
			r.Arrivals = append(r.Arrivals, record.Arrival{Due: begin, Arrived: begin, From: -1})
			r.Invocations = append(r.Invocations, record.Invocation{ID: id, Instance: int32(i), Assigned: begin,
				Sent: begin, Received: begin + at(20), Done: begin + at(30), Status: 200 + int32(k/4*300), Batch: 1,
				Class: engine.Class(k % 3)})
			r.Attempts = append(r.Attempts, record.Attempt{Event: int64(id - 1), Invocation: id, N: 1})
			r.Deliveries = append(r.Deliveries, record.Delivery{Event: int64(id - 1), Invocation: id, Attempts: 1,
				Outcome: engine.Outcome(k / 4)})
		}
	}
	return r
}

var theme = canvas.NewTheme(true)

func shown(m *Model) string { return ansi.Strip(m.Draw(theme).String()) }

func press(m *Model, keys ...string) {
	for _, k := range keys {
		m.Key(viewtest.Key(k))
	}
}

func TestALaneSaysWhyItEnded(t *testing.T) {
	m := New(&plan.Project{}, nil)
	m.Resize(140, 40)
	r := sample(4)
	r.Marks = []plan.Mark{{Text: "calm"}, {At: time.Duration(r.Length) / 2, Text: "rush hour at the quay"},
		{At: time.Duration(r.Length) * 6 / 10, Text: "x"}, {At: 2 * time.Duration(r.Length), Text: "never"}}
	m.Show(r)
	pane := shown(m)
	for _, want := range []string{"┤ crashed", "┤ never ready", "◆", "✗", "invocations ─", "··           5", "peak 4",
		"a-fun…g-name-1", "0 s", "╷calm──", "╷rush hour…╷x"} {
		if !strings.Contains(pane, want) {
			t.Errorf("the view does not show %q:\n%s", want, pane)
		}
	}
}

// Whatever an event holds, nothing of it commands the terminal.
func TestBytesAreShownHarmless(t *testing.T) {
	m := New(&plan.Project{}, nil)
	m.Resize(120, 45)
	m.Show(sample(1))
	press(m, "down", "left", "enter")
	raw := m.Draw(theme).String()
	if strings.Contains(raw, "\x1b[2J") || strings.Contains(raw, "\x1b]0") || strings.Contains(raw, "\a") {
		t.Errorf("a control sequence of the event is in the view: %q", raw)
	}
	for _, want := range []string{"GET /·[2J", "body·", "reply status", "attempt 1: ok"} {
		if !strings.Contains(ansi.Strip(raw), want) {
			t.Errorf("the details do not show %q:\n%s", want, ansi.Strip(raw))
		}
	}
}

// keeps stands for what a run keeps: no bytes, and a log.
type keeps []record.Line

func (keeps) Blob(string, int32) ([]byte, error) { return nil, fmt.Errorf("gone") }

func (k keeps) Lines(string) ([]record.Line, error) { return k, nil }

// logOf returns a log with a line of each kind, and one for each invocation.
func logOf(r *record.Run) (out keeps) {
	for i := range r.Instances {
		name := fmt.Sprintf("%s-%d", r.Functions[0].Name, r.Instances[i].Number)
		out = append(out, record.Line{At: r.Instances[i].Spawned, Instance: name, Kind: record.InstanceStarted,
			Text: "started as process 12"})
	}
	for i := range r.Invocations {
		v := &r.Invocations[i]
		out = append(out, record.Line{At: v.Assigned + 1, Instance: fmt.Sprintf("%s-%d", r.Functions[0].Name,
			r.Instances[v.Instance].Number), Text: fmt.Sprintf("request %d\x1b[2J", v.ID)})
	}
	return out
}

// The log of a kept run is read when it is opened; the lane that is chosen selects its lines, the
// invocation marks its own, and a search keeps those with its text.
func TestTheLogOfARun(t *testing.T) {
	r := sample(1)
	m := New(&plan.Project{}, logOf(r))
	m.Resize(120, 40)
	m.Show(r)
	cmd := m.Key(viewtest.Key("l"))
	if pane := shown(m); !strings.Contains(pane, "Reading the log") {
		t.Errorf("what is done is not shown:\n%s", pane)
	}
	m.Took(cmd())
	if pane := shown(m); !strings.Contains(pane, "Logs of all instances") ||
		!strings.Contains(pane, "◆ started as process 12") || strings.Contains(pane, "\x1b[2J") {
		t.Errorf("the log:\n%s", pane)
	}
	press(m, "down", "left")
	pane, v := shown(m), m.under()
	if want := fmt.Sprintf("request %d", v.ID); !strings.Contains(pane, "Logs of "+m.instanceName()) ||
		strings.Count(pane, "▌") == 0 || !regexp.MustCompile("▌.*"+want).MatchString(pane) {
		t.Errorf("the lines of the invocation are not marked:\n%s", pane)
	}
	for keys, want := range map[string]string{"": "Copied: the log", "l": "Copied: the invocation"} {
		press(m, strings.Fields(keys)...)
		said := ""
		for _, cmd := range m.Key(viewtest.Key("y"))().(tea.BatchMsg) {
			if n, ok := cmd().(msg.Note); ok {
				said = n.Text
			}
		}
		if !strings.HasPrefix(said, want) {
			t.Errorf("y says %q, want %q", said, want)
		}
		press(m, strings.Fields(keys)...)
	}
	before := m.dockRows()
	press(m, ">", ">")
	if m.dockRows() <= before {
		t.Errorf("%d rows after it was made larger, %d before", m.dockRows(), before)
	}
	ask, _ := m.Key(viewtest.Key("/"))().(msg.Ask)
	ask.Done("no such text")
	if pane := shown(m); !strings.Contains(pane, "No line has this text") {
		t.Errorf("a search without result:\n%s", pane)
	}
}

// Any keys in any order at any size: no crash, no row too wide, and the view
// never has more rows than it was given.
func TestKeysAndSizesNeverBreakIt(t *testing.T) {
	keys := []string{"down", "up", "left", "right", "enter", "esc", "pgdown", "+", "-", ",", ".", "0", "s", "x", "l",
		"<",
		">"}
	for seed := range uint64(60) {
		r := rng.New(seed, 3)
		run := sample(r.Below(60))
		m := New(&plan.Project{}, logOf(run))
		m.Resize(80+r.Below(120), 20+r.Below(40))
		m.Show(run)
		for range 60 {
			k := keys[r.Below(len(keys))]
			if cmd := m.Key(viewtest.Key(k)); k == "l" && cmd != nil {
				m.Took(cmd())
			}
			if r.Chance(1, 10) {
				m.Resize(80+r.Below(120), 20+r.Below(40))
			}
			if m.closed { // choosing a drill where there is none
				press(m, "esc")
			}
			rows := strings.Split(shown(m), "\n")
			if len(rows) > m.h {
				t.Fatalf("seed %d, %q: %d rows of %d", seed, k, len(rows), m.h)
			}
			for _, row := range rows {
				if w := ansi.StringWidth(row); w > m.w {
					t.Fatalf("seed %d, %q: a row of %d cells in %d", seed, k, w, m.w)
				}
			}
			if w := m.window(); w.From < 0 || w.To > run.Length || w.To <= w.From {
				t.Fatalf("seed %d, %q: the window is %v to %v of %v", seed, k, w.From, w.To, run.Length)
			}
		}
	}
}

func TestRoundSteps(t *testing.T) {
	for d, want := range map[time.Duration]time.Duration{
		0: 100 * time.Microsecond, 130 * time.Microsecond: 200 * time.Microsecond,
		3 * time.Millisecond: 5 * time.Millisecond,
		time.Second:          time.Second, 7 * time.Second: 10 * time.Second, time.Hour: 5000 * time.Second,
	} {
		if got := roundStep(d); got != want {
			t.Errorf("a step for %v is %v, want %v", d, got, want)
		}
	}
}
