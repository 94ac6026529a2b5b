package runner

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"nightdrill.dev/internal/core/arrival"
	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/live/proc"
)

// reached are functions that are reached otherwise than by a port.
func reached(as string) {
	switch as {
	case "lines":
		fmt.Fprintln(os.Stderr, "at the desk")
		for in := bufio.NewScanner(os.Stdin); in.Scan(); {
			var e struct{ ID, Type, Traceparent string }
			if err := json.Unmarshal(in.Bytes(), &e); err != nil {
				fmt.Println(`{"status": 400}`)
				continue
			}
			if strings.Contains(in.Text(), "leave") {
				os.Exit(4)
			}
			fmt.Printf(`{"status": 200, "headers": {"x-type": %q}, "body": {"id": %q, "trace": %d}}`+"\n", e.Type, e.ID,
				len(e.Traceparent))
		}
	case "cgi":
		body, _ := io.ReadAll(os.Stdin)
		if string(body) == "leave" {
			fmt.Fprintln(os.Stderr, "no ticket left")
			os.Exit(5)
		}
		fmt.Printf("Status: 201 Made\r\nContent-Type: text/plain\r\n\r\n%s %s %s", os.Getenv("REQUEST_METHOD"),
			os.Getenv("PATH_INFO"), body)
	case "socket":
		l, err := net.Listen("unix", os.Getenv("SOCKET"))
		if err != nil {
			panic(err)
		}
		var connections atomic.Int32
		s := http.Server{ConnState: func(_ net.Conn, s http.ConnState) {
			if s == http.StateActive {
				connections.Add(1)
			}
		}, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			fmt.Fprintf(w, "%d %v", connections.Load(), r.Close)
		})}
		_ = s.Serve(l)
	}
}

// Every transport hands events over and brings replies back; a process that ends
// instead of answering is a crash.
func TestTransports(t *testing.T) {
	for _, c := range []struct {
		as     string
		change func(*plan.Function)
		bodies []string
		reply  string
		class  engine.Class
		failed engine.Result
	}{
		{"lines", func(f *plan.Function) {
			f.Transport, f.Ready = plan.Lines, plan.Ready{By: plan.ReadyLine, Line: "at the desk"}
		}, []string{"a", "leave"}, "200 OK\nContent-Type: application/json\nX-Type: http.request\n\n{\"id\": \"",
			engine.Cold, engine.Crash},
		{"cgi", func(f *plan.Function) { f.Transport, f.Ready = plan.OneShot, plan.Ready{By: plan.ReadyRuns} },
			[]string{"a", "leave"}, "201 Created\nContent-Type: text/plain\n\nPOST /x a", engine.Cold, engine.Crash},
		{"socket", func(f *plan.Function) { f.Socket = true }, []string{"a", "b"}, "1 false", engine.Cold, engine.OK},
		{"socket", func(f *plan.Function) { f.Socket, f.Fresh = true, true }, []string{"a", "b"}, "1 true", engine.Cold,
			engine.OK},
	} {
		p, d := testProject("reached: "+c.as, false, c.bodies...)
		p.Sources[0].Wait = 10 * time.Second
		d.Limits[0].Max = 1
		c.change(&p.Functions[0])
		p.Functions[0].Limits = d.Limits[0]
		rec, s := run(t, p, d)
		if s.Events.Done+s.Events.Failed != 2 || rec.Invocations[0].Class != c.class ||
			s.Events.Failed > 0 != (c.failed != engine.OK) {
			t.Errorf("%s: %+v, %+v", c.as, s.Events, rec.Invocations)
			continue
		}
		if reply := string(rec.Blobs[rec.Invocations[0].Reply-1]); !strings.Contains(reply, c.reply) {
			t.Errorf("%s: the reply is %q, want %q", c.as, reply, c.reply)
		}
		if c.failed != engine.OK && rec.Attempts[1].Result != c.failed {
			t.Errorf("%s: the second attempt is %v", c.as, rec.Attempts[1].Result)
		}
		for _, in := range rec.Instances {
			if in.Ready == 0 || in.Stopped == 0 || in.CPU <= 0 {
				t.Errorf("%s: an instance %+v", c.as, in)
			}
		}
	}
}

