package runner

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"nightdrill.dev/internal/core/arrival"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/live/proc"
)

// The test program is also the function under test: started with a word in
// AS_FUNCTION it serves in that way.
func TestMain(m *testing.M) {
	if as := os.Getenv("AS_FUNCTION"); as != "" {
		if kind, ok := strings.CutPrefix(as, "misbehaves: "); ok {
			misbehave(kind)
		}
		if way, ok := strings.CutPrefix(as, "reached: "); ok {
			reached(way)
			return
		}
		serve(as)
		return
	}
	if len(os.Args) > 1 && os.Args[1] == proc.WardenCommand {
		proc.Warden()
		return
	}
	code := m.Run()
	proc.Ungroup()
	os.Exit(code)
}

func serve(as string) {
	switch as {
	case "publishes":
		if err := http.ListenAndServe("127.0.0.1:"+os.Getenv("PORT"), http.HandlerFunc(publishing)); err != nil {
			panic(err)
		}
	case "exits":
		fmt.Println("no tide table \x1b[31mfound\x1b[0m")
		os.Exit(3)
	case "never":
		select {}
	case "elsewhere":
		fmt.Println(http.ListenAndServe("127.0.0.1:0", nil))
	case "floods": // and ignores SIGTERM, and has a child that does too
		signal.Ignore(syscall.SIGTERM)
		child := exec.Command("sh", "-c", "trap '' TERM; while :; do sleep 0.1; done")
		if err := child.Start(); err != nil {
			panic(err)
		}
		go func() {
			for {
				os.Stderr.WriteString(strings.Repeat("the tide comes in ", 1000) + "\n")
			}
		}()
	}
	requests, began := 0, time.Now()
	if as == "opens late" {
		time.AfterFunc(150*time.Millisecond, func() { fmt.Println("tables are here") })
	}
	err := http.ListenAndServe("127.0.0.1:"+os.Getenv("PORT"),
		http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			requests++
			body, _ := io.ReadAll(r.Body)
			switch {
			case as == "opens late" && r.URL.Path == "/ready" && time.Since(began) < 150*time.Millisecond:
				w.WriteHeader(503)
			case as == "busy":
				w.Header().Set("Retry-After", "1")
				w.WriteHeader(429)
			case as == "crashes" && requests == 3:
				os.Exit(7)
			case as == "slow":
				select {}
			case strings.Contains(string(body), "refuse"):
				w.WriteHeader(422)
			case strings.Contains(string(body), `"once more"`) && requests == 1:
				fmt.Fprint(w, `{"retry":["e2"]}`)
			}
		}))
	fmt.Println(err)
}

func testProject(as string, queue bool, bodies ...string) (*plan.Project, *plan.Drill) {
	self, _ := os.Executable()
	limits := plan.Limits{Max: 2, PerInstance: 1, IdleAfter: time.Minute}
	p := &plan.Project{Name: "test", Concurrency: 10,
		Functions: []plan.Function{{Name: "f", Start: []string{self}, Env: []string{"AS_FUNCTION=" + as,
			"GORACE=atexit_sleep_ms=0"}, Path: "/", Timeout: 5 * time.Second, StartTimeout: 10 * time.Second,
			Limits: limits}},
		Sources: []plan.Source{{Name: "s", Wires: []plan.Wire{{To: 0}}, DeadLetter: -1}}}
	set := payload.Set{Name: "set"}
	for i, b := range bodies {
		pl := payload.Payload{Request: &event.Request{Method: "POST", Target: "/x", Body: []byte(b)}}
		if queue {
			pl = payload.Payload{Event: &event.Event{ID: fmt.Sprint("e", i+1), Source: "t", Type: "t", Data: []byte(b)}}
		}
		set.Payloads = append(set.Payloads, pl)
	}
	if queue {
		p.Sources[0] = plan.Source{Name: "s", Kind: plan.Queue, Wires: []plan.Wire{{To: 0}}, BatchMax: 3,
			BatchWait: 50 * time.Millisecond, Lease: time.Minute, Attempts: 2, DeadLetter: -1}
	}
	p.Sets = []payload.Set{set}
	d := &plan.Drill{Name: "d", Seed: 1, Settle: 5 * time.Second, Limits: []plan.Limits{limits},
		Feeds: []plan.Feed{{Phases: []arrival.Phase{{Pattern: arrival.Once}}}}}
	return p, d
}

