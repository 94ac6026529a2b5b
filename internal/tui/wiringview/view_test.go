package wiringview

import (
	"io"
	"net/http"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/session/catalog"
	"nightdrill.dev/internal/session/explain"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/viewtest"
)

const quay = `nightdrill: 1
project: quay
functions:
  load: {transport: attach, url: "{url}", then: [{to: scans}]}
  gate: {transport: attach, url: "{url}"}
sources:
  cargo: {kind: storage, wires: [{to: load, when: {key: "in/*.csv"}}]}
  scans: {kind: queue, dead_letter: refused, wires: [{to: gate}]}
  refused: {kind: queue}
  fixes: {kind: stream, key: /vessel, wires: [{to: gate}]}
  nightly: {kind: schedule, cron: "30 1 * * *", zone: Europe/Lisbon, wires: [{to: gate}]}
  fares: {kind: http, wires: [{to: gate, when: {method: GET, path: "/fare/{to}"}}]}
payloads:
  loads: {recording: loads.ndjson}
  passes: {recording: loads.ndjson}
  others: {recording: loads.ndjson, reaches: [fixes]}
drills:
  d: {feeds: [{source: cargo, payloads: loads, arrive: once}, {source: scans, payloads: passes, arrive: once}]}
`

type screen struct {
	*Model
	*viewtest.Screen
	dir   string
	stand *session.Session
}

func open(t testing.TB, yaml string, w, h int) *screen {
	t.Helper()
	s, dir := viewtest.Project(t, func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		if strings.Contains(string(body), "refuse") {
			w.WriteHeader(422)
		}
		_, _ = io.WriteString(w, `{"pass":"BF-1"}`)
	}, map[string]string{
		"nightdrill.yaml": yaml,
		"loads.ndjson": `{"specversion":"1.0","id":"1","source":"s","type":"load","subject":"in/a.csv",` +
			`"datacontenttype":"text/csv","data":"crate"}
{"specversion":"1.0","id":"2","source":"s","type":"load","subject":"in/b.CSV","datacontenttype":"text/csv",` +
			`"data":"crate\u001b[2J"}
{"specversion":"1.0","id":"3","source":"s","type":"load","subject":"in/c.csv","datacontenttype":"text/csv",` +
			`"data":"refuse"}
`,
	})
	m := New(s, func(int) (canvas.Style, []string) {
		return canvas.Cold, []string{"no instance, next: cold", "next: cold"}
	})
	m.Resize(w, h)
	return &screen{Model: m, Screen: &viewtest.Screen{T: t, View: m}, dir: dir, stand: s}
}

// The map names every source with its figures, every function, what the wires
// take, and where replies and dead letters go on to.
func TestTheMap(t *testing.T) {
	x := open(t, quay, 150, 43)
	x.Shows("cargo  storage", "notified immediately", "key in/*.csv", "▸  load",
		"╰─ sent on ─▸ scans ─▸ gate", "depth 0, 0 in flight", "╰─ dead letters ─▸ refused", "0 messages, no consumer",
		"lag 0 ····", "next ", "paused", "GET /fare/{to}", "next: cold",
		"curl -T FILE http://"+x.stand.Objects.Address()+"/cargo/KEY")
	x.Press("right", "down")
	x.Shows("from scans, wire 1: 0 done", "max 10")
	x.Press("left", "s")
	if !x.stand.Ticking() || !strings.Contains(x.Note, "fire automatically") {
		t.Errorf("schedules: %v, %q", x.stand.Ticking(), x.Note)
	}
	x.Refresh()
	x.Shows(", in ", "!paused")
	x.Press("x")
	if x.Asked == nil || x.Asked.Text != "wiring.svg" {
		t.Errorf("asked %+v", x.Asked)
	}
	for _, size := range [][2]int{{100, 26}, {80, 20}, {200, 60}} {
		x.Resize(size[0], size[1])
		x.Shows("cargo", "fares", "gate")
	}
	empty := open(t, "nightdrill: 1\nfunctions: {f: {transport: attach, url: \"{url}\"}}\n", 100, 26)
	empty.Shows("no sources yet", "Add one under sources:")
	empty.Press("enter", "right", "down", "f", "o", "space", "w")
}