// A process that was started ahead paused until it is wanted, is then ready
// at once, and another takes its place.
func TestParkedProcesses(t *testing.T) {
	p, d := testProject("plain", false, "a")
	p.Functions[0].Parked = 1
	d.Cold = &plan.ColdStarts{N: 3, Cached: true}
	cold, drill := p.ColdPlan(d)
	rec, s := run(t, cold, drill)
	if s.Events.Done != 3 || len(rec.Instances) != 3 || len(s.Ways) != 1 || !strings.Contains(s.Ways[0].Words,
		"a lower bound for any") {
		t.Fatalf("%+v, ways %+v", s.Events, s.Ways)
	}
	for i, in := range rec.Instances {
		if !in.Parked || in.Ready.Sub(in.Spawned) > 100*time.Millisecond || rec.Invocations[i].Class != engine.Cold {
			t.Errorf("instance %+v", in)
		}
	}
}

// A drill of cold starts starts every variant as often as it says, one at a time,
// and returns how much of its files had left the cache.
func TestColdStartsInTurns(t *testing.T) {
	p, d := testProject("plain", false, "a", "b")
	warm := p.Functions[0]
	warm.Name, warm.Limits.KeepWarm = "f@warm", 1
	p.Functions[0].Variants = []plan.Function{warm}
	d.Cold = &plan.ColdStarts{N: 3, Cached: true, Dropped: true}
	cold, drill := p.ColdPlan(d)
	rec, s := run(t, cold, drill)
	if !s.Finished || s.Events.Done != 9 || len(s.Functions) != 3 {
		t.Fatalf("%+v of %d functions", s.Events, len(s.Functions))
	}
	for i, f := range rec.Functions {
		of := s.Functions[f.Name]
		if warm := i >= 2; warm && of.Latency.First.N != 3 || !warm && of.Latency.Cold.N != 3 {
			t.Errorf("%s: %+v", f.Name, of.Latency)
		}
		if dropped := i%2 == 1; (of.FilesLeft != nil) != dropped && proc.DropFiles([]string{os.Args[0]}) >= 0 {
			t.Errorf("%s: %v of its files left the cache", f.Name, of.FilesLeft)
		}
	}
	if slicesInTurns := rec.Arrivals[0].Source == rec.Arrivals[1].Source &&
		rec.Arrivals[1].Source == rec.Arrivals[2].Source; slicesInTurns {
		t.Error("the variants do not take turns")
	}
	for i := 1; i < len(rec.Invocations); i++ {
		if rec.Invocations[i].Assigned < rec.Invocations[i-1].Done {
			t.Error("two starts were under way at once")
		}
	}
}

