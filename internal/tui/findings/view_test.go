package findings

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/core/draw"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/store"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/msg"
	"nightdrill.dev/internal/tui/viewtest"
)

// shelf is where the test keeps its runs.
type shelf struct {
	run  *record.Run
	did  []string
	fail error
}

func (s *shelf) Load(id string) (*record.Run, error) { return s.run, s.fail }
func (s *shelf) Filter(id string, f record.Filter) (*record.Run, error) {
	if why := s.run.Unknown(f); why != "" {
		return nil, errors.New(why)
	}
	return s.run.Filter(f), s.fail
}
func (s *shelf) Name(id, name string) error   { return s.note("name ", id, name) }
func (s *shelf) Note(id, text string) error   { return s.note("note ", id, text) }
func (s *shelf) Pin(id string, on bool) error { return s.note("pin ", id, fmt.Sprint(on)) }
func (s *shelf) PutAside(i store.Info) error  { return s.note("aside ", i.ID, "") }

func (s *shelf) BringBack() (store.Info, bool) {
	return store.Info{ID: "y"}, s.note("back", "", "") == nil
}

func (s *shelf) note(what, id, text string) error {
	s.did = append(s.did, strings.TrimSpace(what+id+" "+text))
	return s.fail
}

// desk is a view with a way to press keys and to carry out what comes of them.
type desk struct {
	*Model
	t    *testing.T
	told []tea.Msg // what went to the shell
}

func (d *desk) press(keys ...string) string {
	d.t.Helper()
	for _, k := range keys {
		d.carry(d.Key(viewtest.Key(k)))
		d.Draw(canvas.NewTheme(true))
	}
	return ansi.Strip(d.Draw(canvas.NewTheme(true)).String())
}

// carry does what the shell would: work in the background comes back, everything else
// is told.
func (d *desk) carry(cmd tea.Cmd) {
	for cmd != nil {
		msg := cmd()
		if all, ok := msg.(tea.BatchMsg); ok {
			for _, each := range all {
				d.carry(each)
			}
			return
		}
		next, ours := d.Took(msg)
		if !ours {
			d.told = append(d.told, msg)
		}
		cmd = next
	}
}

// asked answers the question that was asked last.
func (d *desk) asked(answer string) {
	d.t.Helper()
	ask, ok := d.told[len(d.told)-1].(msg.Ask)
	if !ok {
		d.t.Fatalf("no question was asked, but %#v", d.told[len(d.told)-1])
	}
	d.carry(ask.Done(answer))
}

func (d *desk) last() tea.Msg {
	if len(d.told) == 0 {
		return nil
	}
	return d.told[len(d.told)-1]
}

func open(t *testing.T) (*desk, *shelf) {
	run := sample()
	run.Payloads = []record.Payload{{Set: "asks", N: 1, Label: "GET /quote"}}
	s := &shelf{run: run}
	d := &desk{Model: New(s), t: t}
	d.Resize(160, 43)
	d.Show(report.NewPage(run))
	cold, warm := 120.0, 9.0
	main := func(cold, warm float64) *report.Headline {
		return &report.Headline{Functions: []report.HeadlineOf{{Name: "quote", Cold: &cold, Warm: &warm}},
			Arrived: 19, Held: 2, Missed: 1}
	}
	d.Runs([]store.Info{{ID: "x", Drill: "d", Finished: true, Headline: main(cold, warm)},
		{ID: "y", Drill: "d", Finished: true, Name: "before", Note: "slow \x1b[31mdisk", Pinned: true,
			Headline: main(2*cold, warm)},
		{ID: "z", Drill: "other", Began: time.Unix(0, 0)}})
	d.press()
	return d, s
}

// The cursor goes from point to point, says what each stands for, and opens the
// invocations behind it, one of them in its lane.
func TestEveryPointOpensWhatIsBehindIt(t *testing.T) {
	d, s := open(t)
	text := d.press("c")
	if d.under() == nil || !strings.Contains(text, "▸ quote ") {
		t.Fatalf("no cursor:\n%s", text)
	}
	seen := map[string]bool{}
	for range 60 { // down to the end, and along each row
		for range 3 {
			d.press("right")
			seen[d.under().words] = true
		}
		before := d.cursor
		d.press("left", "left", "left", "down")
		seen[d.under().words] = true
		if d.cursor == before {
			break
		}
	}
	all := ""
	for words := range seen {
		all += words + "\n"
	}
	for _, want := range []string{"quote cold, ", "quote start, ", "spawn, boot ", "quote: first reply", "quote, 0.",
		"fares, 0.", "fares: 3 rejected"} {
		if !strings.Contains(all, want) {
			t.Errorf("the cursor never stood on %q, but on\n%s", want, all)
		}
	}
	// every point's invocations are those that the filter of it takes
	for i := range d.points {
		d.cursor = i
		text := d.press("enter")
		if d.calls == nil {
			t.Fatalf("nothing was opened at %q", d.points[i].words)
		}
		if _, n := s.run.Points(d.calls.pick, 1); n != d.calls.n || n > 0 &&
			!strings.Contains(text, fmt.Sprintf("%d in total", n)) {
			t.Errorf("%q: %d in the list, %d match", d.calls.words, d.calls.n, n)
		}
		d.press("esc")
	}
	d.press("up", "up", "up", "up", "up", "up", "up", "up", "up", "up")
	d.cursor = 0
	text = d.press("enter", "down", "up", "pgdown", "pgup")
	if !strings.Contains(text, "asks#1 GET /quote") || !strings.Contains(text, "longest first") {
		t.Errorf("the list is\n%s", text)
	}
	d.press("enter")
	if o, ok := d.last().(Open); !ok || o.Run != "x" || o.Invocation == 0 {
		t.Errorf("the lane was asked for with %#v", d.last())
	}
	n := len(d.calls.points)
	d.press("/")
	d.asked("no such event")
	if text := d.press("down"); len(d.calls.points) != 0 || !strings.Contains(text, "No invocation has that") {
		t.Errorf("a filter that nothing passes:\n%s", text)
	}
	if d.press("esc"); d.calls == nil || len(d.calls.points) != n {
		t.Error("esc does not take the filter away")
	}
	// only these
	text = d.press("f")
	if d.filter == (record.Filter{}) || !strings.Contains(text, "only function=quote") {
		t.Errorf("the list does not become the filter %q:\n%s", d.filter, text)
	}
}