// An event goes its way stop by stop: before it is sent as far as its wires, sent
// as far as it comes, and one that no wire takes stops with the reason. With the
// project fixed it is offered again.
func TestTheWayOfAnEvent(t *testing.T) {
	x := open(t, quay, 150, 43)
	x.Press("enter")
	x.Shows("Put an event on the map, of cargo", "in/a.csv", "no wire takes it")
	x.Press("enter")
	x.Shows("Stop 1 of 3", "would arrive at cargo")
	x.Press("space")
	x.Shows("Stop 2 of 3", "met    key in/*.csv")
	x.Press("f")
	x.Until("gate: done")
	x.Press("space", "space", "space", "space", "space", "space")
	x.Until("1 done")
	x.Shows("Stop 6 of 6", "the reply goes on to scans", "1 done", "done, ")
	x.Press("esc")
	x.Shows("╰─ 1 sent on ─▸ scans ─▸ gate", "Latest events", "object.created in/a.csv", "→ load done in ")
	x.Press("down")
	x.Shows("load.replied in/a.csv", "→ gate done in ")
	x.Press("right", "down")
	x.Shows("── gate ─", "load.replied in/a.csv", "!object.created in/a.csv")
	x.Press("up", "left", "up", "enter", "enter", "f")
	x.Until("gate: done")
	x.Press("space", "space", "space", "space", "space")
	x.Press("left", "left", "left")
	x.Shows("Stop 3 of 6", "load: done, warm")
	x.Press("esc")
	x.Shows("!Stop ", "notified immediately")
	// a near miss
	x.Press("enter")
	for i, c := range x.choices {
		if strings.Contains(c.label, "in/b.CSV") {
			x.chosen = i
		}
	}
	x.Press("enter", "space")
	x.Shows("no wire of cargo takes it", "the key in/b.CSV ends in .CSV, the wire wants in/*.csv",
		"then press o to offer it again", "✗")
	x.Press("f")
	x.Until("1 unmatched")
	if x.Press("o"); x.Note != "1 unmatched, 0 of them are taken now" {
		t.Errorf("offered again: %q", x.Note)
	}
	file := filepath.Join(x.dir, "nightdrill.yaml")
	yaml, _ := os.ReadFile(file)
	if err := os.WriteFile(file, []byte(strings.Replace(string(yaml), "in/*.csv", "in/*", 1)), 0o644); err != nil {
		t.Fatal(err)
	}
	x.Press("esc")
	x.Until("takes key in/*, to load")
	if x.Press("o"); x.Note != "1 unmatched, 1 of them are taken now" {
		t.Errorf("offered again: %q", x.Note)
	}
	x.Until("1 in")
}

// A file goes into the bucket from the screen, with a key that the wire takes, and its
// event is followed; an object is removed, and that is an event too.
func TestFilesGoIntoTheBucket(t *testing.T) {
	x := open(t, quay, 150, 43)
	file := filepath.Join(x.dir, "heron.csv")
	if err := os.WriteFile(file, []byte("crate"), 0o644); err != nil {
		t.Fatal(err)
	}
	answer := func(content string) {
		t.Helper()
		if x.Asked == nil {
			t.Fatalf("nothing is asked; %q", x.Note)
		}
		done := x.Asked.Done
		x.Asked = nil
		x.Take(done(content)())
	}
	x.Press("down", "u")
	if x.Asked != nil || !strings.Contains(x.Note, "put the cursor on a storage source first") {
		t.Errorf("at a queue: %+v, %q", x.Asked, x.Note)
	}
	x.Press("up", "u")
	answer(filepath.Join(x.dir, "none.csv"))
	if x.Asked == nil || x.Asked.Text != "in/none.csv" {
		t.Fatalf("the key is asked for with %+v", x.Asked)
	}
	answer("in/none.csv")
	if !strings.Contains(x.Note, "cannot be read: no such file") {
		t.Errorf("a file that is not there: %q", x.Note)
	}
	x.Press("u")
	answer(file)
	answer("in/../heron.csv")
	if !strings.Contains(x.Note, "cannot be stored") {
		t.Errorf("a key with ..: %q", x.Note)
	}
	x.Press("u")
	answer(file)
	answer("in/heron.csv")
	x.Until("gate: done")
	x.Shows("created in/heron.csv")
	x.Press("esc", "enter")
	for i, c := range x.choices {
		if c.item != nil && c.item.InBucket() {
			x.chosen = i
		}
	}
	x.Press("D")
	answer("y")
	if x.Note != "in/heron.csv removed; event sent" {
		t.Errorf("removed: %q", x.Note)
	}
	x.Until("object.removed in/heron.csv")
}