// What is changed while a drill runs takes effect at once and stands in the run,
// whether the drill says so or someone at the screen does.
func TestLimitsAreChangedWhileItRuns(t *testing.T) {
	p, d := testProject("plain", false, "a")
	p.Concurrency = 4
	away, back := d.Limits[0], d.Limits[0]
	away.TurnAway = true
	back.Max = 1
	d.Changes = []plan.Change{{At: 300 * time.Millisecond, Function: 0, Limits: away}, {At: 600 * time.Millisecond,
		Function: -1, Concurrency: 3},
		{At: 600 * time.Millisecond, Function: 0, Limits: back}, {At: 600 * time.Millisecond, Function: 0, Limits: back,
			Replace: true}}
	d.Feeds[0].Phases = []arrival.Phase{{Pattern: arrival.Steady, Rate: arrival.Rate{Events: 50, Per: time.Second},
		For: 2 * time.Second}}
	r := New(p, d, Config{ID: "test"})
	over := make(chan struct{})
	go func() {
		defer close(over)
		r.Run(context.Background())
	}()
	until(t, "the drill has changed its limits", func() bool { _, each := r.Limits(); return each[0].Max == 1 })
	for _, wrong := range []plan.Limits{{Max: -1, PerInstance: 1}, {Max: 1, PerInstance: 1, KeepWarm: 2},
		{Max: 8, PerInstance: 1, Guaranteed: 8}} {
		if err := r.SetLimits(0, wrong); err == nil {
			t.Errorf("%+v were taken", wrong)
		}
	}
	wide := back
	wide.PerInstance, wide.Max, wide.StartEvery = 4, 4, time.Second
	if err := r.SetLimits(0, wide); err != nil {
		t.Fatal(err)
	}
	if r.SetConcurrency(0) == nil {
		t.Error("a limit of 0 for all was taken")
	}
	if err := r.SetConcurrency(2); err != nil {
		t.Fatal(err)
	}
	<-over
	rec := r.Snapshot()
	var texts []string
	for _, c := range rec.Changes {
		texts = append(texts, report.ChangeText(c, []string{"f"})[len("at 0.00 s  "):])
	}
	want := "f: rejects everything | project total 4 → 3 | f: max 2 → 1, accepts events again | f: replaced one by " +
		"one | f: max 1 → 4, per_instance 1 → 4, start_rate unbounded → 1/s, start_burst 1 → 1 | project total 3 → 2"
	if got := strings.Join(texts, " | "); got != strings.Replace(want, ", start_burst 1 → 1", "", 1) {
		t.Errorf("changes\n%s\nwant\n%s", got, want)
	}
	s := report.Summarize(rec)
	if s.Functions["f"].Rejections["everything is rejected"] < 5 {
		t.Errorf("rejected: %v", s.Functions["f"].Rejections)
	}
	replaced := false
	for _, in := range rec.Instances {
		replaced = replaced || in.Version == 1 && in.Ready > 0
	}
	if !replaced {
		t.Errorf("no instance has the new version: %+v", rec.Instances)
	}
	for _, v := range rec.Invocations {
		if at := rec.Changes[0].At + clock.Time(50*time.Millisecond); v.Assigned > at &&
			v.Assigned < rec.Changes[2].At {
			t.Errorf("an invocation at %v, while everything was rejected", v.Assigned)
		}
	}
}

// Memory and processor time of an instance are seen, and bounds where they can be
// set are.
func TestWhatAnInstanceUses(t *testing.T) {
	p, d := testProject("plain", false, "a")
	bounds := proc.Bounds{Memory: 256 << 20, CPU: 1}
	p.Functions[0].Memory, p.Functions[0].CPU = bounds.Memory, bounds.CPU
	d.Feeds[0].Phases = []arrival.Phase{{Pattern: arrival.Steady, Rate: arrival.Rate{Events: 20, Per: time.Second},
		For: time.Second}}
	rec, s := run(t, p, d)
	in := rec.Instances[0]
	if in.Peak < 1<<20 || in.Peak > 256<<20 || in.CPU <= 0 || in.CPU > 5*time.Second {
		t.Errorf("the instance used %d bytes and %v", in.Peak, in.CPU)
	}
	says := proc.Bounded().Says(bounds)
	if rec.Functions[0].Enforced != says {
		t.Errorf("enforced: %q, want %q", rec.Functions[0].Enforced, says)
	}
	warned := false
	for _, w := range s.Warnings {
		warned = warned || strings.Contains(w, "not enforced")
	}
	if warned != strings.HasPrefix(says, "not enforced") {
		t.Errorf("warnings %q, and it is %q", s.Warnings, says)
	}
	if lines := report.InstanceLines(s.Functions["f"]); len(lines) != 5 ||
		!strings.Contains(lines[2], "no instance (") ||
		!strings.Contains(lines[4], "of memory held") || !strings.Contains(lines[3], "of 256") {
		t.Errorf("said of it: %q", lines)
	}
}