func run(t *testing.T, p *plan.Project, d *plan.Drill) (*record.Run, *measure.Summary) {
	t.Helper()
	r := New(p, d, Config{ID: "test"})
	r.Run(t.Context())
	rec := r.Snapshot()
	s := report.Summarize(rec)
	if n := s.Events.Done + s.Events.Failed + s.Events.DeadLettered + s.Events.Rejected + s.Events.Abandoned +
		s.Events.Expired + s.Events.Unmatched; n != s.Events.Deliveries {
		t.Errorf("%d outcomes of %d deliveries", n, s.Events.Deliveries)
	}
	for _, in := range rec.Instances {
		if in.PID > 0 && syscall.Kill(in.PID, 0) == nil {
			t.Errorf("process %d still runs", in.PID)
		}
	}
	return rec, s
}

// Real processes: a cold start each for the two that are allowed, one turned
// away, times in their order.
func TestColdStartsAndALimit(t *testing.T) {
	p, d := testProject("plain", false, "a", "b", "c")
	rec, s := run(t, p, d)
	if s.Events.Done != 2 || s.Events.Rejected != 1 || !s.Finished {
		t.Fatalf("events %+v", s.Events)
	}
	if f := s.Functions["f"]; f.Instances.Started != 2 || f.Latency.Cold.N < 1 || f.Latency.Cold.N+f.Latency.First.N+
		f.Latency.Warm.N != 2 || f.Statuses["200"] != 2 {
		t.Errorf("function %+v", f)
	}
	for _, v := range rec.Invocations {
		in := rec.Instances[v.Instance]
		order := []int64{1, int64(in.Spawned), int64(in.Exec), int64(in.Ready), int64(v.Assigned), int64(v.Sent),
			int64(v.Received), int64(v.Done), int64(in.Stopped)}
		for i := 1; i < len(order); i++ {
			if order[i] < order[i-1] {
				t.Errorf("times out of order: %v", order)
			}
		}
	}
}

// Closed loop: one caller, whose every call but the first is warm.
func TestCallersWaitForTheirAnswers(t *testing.T) {
	p, d := testProject("plain", false, "a", "b")
	d.Feeds[0].Phases = []arrival.Phase{{Pattern: arrival.Callers, Size: 1, For: 1500 * time.Millisecond}}
	rec, s := run(t, p, d)
	if f := s.Functions["f"]; f.Latency.Cold.N != 1 || f.Latency.Warm.N < 2 || f.Latency.Warm.N != s.Events.Done-1 ||
		f.Instances.Started != 1 {
		t.Errorf("cold %d, warm %d, instances %d", f.Latency.Cold.N, f.Latency.Warm.N, f.Instances.Started)
	}
	for i := 1; i < len(rec.Arrivals); i++ {
		if rec.Arrivals[i].Due < rec.Deliveries[i-1].Ended {
			t.Fatalf("call %d falls due before the answer to the one before it", i)
		}
	}
}

// What a source answers itself is not an event, whoever asks; callers go on at once.
func TestRequestsThatTheSourceAnswers(t *testing.T) {
	p, d := testProject("answers", false, "a", "b")
	p.Sets[0].Payloads[0].Request.Method = "OPTIONS"
	p.Sources[0].Wires[0].When.Method = "POST"
	d.Feeds[0].Phases = []arrival.Phase{{Pattern: arrival.Callers, Size: 2, For: 300 * time.Millisecond}}
	rec, s := run(t, p, d)
	if s.Events.Unmatched != 0 || s.Events.Done == 0 || s.Events.Done != s.Events.Arrived ||
		!strings.Contains(strings.Join(rec.Notes, "\n"),
			"of the requests were OPTIONS, which the source answers itself") {
		t.Errorf("%+v, %q", s.Events, rec.Notes)
	}
	p.Sets[0].Payloads = p.Sets[0].Payloads[:1] // and nothing else is asked
	if _, s = run(t, p, d); s.Events.Arrived != 0 {
		t.Errorf("%+v", s.Events)
	}
}

