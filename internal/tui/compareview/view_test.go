package compareview

import (
	"fmt"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/core/rng"
	"nightdrill.dev/internal/store"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/viewtest"
)

// keptRuns is a run of two variants, of which one takes so many times as long, that was
// answered otherwise once.
func keptRuns(t *testing.T, s *store.Store, id, drill string, times int) {
	t.Helper()
	r := &record.Run{ID: id, Drill: drill, Finished: true, Length: clock.Time(20 * time.Second), ColdStarts: 30,
		Payloads: []record.Payload{{Set: "asks", N: 1, Label: "GET /"}, {Set: "asks", N: 2, Label: "GET /x\x1b[31m"}}}
	rnd := rng.New(uint64(times), 1)
	for fn, name := range []string{"quote", "quote@slow"} {
		r.Functions = append(r.Functions, record.Function{Name: name, Max: 4, PerInstance: 1})
		r.Sources = append(r.Sources, record.Source{Name: "to " + name, Kind: "http", Routes: []string{"/"},
			To: []int{fn}})
		for i := range 40 {
			at := clock.Time(i)*clock.Time(400*time.Millisecond) + clock.Time(fn)*clock.Time(200*time.Millisecond) + 1
			took := 50*time.Millisecond + rnd.Exp(10*time.Millisecond)
			if fn == 1 {
				took *= time.Duration(times)
			}
			n := int32(len(r.Instances))
			v := record.Invocation{ID: uint64(n + 1), Instance: n, Function: int32(fn), Source: int32(fn),
				Assigned: at, Sent: at, Done: at.Add(took), Status: 200, Class: engine.Cold, Batch: 1, Reply: 1}
			if fn == 1 && i%2 == 1 {
				v.Status, v.Reply = 404, 2
			}
			r.Instances = append(r.Instances, record.Instance{ID: n, Function: int32(fn), Number: int32(i + 1),
				Spawned: at - 1, Ready: at, Stopped: v.Done, Peak: 30 << 20})
			r.Arrivals = append(r.Arrivals, record.Arrival{Due: at, Arrived: at, From: -1, Source: int32(fn),
				Payload: int32(i % 2)})
			r.Invocations = append(r.Invocations, v)
			r.Attempts = append(r.Attempts, record.Attempt{Event: int64(n), Invocation: v.ID, Source: int32(fn), N: 1})
			r.Deliveries = append(r.Deliveries, record.Delivery{Event: int64(n), Invocation: v.ID, Source: int32(fn),
				Ended: v.Done, Attempts: 1})
		}
	}
	w, err := s.Begin(r, time.Date(1970, 1, times, 0, 0, 0, 0, time.Local))
	if err == nil {
		err = w.Finish(r, report.NewPage(r))
	}
	if err != nil {
		t.Fatal(err)
	}
}

// The view says which is better and whether that is more than noise, at every size:
// of variants in one run, and of two runs.
func TestWhichIsBetter(t *testing.T) {
	s, err := store.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	keptRuns(t, s, "20260101-000000-aa", "evening", 1)
	keptRuns(t, s, "20260102-000000-bb", "evening", 3)
	m := New(s)
	draw := func(w, h int) (all string) {
		m.Resize(w, h)
		for range 10 {
			all += ansi.Strip(m.Draw(canvas.NewTheme(true)).String()) + "\n"
			m.Key(viewtest.Key("pgdown"))
		}
		for range 10 {
			m.Key(viewtest.Key("pgup"))
		}
		return strings.Join(strings.Fields(all), " ")
	}
	if text := draw(100, 26); !strings.Contains(text, "Which is better, and is that more than noise?") ||
		!strings.Contains(text, "v sets up a comparison") {
		t.Errorf("with nothing to compare: %s", text)
	}
	all, _ := s.List()
	m.Runs(all)
	took := func(cmd tea.Cmd) {
		t.Helper()
		if cmd == nil {
			t.Fatal("nothing is compared")
		}
		if _, ok := m.Took(cmd()); !ok {
			t.Fatal("nothing was compared")
		}
	}
	took(m.About("20260102-000000-bb"))
	for _, size := range [][2]int{{160, 43}, {100, 26}, {80, 20}, {20, 3}} {
		text := draw(size[0], size[1])
		if size[0] < 80 {
			continue
		}
		for _, want := range []string{"Cold: quote@slow is ", "× slower", "no difference", "peak memory", "memory held",
			"1 of 2 events got a different reply", "asks#2 GET /x", "status 200, here 404"} {
			if !strings.Contains(text, want) {
				t.Errorf("at %v %q is not shown:\n%s", size, want, text)
			}
		}
		if strings.Contains(text, "\x1b") {
			t.Error("a control sequence reached the screen")
		}
	}
	if m.About("20260102-000000-bb") != nil {
		t.Error("what is shown is compared again")
	}
	took(m.Key(viewtest.Key("o"))) // against the older run
	if _, title := m.Title(); title != "B evening 3 Jan 1970 00:00 against A evening 1 Jan 1970 00:00" {
		t.Errorf("the title is %q", title)
	}
	m.Key(viewtest.Key("right"))
	if text := draw(160, 43); !strings.Contains(text, "quote@slow: verdicts") ||
		!strings.Contains(text, "these are different runs") {
		t.Errorf("two runs: %s", text)
	}
	took(m.Key(viewtest.Key("s")))
	if _, title := m.Title(); title != "B evening 1 Jan 1970 00:00 against A evening 3 Jan 1970 00:00" {
		t.Errorf("swapped, the title is %q", title)
	}
	took(m.Compare("20260101-000000-aa", "20260101-000000-aa"))
	if text := draw(100, 26); !strings.Contains(text, "cannot be compared with itself") {
		t.Errorf("with itself: %s", text)
	}
}