// A filter holds for all that is shown; a wrong one, and one that takes nothing, leave
// everything as it was and say why.
func TestAFilterHoldsForEverything(t *testing.T) {
	for _, events := range []int{11, mostHeld + 1} { // a large run is filtered as it is read
		filterHolds(t, events)
	}
}

func filterHolds(t *testing.T, events int) {
	d, s := open(t)
	d.whole.Summary.Events.Arrived = events
	d.press("/")
	d.asked("function=quote@parked class=cold")
	text := d.press()
	if !strings.Contains(text, "only function=quote@parked class=cold") || strings.Contains(text, "3 of 11 requests") ||
		!strings.Contains(text, "quote@parked") {
		t.Errorf("the filter does not hold:\n%s", text)
	}
	if d.page.Summary.Functions["quote"].Latency.Cold.N != 0 ||
		d.page.Summary.Functions["quote@parked"].Latency.Cold.N != 8 {
		t.Errorf("the page is of %+v", d.page.Summary.Functions)
	}
	for text, want := range map[string]string{"class=hot": "use cold, first, warm or retried",
		"function=other": `no function "other"`, "from=4s class=cold": "nothing in the run matches"} {
		before := d.page
		d.press("/")
		d.asked(text)
		if n, ok := d.last().(msg.Note); !ok || !n.Bad || !strings.Contains(n.Text, want) || d.page != before {
			t.Errorf("%q: %#v, want %q", text, d.last(), want)
		}
	}
	if held := d.run != nil; held != (events < mostHeld) {
		t.Errorf("of %d events: the whole run is held: %v", events, held)
	}
	if text := d.press("esc"); strings.Contains(text, "only function") || d.filter != (record.Filter{}) {
		t.Error("the filter is still there")
	}
	s.fail = errors.New("the disk is gone")
	d.run = nil
	d.press("/")
	d.asked("class=cold")
	if n, ok := d.last().(msg.Note); !ok || n.Text != "the disk is gone" || d.working != "" {
		t.Errorf("a run that cannot be read: %#v", d.last())
	}
	d.press("/")
	d.asked("") // all of it
	if d.filter != (record.Filter{}) {
		t.Error("an empty filter takes a part")
	}
}