// An event of the last run is followed too, with its attempts and what became of
// it; one from the payloads or from Fire comes with its key.
func TestEventsOfARun(t *testing.T) {
	x := open(t, quay, 150, 43)
	d := x.stand.DrillNamed("d")
	x.stand.Pause("a drill runs")
	r, err := x.stand.Start(t.Context(), d, nil)
	if err != nil {
		t.Fatal(err)
	}
	run := r.Snapshot()
	x.Drill(d, r.Traffic(run), run)
	x.Shows("not in this drill")
	<-r.Done()
	run = r.Snapshot()
	x.Drill(d, r.Traffic(run), run)
	x.Shows("3 in", "1 unmatched")
	x.stand.Resume()
	x.Over(run)
	// what went over the wires stays on the map, until something else is requested
	x.Shows("3 in", "1 unmatched", "2 sent on ─▸ scans ─▸ gate", "1 dead letter ─▸ refused",
		"!not in this drill")
	if _, title := x.Title(); title != "counts of the last run, d" {
		t.Errorf("the title is %q", title)
	}
	live := r.Traffic(run)
	if over := explain.RunTraffic(x.plan, run); !reflect.DeepEqual(live.SentOn, over.SentOn) ||
		live.Sources[0].Wires[0].Done != over.Sources[0].Wires[0].Done || over.Sources[0].Arrived != 3 {
		t.Errorf("while it runs %+v, afterwards %+v", live, over)
	}
	x.Press("r")
	x.Shows("!2 sent on", "!1 unmatched")
	x.Press("r")
	x.Shows("2 sent on ─▸ scans ─▸ gate", "in/b.CSV", "no wire takes it", "object.created in/c.csv", "received",
		"peak ", "not done", "1 in total")
	x.Press("right")
	x.Shows("invocations", "longest", "to ")
	x.Press("left")
	// what the run did not get rid of is offered to the wires of today
	if x.Press("o"); x.Note != "the run had 1 unmatched, 0 of them are taken now" {
		t.Errorf("offered again: %q", x.Note)
	}
	if m := x.Map(); m.Title != "quay: what reaches which function, in a run of d" || m.Wires[0].Counts != "2 done" ||
		m.Functions[0].Ways[0].Words() != "2 sent on" {
		t.Errorf("as a picture: %+v", m)
	}
	notable := explain.NotableEvents(run)
	if len(notable) == 0 || run.Deliveries[0].Outcome > engine.Outcomes {
		t.Fatal("nothing is notable in the run")
	}
	x.Press("enter")
	x.Shows("last run: no wire takes it", "last run: a chain", "last run, +0.0 s: done")
	x.Press("esc")
	x.Follow(run, 0) // of an invocation in the lanes
	x.Shows("Stop 1 of 6", "arrives at cargo")
	x.Press("esc")
	early := *run
	early.Deliveries = nil
	x.Follow(&early, 0)
	x.Shows("arrives at cargo, and is in progress: its outcome is not known yet")
	x.Press("esc", "enter")
	for i, c := range x.choices {
		if c.what == "last run: a chain" {
			x.chosen = i
		}
	}
	x.Press("enter", "space", "space")
	x.Shows("Stop 3 of 6", "load: done", "status 200")
	x.Press("esc", "down", "enter")
	for i, c := range x.choices {
		if strings.Contains(c.what, "dead-lettered") {
			if x.chosen = i; !strings.HasPrefix(c.what, "last run, +") &&
				!strings.Contains(c.what, "3 attempts, last: status ") {
				t.Errorf("a dead letter is listed as %q", c.what)
			}
		}
	}
	x.Press("enter", "space", "space")
	x.Shows("it took 3 attempts", "dead-lettered", "bad status")
	all := x.stand.List()
	fix := slices.IndexFunc(all, func(i *catalog.Item) bool { return i.SourceName == "fixes" })
	if fix < 0 {
		t.Fatal("nothing can be fired at fixes")
	}
	x.Choose(all[fix])
	x.Shows("would arrive at fixes")
	// fixed, the wire takes what the run could not deliver
	file := filepath.Join(x.dir, "nightdrill.yaml")
	yaml, _ := os.ReadFile(file)
	if err := os.WriteFile(file, []byte(strings.Replace(string(yaml), "in/*.csv", "in/*", 1)), 0o644); err != nil {
		t.Fatal(err)
	}
	x.Press("esc", "esc", "up", "up", "up")
	x.Until("takes key in/*, to load")
	if _, title := x.Title(); title != "counts of the last run, d" {
		t.Errorf("the title is %q", title)
	}
	if x.Press("o"); x.Note != "the run had 1 unmatched, 1 of them are taken now" {
		t.Errorf("offered to the fixed wire: %q", x.Note)
	}
	x.Until("object.created in/b.CSV")
	x.Until("load done in")
}