// A caller that is told when to come again does.
func TestCallersObeyRetryAfter(t *testing.T) {
	p, d := testProject("busy", false, "a")
	d.Feeds[0].Phases = []arrival.Phase{{Pattern: arrival.Callers, Size: 2, For: 1500 * time.Millisecond}}
	rec, s := run(t, p, d)
	if n := s.Functions["f"].Statuses["429"]; n < 2 || n > 4 || len(rec.Arrivals) != n {
		t.Errorf("two callers asked %d times in 1.5 s, with an answer that says to come again in one", n)
	}
}

func TestBatchesRetryAndFail(t *testing.T) {
	p, d := testProject("plain", true, `1`, `"once more"`, `3`, `"refuse"`)
	_, s := run(t, p, d)
	// e1 and e3 done at once, e2 at its second attempt, e4 refused twice; or e2 and e4 in one batch refused together
	if s.Events.Done+s.Events.Failed != 4 || s.Events.Failed < 1 || s.Functions["f"].Attempts < 6 {
		t.Errorf("events %+v, attempts %d", s.Events, s.Functions["f"].Attempts)
	}
}

// A flood of output, an ignored SIGTERM and a child of its own cost a function
// nothing but its grace time at the end, and leave no process.
func TestAnUnrulyFunction(t *testing.T) {
	p, d := testProject("floods", false, "a", "b", "c")
	d.Feeds[0].Phases = []arrival.Phase{{Pattern: arrival.Steady, Rate: arrival.Rate{Events: 100, Per: time.Second},
		For: 300 * time.Millisecond}}
	p.Sources[0].Wait = 5 * time.Second
	rec, s := run(t, p, d)
	if s.Events.Done != 30 {
		t.Errorf("events %+v", s.Events)
	}
	for _, in := range rec.Instances {
		// one that was still starting may have been stopped before it could ignore that
		if in.Ready > 0 && !strings.Contains(in.Exit, "killed by signal 9") {
			t.Errorf("instance ended as %q", in.Exit)
		}
		for end := time.Now().Add(2 * time.Minute); ; runtime.Gosched() {
			out, _ := exec.Command("ps", "-o", "pid=,stat=,args=", "-s", fmt.Sprint(in.PID)).Output()
			left := slices.DeleteFunc(strings.Split(strings.TrimSpace(string(out)), "\n"),
				func(l string) bool { return l == "" || strings.Contains(l, " Z") })
			if len(left) == 0 {
				break
			}
			if time.Now().After(end) {
				t.Fatalf("of its session there is left: %q", left)
			}
		}
	}
}

func TestTroubleIsNamed(t *testing.T) {
	for as, want := range map[string]string{
		"elsewhere": ", but on [127.0.0.1:",
		"exits": "f does not start: it exited with code 3 before it was ready; its last line: no tide table " +
			"·[31mfound·[0m",
		"never":   "f was not ready within 800 ms: it did not listen on the port that it was given",
		"crashes": "f crashed: it exited with code 7",
	} {
		t.Run(as, func(t *testing.T) {
			p, d := testProject(as, true, "1", "2", "3", "4")
			d.Settle = 50 * time.Second // less than idle_after
			switch as {
			case "elsewhere": // it must have been where it listens by then
				p.Functions[0].StartTimeout = 3 * time.Second
			case "never":
				p.Functions[0].StartTimeout = 800 * time.Millisecond
			default:
				p.Functions[0].StartTimeout = time.Minute
			}
			if as == "crashes" {
				p.Sources[0].BatchMax, d.Limits[0].Max = 1, 1
			}
			rec, s := run(t, p, d)
			if text := strings.Join(rec.Notes, "\n"); !strings.Contains(text, want) {
				t.Errorf("notes %q, want %q", text, want)
			}
			if f := s.Functions["f"]; as == "crashes" && f.Crashes == 0 || as != "crashes" && (s.Events.Failed != 4 ||
				f.Instances.FailedStarts < 2) {
				t.Errorf("events %+v, instances %+v, crashes %d", s.Events, f.Instances, f.Crashes)
			}
		})
	}
	p, d := testProject("plain", false, "a")
	p.Functions[0].Start = []string{"no-such-command-anywhere"}
	rec, s := run(t, p, d)
	if s.Events.Failed != 1 || !strings.Contains(strings.Join(rec.Notes, ""), "is not on the PATH") {
		t.Errorf("a missing command: %+v, %v", s.Events, rec.Notes)
	}
}

