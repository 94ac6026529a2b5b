package findings

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/store"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/viewtest"
)

// sample is a run of two ways to start, with a change, rejections and bounds.
func sample() *record.Run {
	ms := func(n int) clock.Time { return clock.Time(n) * clock.Time(time.Millisecond) }
	r := &record.Run{ID: "x", Drill: "d", Finished: true, Length: ms(5000),
		Changes: []record.Change{{At: ms(1500), Function: 1, Text: "max 4 → 2"},
			{At: ms(1600), Function: -1, Text: "project total 32 → 24"}},
		Sources: []record.Source{{Name: "fares", To: []int{0}}, {Name: "scans", To: []int{1}}}}
	for i, name := range []string{"quote", "quote@parked"} {
		f := record.Function{Name: name, Way: "new process", Memory: 64 << 20, CPU: 0.5,
			Enforced: "not enforced: this system has no control groups"}
		if i == 1 {
			f.Way = "parked"
		}
		r.Functions = append(r.Functions, f)
		for n := range 8 {
			id := len(r.Invocations)
			at := ms(100*n + 10*i)
			r.Arrivals = append(r.Arrivals, record.Arrival{Due: at, Arrived: at, From: -1, Source: int32(i)})
			r.Instances = append(r.Instances, record.Instance{ID: int32(id), Function: int32(i), Number: int32(n + 1),
				Spawned: at, Ready: at + ms(40-30*i+n), Stopped: at + ms(90),
				Cause: engine.AllBusy, Peak: int64(40+n) << 20, CPU: 30 * time.Millisecond, Parked: i == 1})
			r.Invocations = append(r.Invocations, record.Invocation{ID: uint64(id + 1), Function: int32(i),
				Instance: int32(id), Source: int32(i), Assigned: at + ms(40-30*i+n), Sent: at + ms(40-30*i+n),
				Done: at + ms(60-30*i+n), Status: 200, Class: engine.Cold})
			r.Attempts = append(r.Attempts, record.Attempt{Event: int64(id), Invocation: uint64(id + 1),
				Source: int32(i), N: 1})
			r.Deliveries = append(r.Deliveries, record.Delivery{Event: int64(id), Invocation: uint64(id + 1),
				Source: int32(i), Attempts: 1})
		}
	}
	for n := range 3 {
		r.Arrivals = append(r.Arrivals, record.Arrival{Due: ms(900), Arrived: ms(900), From: -1})
		r.Deliveries = append(r.Deliveries, record.Delivery{Event: int64(16 + n), Outcome: engine.Rejected,
			Cause: engine.StartsBounded, Ended: ms(900)})
	}
	return r
}

// The findings say what a run was about, at every size: why requests were turned
// away and instances started, what those used, the ways to start, what was changed.
func TestFindings(t *testing.T) {
	m := New(nil)
	m.Show(report.NewPage(sample()))
	m.Runs([]store.Info{{ID: "y"}, {ID: "x"}})
	for _, size := range [][2]int{{160, 43}, {100, 26}, {80, 20}, {30, 5}, {1, 1}} {
		m.Resize(size[0], size[1])
		all := ansi.Strip(m.Draw(canvas.NewTheme(true)).String()) + "\n"
		m.Key(viewtest.Key("enter")) // the sentences of the worst function
		for range 12 {
			all += ansi.Strip(m.Draw(canvas.NewTheme(true)).String()) + "\n"
			m.Key(viewtest.Key("pgdown"))
		}
		for range 12 {
			m.Key(viewtest.Key("pgup"))
		}
		m.Key(viewtest.Key("enter"))
		if size[0] < 80 {
			continue
		}
		for _, want := range []string{"3 of 11 fares rejected (27 %)", "3 of 11 requests rejected",
			"3 by the start rate", "Ways to start: medians, ms",
			"a lower bound for any", "all busy (8)",
			"memory peak 47 MiB", "of 64", "0.24 s of processor time", "at 1.50 s", "quote@parked: max 4 → 2",
			"project total 32 → 24", "not enforced"} {
			if !strings.Contains(strings.Join(strings.Fields(all), " "), strings.Join(strings.Fields(want), " ")) {
				t.Errorf("at %v %q is not shown:\n%s", size, want, all)
			}
		}
	}
	if cmd := m.Key(viewtest.Key("right")); cmd == nil || fmt.Sprint(cmd()) != "{y}" {
		t.Error("the newer run is not asked for")
	}
	if style, title := m.Title(); style != canvas.Plain || !strings.Contains(title, "1 of 2") {
		t.Errorf("the title is %q", title)
	}
}

// A frame takes less than 16 ms: it is drawn from the page, whatever the run's size.
func BenchmarkView(b *testing.B) {
	m := New(nil)
	m.Resize(160, 43)
	r := sample()
	for len(r.Functions) < 8 { // more than a screen is used to
		r.Functions = append(r.Functions, r.Functions[0])
		r.Sources = append(r.Sources, r.Sources[0])
	}
	m.Show(report.NewPage(r))
	theme := canvas.NewTheme(true)
	for b.Loop() {
		_ = m.Draw(theme).String()
	}
}
