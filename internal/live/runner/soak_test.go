package runner

import (
	"flag"
	"fmt"
	"os"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/arrival"
	"nightdrill.dev/internal/core/plan"
)

var soak = flag.Duration("soak", 0, "how long TestSoak goes on; without, it is left out")

// TestSoak starts and stops instances of every transport all the time, some of
// which crash, are parked, bounded or replaced, in one drill after the other. In
// the end there are as many file descriptors, goroutines and processes as in the
// beginning, and as much memory. scripts/soak runs it for ten minutes.
func TestSoak(t *testing.T) {
	if *soak == 0 {
		t.Skip("left out; scripts/soak runs it")
	}
	p, d := testProject("plain", false, "a")
	self, _ := os.Executable()
	limits := plan.Limits{Max: 6, PerInstance: 1, IdleAfter: 40 * time.Millisecond}
	p.Concurrency = 30
	p.Functions, p.Sources, d.Feeds, d.Limits = nil, nil, nil, nil
	for i, c := range []struct {
		as     string
		change func(*plan.Function)
	}{
		{"plain", func(f *plan.Function) { f.Memory, f.CPU = 256<<20, 2 }},
		{"plain", func(f *plan.Function) { f.Parked = 1 }},
		{"crashes", func(f *plan.Function) { f.Replace = plan.SideBySide }},
		{"reached: socket", func(f *plan.Function) { f.Socket, f.Fresh = true, true }},
		{"reached: lines", func(f *plan.Function) {
			f.Transport, f.Ready = plan.Lines, plan.Ready{By: plan.ReadyLine, Line: "at the desk"}
		}},
		{"reached: cgi", func(f *plan.Function) {
			f.Transport, f.Ready = plan.OneShot,
				plan.Ready{By: plan.ReadyRuns}
		}},
		{"misbehaves: forks children that outlive it", func(*plan.Function) {}},
	} {
		f := plan.Function{Name: fmt.Sprintf("f%d", i), Start: []string{self}, Env: []string{"AS_FUNCTION=" + c.as},
			Path: "/", Timeout: 10 * time.Second, StartTimeout: 10 * time.Second, Limits: limits}
		c.change(&f)
		p.Functions, d.Limits = append(p.Functions, f), append(d.Limits, f.Limits)
		p.Sources = append(p.Sources, plan.Source{Name: f.Name, Wires: []plan.Wire{{To: i}}, Wait: 5 * time.Second,
			DeadLetter: -1})
		d.Feeds = append(d.Feeds, plan.Feed{Source: i, Phases: []arrival.Phase{{Pattern: arrival.Burst, Size: 2,
			Every: 500 * time.Millisecond, For: 8 * time.Second}}})
	}
	lower := limits
	lower.Max = 2
	for at := time.Second; at < 8*time.Second; at += time.Second {
		l := lower
		if at/time.Second%2 == 0 {
			l = limits
		}
		d.Changes = append(d.Changes, plan.Change{At: at, Function: 0, Limits: l}, plan.Change{At: at, Function: 2,
			Limits: limits, Replace: true})
	}
	d.Settle = 6 * time.Second
	began := time.Now()
	var first, last [4]int
	starts := 0
	for round := 0; round < 3 || time.Since(began) < *soak; round++ {
		rec, s := run(t, p, d)
		starts += len(rec.Instances)
		// how many are done depends on how busy the machine is; that each ended does not
		if c := s.Events; c.Done == 0 || c.Done+c.Failed+c.DeadLettered+c.Rejected+c.Expired+c.Skipped+c.Unmatched+
			c.Abandoned != c.Deliveries {
			t.Fatalf("round %d: %+v", round, c)
		}
		rec, s = nil, nil
		last = footprint()
		if round == 1 { // what is made once has been made
			first = last
		}
		fmt.Printf("%4.0f s  %6d starts  %3d descriptors  %3d goroutines  %3d processes  %5d KiB of heap\n",
			time.Since(began).Seconds(), starts, last[0], last[1], last[2], last[3])
	}
	until(t, "it ends with what it began with", func() bool {
		last = footprint()
		return last[0] <= first[0] && last[1] <= first[1] && last[2] <= first[2]
	})
	if last[3] > first[3]+first[3]/4+1024 {
		t.Errorf("the heap went from %d to %d KiB", first[3], last[3])
	}
	fmt.Printf("in the end  %3d descriptors  %3d goroutines  %3d processes  %5d KiB of heap, resident at most %s\n",
		last[0], last[1], last[2], last[3], resident())
}

// footprint counts file descriptors, goroutines, processes and KiB of heap.
func footprint() [4]int {
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	now := leftovers()
	return [4]int{now[0], now[1], len(started()), int(m.HeapAlloc >> 10)}
}

// resident returns this program's largest resident size.
func resident() string {
	text, _ := os.ReadFile("/proc/self/status")
	_, after, _ := strings.Cut(string(text), "VmHWM:")
	kb, _ := strconv.Atoi(strings.Fields(after + " 0")[0])
	return fmt.Sprintf("%d MiB", kb>>10)
}