// An instance is ready when its condition says so, not when its port is open.
func TestReadyByAnswerAndByLine(t *testing.T) {
	for name, c := range map[string]struct {
		as    string
		ready plan.Ready
	}{
		"http": {"opens late", plan.Ready{By: plan.ReadyHTTP, Path: "/ready"}},
		"line": {"opens late", plan.Ready{By: plan.ReadyLine, Line: `^tables? \w+ here$`}},
	} {
		t.Run(name, func(t *testing.T) {
			p, d := testProject(c.as, false, "a")
			p.Functions[0].Ready = c.ready
			rec, s := run(t, p, d)
			if in := rec.Instances[0]; s.Events.Done != 1 || in.Ready.Sub(in.Spawned) < 150*time.Millisecond {
				t.Errorf("done %d, ready after %v", s.Events.Done, in.Ready.Sub(in.Spawned))
			}
		})
	}
}

func TestATimeOutStopsTheInstance(t *testing.T) {
	p, d := testProject("slow", false, "a")
	p.Functions[0].Timeout = 200 * time.Millisecond
	rec, s := run(t, p, d)
	if s.Events.Failed != 1 || s.Functions["f"].Timeouts != 1 || rec.Instances[0].Reason != engine.TimedOut {
		t.Errorf("events %+v, instance %+v", s.Events, rec.Instances[0])
	}
	if inv := rec.Invocations[0]; inv.Done.Sub(inv.Assigned) < 200*time.Millisecond || inv.Result != engine.Timeout {
		t.Errorf("invocation %+v", inv)
	}
}

// A live run's inputs, played again, give the effects and the outcomes that the
// run had.
func TestALiveRunIsReenacted(t *testing.T) {
	p, d := testProject("crashes", true, "1", `"refuse"`, `"once more"`, "4")
	d.Feeds[0].Phases = []arrival.Phase{{Pattern: arrival.Poisson, Rate: arrival.Rate{Events: 200, Per: time.Second},
		For: 500 * time.Millisecond}}
	var journal bytes.Buffer
	r := New(p, d, Config{ID: "test", Journal: &journal})
	r.Run(t.Context())
	var lived, played []string
	for _, x := range r.Snapshot().Deliveries {
		lived = append(lived, fmt.Sprint(x.Event, x.Outcome))
	}
	err := engine.Reenact(journal.Bytes(), func(_ *plan.Project, f *engine.Effect, _ []int64) {
		if f.Kind == engine.Ended {
			played = append(played, fmt.Sprint(f.Event, f.Outcome))
		}
	})
	if err != nil || len(lived) < 50 || !slices.Equal(lived, played) {
		t.Errorf("%v; the run had %d outcomes, played again %d, equal: %v", err, len(lived), len(played),
			slices.Equal(lived, played))
	}
	// one byte changed is noticed
	changed := bytes.Replace(journal.Bytes(), []byte(`"invocation":3`), []byte(`"invocation":4`), 1)
	if engine.Reenact(changed, nil) == nil {
		t.Error("a changed journal was played without a word")
	}
}

// Interrupted, a run keeps what it has and leaves nothing running.
func TestInterrupted(t *testing.T) {
	p, d := testProject("plain", false, "a")
	d.Feeds[0].Phases = []arrival.Phase{{Pattern: arrival.Steady, Rate: arrival.Rate{Events: 100, Per: time.Second},
		For: time.Hour}}
	ctx, cancel := context.WithCancel(t.Context())
	r := New(p, d, Config{ID: "test"})
	done := make(chan struct{})
	go func() { r.Run(ctx); close(done) }()
	for len(r.Snapshot().Invocations) < 5 {
		runtime.Gosched()
	}
	cancel()
	<-done
	rec := r.Snapshot()
	if rec.Finished || len(rec.Invocations) < 5 {
		t.Errorf("finished %v, %d invocations", rec.Finished, len(rec.Invocations))
	}
	if err := syscall.Kill(rec.Instances[0].PID, 0); err == nil {
		t.Error("the process still runs")
	}
}
