package startview

import (
	"errors"
	"net/http"
	"path/filepath"
	"testing"
	"time"

	"nightdrill.dev/internal/core/anatomy"
	"nightdrill.dev/internal/tui/viewtest"
)

const ms1 = time.Millisecond

// reported is a report as a look into a start would give it.
func reported(sleep time.Duration) *anatomy.Report {
	steps := []anatomy.Step{
		{To: 40 * ms1, Run: 40 * ms1},
		{From: 40 * ms1, To: 40*ms1 + sleep, Way: anatomy.InSleep, Call: 1},
		{From: 40*ms1 + sleep, To: 70*ms1 + sleep, Way: anatomy.InNetwork, On: "127.0.0.1:5432", Call: 2},
	}
	total := 70*ms1 + sleep
	r := &anatomy.Report{Function: "teller", Version: "v1", Language: "Python", ClockTook: total, TreeTook: total,
		Tasks: []anatomy.Task{{ID: 1, Process: 1, Name: "python3", Steps: steps}},
		Imports: []anatomy.Import{{Name: "asyncio", Parent: -1, Total: 30 * ms1, Own: 5 * ms1, N: 1},
			{Name: "asyncio.events", Parent: 0, Total: 25 * ms1, Own: 25 * ms1, N: 1},
			{Name: "json", Parent: -1, Total: 4 * ms1, Own: 4 * ms1, N: 1}},
		ImportedBy:  map[string]string{"asyncio": "f.py:3"},
		Unavailable: []string{"what it opens: \x1b[2J not permitted"}}
	for i := range 6 {
		r.Untraced = append(r.Untraced, total+time.Duration(i)*ms1/10)
	}
	r.Clock = anatomy.Of(r.Tasks, 1, total)
	return r
}

func open(t *testing.T, w, h int) (*Model, *viewtest.Screen, string) {
	s, dir := viewtest.Project(t, http.NotFound, map[string]string{"nightdrill.yaml": `nightdrill: 1
functions:
  teller: {start: [sleep, "60"], variants: {other: {env: {A: b}}}}
  elsewhere: {transport: attach, url: "http://127.0.0.1:9"}
sources:
  web: {kind: http, wires: [{to: teller}]}
`})
	m := New(s)
	x := &viewtest.Screen{T: t, View: m}
	x.Do(m.Resize(w, h))
	return m, x, dir
}

// The answer stands first; then the shares, the lanes and the tree, which is walked and filtered. A second look says
// what has changed.
func TestAStartTakenApart(t *testing.T) {
	for _, size := range [][2]int{{80, 20}, {100, 26}, {160, 43}} {
		m, x, dir := open(t, size[0], size[1])
		x.Shows("What is the first slow second of teller spent on?", "enter starts it")
		x.Press("f")
		x.Shows("teller@other")
		x.Press("f")
		x.Shows("of teller spent", "!elsewhere")
		take := func(r *anatomy.Report, err error) {
			m.number++
			x.Take(doneMsg{m.number, r, err})
		}
		take(reported(100*ms1), nil)
		x.Shows(
			"170 ms from exec to ready",
			"It sleeps 100 ms before it is ready",
			"30 ms waited for 127.0.0.1:5432",
			"sleeping 100 ms, 59 %",
			"not seen: what it opens",
			"the start",
			"asyncio   whole 30.0 ms",
			"imported by f.py:3",
		)
		x.Press("down")
		x.Shows("asyncio.events   whole 25.0 ms")
		x.Press("up", "right")
		x.Shows("json   whole 4.00 ms")
		x.Press("/")
		x.Answer("events")
		x.Shows("with “events”", "asyncio.events   whole")
		x.Press("esc")
		x.Shows("!with “events”")
		take(reported(10*ms1), nil)
		x.Shows("A start took 170 ms before, and takes 80.3 ms now: 0.47 × as", "sleeping 100.0 → 10.0 ms",
			"80.2 ms from exec")
		x.Press("x")
		x.Answer(filepath.Join(dir, "out"))
		if files, err := filepath.Glob(filepath.Join(dir, "out", "teller-start*")); err != nil || len(files) != 5 {
			t.Errorf("%v, %v; %s", files, err, x.Note)
		}
		take(nil, errors.New("teller does not start: it exited with code 3"))
		x.Shows("it exited with code 3")
	}
}