// A comparison is set up by choosing: what is wrong is said in the form, what is right is started.
func TestTheForm(t *testing.T) {
	s, err := store.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	keptRuns(t, s, "20260101-000000-aa", "evening", 1)
	keptRuns(t, s, "20260102-000000-bb", "evening", 3)
	m := New(s)
	m.Resize(100, 26)
	shown := func() string { return ansi.Strip(m.Draw(canvas.NewTheme(true)).String()) }
	// press presses keys, and returns what came of them as text
	press := func(keys string) (got string) {
		for _, k := range strings.Fields(keys) {
			cmd := m.Key(viewtest.Key(k))
			if cmd == nil {
				continue
			}
			x := cmd()
			if _, ours := m.Took(x); !ours {
				got = fmt.Sprintf("%T %+v", x, x)
			}
			shown()
		}
		return got
	}
	if press("v enter"); !strings.Contains(shown(), "no drill yet") {
		t.Errorf("of an empty project:\n%s", shown())
	}
	press("esc")
	all, _ := s.List()
	m.Runs(all)
	m.Offer(Choices{Drills: []string{"evening", "night"}, Functions: []FunctionChoice{
		{Name: "tides", Variants: []string{"tides"}, Limits: map[string]string{"max": "3", "idle_after": "2s"}},
		{Name: "quote", Variants: []string{"quote", "quote@slow", "quote@node"},
			Limits: map[string]string{"max": "4"}}}})
	for _, c := range []struct{ keys, got, shows string }{
		{"v", "", "It takes up to about"},
		{"enter", "Variants {Function:quote Of:[quote quote@slow quote@node] Cold:30 Warm:500 Early:true}", ""},
		{"v down down right space down right down left down space", "", "○ quote@slow"},
		{"enter", "Variants {Function:quote Of:[quote quote@node] Cold:50 Warm:200 Early:false}", ""},
		{"v down down down 8 enter", "Cold:8", ""},
		{"v down down down 0 down", "", "must be a whole number from 1 to 10000"},
		{"esc 1 x enter", "", `"1x" must be a whole number`},
		{"backspace 2 enter", "Cold:12", ""},
		{"v down left enter", "", "at least two variants are needed"},
		{"up right enter", "", "Reading the runs"},
		{"v right down right enter", "", "cannot be compared with itself"},
		{"up left left down right down right down down 9 enter",
			"Limits {Drill:night Sides:[quote.max=9 quote.max=8]}", ""},
		{"v left down down down down 8 enter", "", "both sides have the same value"},
		{"esc v left down down left down right right down", "", "2s"},
	} {
		got := press(c.keys)
		if !strings.Contains(got, c.got) || c.got == "" && got != "" && !strings.Contains(got, "compared") {
			t.Errorf("%s leads to %q, want %q\n%s", c.keys, got, c.got, shown())
		}
		if text := shown(); !strings.Contains(text, c.shows) && c.shows != "Reading the runs" {
			t.Errorf("after %s %q is not shown:\n%s", c.keys, c.shows, text)
		}
	}
	m.Resize(80, 20)
	m.Paste(tea.PasteMsg{Content: "90s"})
	if text := shown(); !strings.Contains(text, "90s") {
		t.Errorf("what was pasted is not shown:\n%s", text)
	}
	if press("esc esc"); m.Typing() {
		t.Error("the form does not close")
	}
}
