package compareview

import (
	"fmt"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/engine"
	"nightdrill/internal/core/record"
	"nightdrill/internal/core/report"
	"nightdrill/internal/core/rng"
	"nightdrill/internal/store"
	"nightdrill/internal/tui/canvas"
	"nightdrill/internal/tui/msg"
	"nightdrill/internal/tui/viewtest"
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
		!strings.Contains(text, "v compares the variants") {
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
	// what is asked of variants is read strictly
	ask := m.Key(viewtest.Key("v"))().(msg.Ask)
	for text, want := range map[string]string{
		"quote slow cold=8":       "{quote [slow] 8 500}",
		"quote":                   "{quote [] 30 500}",
		"quote cold=0":            "cold=30, up to 10000",
		"quote warm=many":         "warm=500, up to 1000000",
		"quote lukewarm=3 cold=9": "write cold=30",
	} {
		if got := fmt.Sprint(ask.Done(text)()); !strings.Contains(got, want) {
			t.Errorf("%q: %s, want %s", text, got, want)
		}
	}
}