// BenchmarkDraw draws the map with what came last, of a hundred firings and of a run.
func BenchmarkDraw(b *testing.B) {
	x := open(b, quay, 160, 47)
	var items []*catalog.Item
	for _, i := range x.stand.List() {
		if i.SourceName == "scans" {
			items = append(items, i)
		}
	}
	for n := range 100 {
		<-x.stand.Fire(session.Order{Item: items[n%len(items)]}).Done()
	}
	theme := canvas.NewTheme(true)
	x.Press("down")
	x.Refresh()
	b.Run("desk", func(b *testing.B) {
		for b.Loop() {
			x.Draw(theme)
		}
	})
	run := &record.Run{Sources: []record.Source{{Name: "cargo", To: []int{0}}, {Name: "scans", To: []int{1}}},
		Functions: []record.Function{{Name: "load"}, {Name: "gate"}}, Payloads: []record.Payload{{Label: "a scan"}}}
	for i := range 1_000_000 {
		run.Arrivals = append(run.Arrivals, record.Arrival{From: -1})
		run.Deliveries = append(run.Deliveries, record.Delivery{Event: int64(i), Outcome: engine.Done})
	}
	x.Run(run)
	x.Press("r")
	b.Run("run", func(b *testing.B) { // nothing of it came to the source under the cursor
		for b.Loop() {
			x.Draw(theme)
		}
	})
	b.Run("count", func(b *testing.B) {
		for b.Loop() {
			explain.RunTraffic(x.plan, run)
		}
	})
}

// The events that can be put on the map are filtered by what they are.
func TestTheEventsToChooseFromAreFiltered(t *testing.T) {
	x := open(t, quay, 120, 36)
	x.Press("enter")
	all := len(x.choices)
	x.Press("/")
	x.Answer("in/b")
	if n := len(x.choices); n == 0 || n >= all {
		t.Errorf("%d of %d events are left", n, all)
	}
	x.Press("/")
	x.Answer("no such event")
	x.Shows("No event has that")
	x.Press("enter", "down", "D", "esc")
	if len(x.choices) != all || !x.choosing {
		t.Errorf("%d of %d events without the filter", len(x.choices), all)
	}
}