// The list of past runs shows their figures as a trend; runs are opened, marked and
// compared, named, noted, pinned, exported and deleted there.
func TestPastRuns(t *testing.T) {
	d, s := open(t)
	text := d.press("r")
	for _, want := range []string{"Past runs, newest first", "before", "2 of 3", "unfinished", "slow ·[31mdisk",
		"cold p50 of quote over the runs of d", "120 ms latest"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not in\n%s", want, text)
		}
	}
	for _, size := range [][2]int{{100, 26}, {80, 20}, {10, 3}} {
		d.Resize(size[0], size[1])
		d.press("down", "pgdown", "pgup", "up")
	}
	d.Resize(160, 43)
	d.press("/")
	d.asked("QUIET? no such")
	if text := d.press("down", "D", "enter"); !strings.Contains(text, "No run has that") {
		t.Errorf("a filter that nothing passes shows\n%s", text)
	}
	d.press("/")
	d.asked("disk")
	if text := d.press("down"); !strings.Contains(text, "1 of 3 with “disk”") || !strings.Contains(text, "before") {
		t.Errorf("filtered it shows\n%s", text)
	}
	if text := d.press("esc"); d.list == nil || strings.Contains(text, "with “") {
		t.Errorf("without the filter it shows\n%s", text)
	}
	d.press("up", "up", "n")
	d.asked("after")
	d.press("o")
	d.asked("quiet night")
	d.press("down", "p", "D", "u")
	if got := strings.Join(s.did, "; "); got != "name x after; note x quiet night; pin y false; aside y; back" {
		t.Errorf("what was done: %s", got)
	}
	if _, ok := d.last().(Changed); !ok {
		t.Errorf("the list is not read again: %#v", d.last())
	}
	// a question is about the run that it was requested, whatever the list is by now
	s.did = nil
	d.press("up", "n")
	d.press("esc")
	d.asked("late")
	if got := strings.Join(s.did, "; "); got != "name x late" {
		t.Errorf("asked of other runs: %s", got)
	}
	d.press("r", "down")
	s.fail = errors.New("run y is still in progress; stop it first")
	d.press("D")
	if n, ok := d.last().(msg.Note); !ok || !n.Bad || !strings.Contains(n.Text, "still in progress") {
		t.Errorf("a run that cannot be deleted: %#v", d.last())
	}
	d.press("x")
	d.asked("out")
	if e, ok := d.last().(Export); !ok || e != (Export{"y", "out"}) {
		t.Errorf("exported: %#v", d.last())
	}
	d.press("space", "up", "up", "space", "c")
	if c, ok := d.last().(Compare); !ok || c != (Compare{"y", "x"}) { // the older first
		t.Errorf("compared: %#v", d.last())
	}
	d.press("r", "space", "space", "space", "c")
	if n, ok := d.last().(msg.Note); !ok || !strings.Contains(n.Text, "3 are marked") {
		t.Errorf("three of them: %#v", d.last())
	}
	d.press("enter")
	if l, ok := d.last().(Load); !ok || l.ID == "" {
		t.Errorf("opened: %#v", d.last())
	}
	d.press("a")
	d.asked("y")
	if a, ok := d.last().(Replay); !ok || a.ID != "x" {
		t.Errorf("again: %#v", d.last())
	}
	d.Runs(d.runs[1:]) // the shown one was deleted
	if !d.Empty() || !strings.Contains(d.press(), "No runs yet.") {
		t.Error("a run that was deleted is still shown")
	}
	d.press("enter", "c", "/", "x", "a", "up") // nothing to act on
	if len(d.Help()) == 0 {
		t.Error("no key is shown")
	}
}

// The verdict comes first. A row of the table of functions opens to its sentences, by key or by a
// click; headings stay while one scrolls, and no row of the page is passed over.
func TestTheTableOfFunctions(t *testing.T) {
	d, _ := open(t)
	first := strings.Split(d.press(), "\n")
	if !strings.HasPrefix(first[0], " 3 of 11 fares rejected (27 %)") {
		t.Errorf("the verdict is %q", first[0])
	}
	const sentence = "3 of 11 requests rejected"
	if strings.Contains(d.press(), sentence) {
		t.Error("the row is open at once")
	}
	if !strings.Contains(d.press("enter"), sentence) || strings.Contains(d.press("enter"), sentence) {
		t.Error("enter does not open and close the row")
	}
	d.press("down")
	if d.row != 1 || d.scroll.At != 0 {
		t.Errorf("down chooses row %d, scrolled by %d", d.row, d.scroll.At)
	}
	d.carry(d.Click(10, d.rowsAt[0]))
	if !strings.Contains(d.press(), sentence) || d.row != 0 {
		t.Error("a click does not open the row")
	}
	d.Resize(100, 14)
	var seen []string
	whole := map[string]bool{}
	for {
		rows := strings.Split(d.press(), "\n")
		for _, r := range rows {
			whole[strings.TrimRight(r, " ")] = true
		}
		if at := d.scroll.At; at > 8 && !strings.HasPrefix(rows[0], "── ") {
			t.Errorf("scrolled by %d, no heading is at the top: %q", at, rows[0])
		}
		before := d.scroll.At
		if d.press("pgdown"); d.scroll.At == before {
			break
		}
	}
	d.Resize(100, 300)
	for _, r := range strings.Split(d.press("pgup", "pgup"), "\n") {
		if r = strings.TrimRight(r, " "); r != "" && !whole[r] {
			seen = append(seen, r)
		}
	}
	if len(seen) > 0 {
		t.Errorf("never seen while scrolling:\n%s", strings.Join(seen, "\n"))
	}
}

// The labels of the axis of times are whole, whatever room there is, and the last is always there.
func TestTicksHaveWholeLabels(t *testing.T) {
	for cells := 21; cells < 90; cells++ {
		for _, longest := range []time.Duration{time.Millisecond, time.Second, 100 * time.Second} {
			axis := draw.Decades(0.02, figure.Milliseconds(longest))
			c := canvas.New(100, 30, canvas.NewTheme(true))
			drawScale(c, 0, 0, cells, axis)
			row, _, _ := strings.Cut(ansi.Strip(c.String()), "\n")
			row = strings.TrimSpace(row)
			whole := []string{""}
			for _, tick := range axis.Ticks() {
				whole = append(whole, draw.ShortMillis(tick.Value))
			}
			start, found := strings.CutSuffix(row, whole[len(whole)-1]+"╷")
			if !found {
				t.Fatalf("%d cells: the last label is missing: %q", cells, row)
			}
			for _, label := range strings.Split(start, "╷") {
				if !slices.Contains(whole, strings.TrimSpace(label)) {
					t.Fatalf("%d cells: a label is cut: %q", cells, row)
				}
			}
		}
	}
}
