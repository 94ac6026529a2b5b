package session

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"runtime/debug"
	"runtime/metrics"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"nightdrill.dev/internal/core/arrival"
	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/live/logs"
	"nightdrill.dev/internal/live/proc"
	"nightdrill.dev/internal/live/runner"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/store"
)

// The test program is also the function: it answers two bytes, or the time at
// which it was asked.
func TestMain(m *testing.M) {
	if len(os.Args) == 2 && os.Args[1] == proc.WardenCommand {
		proc.Warden()
		return
	}
	switch os.Getenv("AS_FUNCTION") {
	case "":
		runner.Tune()
		farewell, err := proc.Guard(nil)
		if err != nil {
			panic(err)
		}
		code := m.Run()
		farewell()
		os.Exit(code)
	case "two bytes":
		serve(func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "ok") })
	case "says":
		says()
	case "busy": // for 20 ms by its own clock, and it says how long it really was
		serve(func(w http.ResponseWriter, _ *http.Request) {
			began := monotonic()
			for monotonic()-began < int64(20*time.Millisecond) {
			}
			fmt.Fprint(w, monotonic()-began)
		})
	case "when asked":
		serve(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, monotonic()) })
	case "when ready":
		l, err := net.Listen("tcp", "127.0.0.1:"+os.Getenv("PORT"))
		at := monotonic()
		if err != nil {
			panic(err)
		}
		http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			time.Sleep(200 * time.Millisecond) // so that each instance gets one
			fmt.Fprint(w, at)
		}))
	}
}

func serve(h http.HandlerFunc) {
	panic(http.ListenAndServe("127.0.0.1:"+os.Getenv("PORT"), h))
}

// monotonic is the machine's monotonic clock, the same in every process.
func monotonic() int64 {
	var ts unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_MONOTONIC, &ts); err != nil {
		panic(err)
	}
	return ts.Nano()
}

// open makes a session with one function of this program, and a drill for it.
func open(tb testing.TB, as string, limits plan.Limits, phases ...arrival.Phase) (*Workspace, *plan.Drill) {
	tb.Helper()
	dir := tb.TempDir()
	runs, err := store.Open(dir)
	if err != nil {
		tb.Fatal(err)
	}
	self, _ := os.Executable()
	p := &plan.Project{Name: "bars", Dir: dir, Concurrency: 100,
		Functions: []plan.Function{{Name: "f", Start: []string{self}, Env: []string{"AS_FUNCTION=" + as},
			Timeout: time.Minute, StartTimeout: time.Minute, Limits: limits}},
		Sources: []plan.Source{{Name: "s", Wait: time.Minute, Wires: []plan.Wire{{}}, DeadLetter: -1}},
		Sets: []payload.Set{{Name: "set", Payloads: []payload.Payload{{Request: &event.Request{Method: "GET",
			Target: "/"}}}}},
		Drills: []plan.Drill{{Name: "d", Seed: 1, Settle: 10 * time.Second, Limits: []plan.Limits{limits},
			Feeds: []plan.Feed{{Phases: phases}}}}}
	a, err := openAside(dir)
	if err != nil {
		tb.Fatal(err)
	}
	d, err := newWorkspace(&project.Loaded{Project: p}, runs, a, logs.New(""))
	if err != nil {
		tb.Fatal(err)
	}
	tb.Cleanup(func() { d.Close() })
	return d, &p.Drills[0]
}

func carryOut(tb testing.TB, d *Workspace, drill *plan.Drill) (*Running, *record.Run) {
	tb.Helper()
	r, err := d.Start(context.Background(), drill, nil)
	if err != nil {
		tb.Fatal(err)
	}
	<-r.Done()
	if r.Err() != nil {
		tb.Fatal(r.Err())
	}
	return r, r.Snapshot()
}

const callers = 8

// BenchmarkFlatOut: eight callers, a function that answers two bytes, recording
// on. It is measured against a bare loop of net/http's client, and against a bare
// loop over one connection for each caller, in nine interleaved rounds.
func BenchmarkFlatOut(b *testing.B) {
	self, _ := os.Executable()
	flatOut(b, 200*time.Millisecond, self)
}

// BenchmarkFlatOutServed is the same with functions served as people serve theirs, by Python and by Node: the driver
// must not be what limits them.
func BenchmarkFlatOutServed(b *testing.B) {
	for name, script := range map[string][]string{"python3": {"-c", `
import os
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
class Two(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    def do_GET(self):
        self.wfile.write(b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
    def log_message(self, *_): pass
ThreadingHTTPServer(("127.0.0.1", int(os.environ["PORT"])), Two).serve_forever()`},
		"node": {"-e", `require("http").createServer((q, r) => r.end("ok")).listen(+process.env.PORT, "127.0.0.1")`}} {
		b.Run(name, func(b *testing.B) {
			program, err := exec.LookPath(name)
			if err != nil {
				b.Skipf("NOT MEASURED: %s is not installed", name)
			}
			// the other loops ask a process that has run for long, and of which the hot parts have been compiled
			flatOut(b, 3*time.Second, append([]string{program}, script...)...)
		})
	}
}

// rounds returns how often something is measured: once where it is only to be seen that it can be.
func rounds(n int) int {
	if testing.Short() {
		return 1
	}
	return n
}

// flatOut measures a function once it has been busy for a time.
func flatOut(b *testing.B, warm time.Duration, command ...string) {
	const span = 700 * time.Millisecond
	limits := plan.Limits{Max: callers, PerInstance: callers, KeepWarm: 1, IdleAfter: time.Minute}
	port, _ := proc.FreePort()
	other := exec.Command(command[0], command[1:]...)
	other.Env = append(os.Environ(), "AS_FUNCTION=two bytes", "PORT="+strconv.Itoa(port))
	if err := other.Start(); err != nil {
		b.Fatal(err)
	}
	defer other.Process.Kill()
	address := "127.0.0.1:" + strconv.Itoa(port)
	for {
		if c, err := net.Dial("tcp", address); err == nil {
			c.Close()
			break
		}
	}
	ours := func() float64 {
		d, drill := open(b, "two bytes", limits, arrival.Phase{Pattern: arrival.Callers, Size: callers,
			For: span + warm + 1100*time.Millisecond})
		d.Project.Functions[0].Start = command
		_, run := carryOut(b, d, drill)
		n, first := 0, run.Length // the start is left out
		for i := range run.Invocations {
			first = min(first, run.Invocations[i].Done)
		}
		first = first.Add(warm)
		for i := range run.Invocations {
			if at := run.Invocations[i].Done; at > first && at <= first.Add(span) {
				n++
			}
		}
		return float64(n) / span.Seconds()
	}
	var byClient, byConn []float64
	for b.Loop() {
		byClient, byConn = nil, nil
		var rate float64
		for range rounds(9) {
			a := ours()
			client := loop(span, func() func() error {
				c := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: callers}}
				return func() error {
					resp, err := c.Do(request(address))
					if err != nil {
						return err
					}
					_, err = io.Copy(io.Discard, resp.Body)
					resp.Body.Close()
					return err
				}
			})
			conn := loop(span, func() func() error {
				c, err := net.Dial("tcp", address)
				if err != nil {
					b.Fatal(err)
				}
				in, out := bufio.NewReader(c), bufio.NewWriter(c)
				req := request(address)
				return func() error {
					if err := req.Write(out); err != nil {
						return err
					}
					if err := out.Flush(); err != nil {
						return err
					}
					resp, err := http.ReadResponse(in, req)
					if err != nil {
						return err
					}
					_, err = io.Copy(io.Discard, resp.Body)
					return err
				}
			})
			byClient, byConn, rate = append(byClient, a/client), append(byConn, a/conn), a
		}
		b.ReportMetric(rate, "calls/s")
	}
	reportRatios(b, byClient, "of-net/http-client")
	reportRatios(b, byConn, "of-bare-connections")
}

// request is the request that the drill sends too, byte for byte in length.
func request(address string) *http.Request {
	req, _ := http.NewRequest("GET", "http://"+address+"/", nil)
	req.Header.Set("User-Agent", "nightdrill")
	req.Header.Set("Traceparent", "00-0000000000000001000000000000000f-00000000000000ff-01")
	return req
}

// loop runs eight callers for a time and returns their calls a second.
func loop(span time.Duration, caller func() func() error) float64 {
	var wg sync.WaitGroup
	var mu sync.Mutex
	total := 0
	end := time.Now().Add(span)
	for range callers {
		call := caller()
		wg.Go(func() {
			n := 0
			for ; time.Now().Before(end); n++ {
				if err := call(); err != nil {
					panic(err)
				}
			}
			mu.Lock()
			total += n
			mu.Unlock()
		})
	}
	wg.Wait()
	return float64(total) / span.Seconds()
}

// reportRatios reports the median of ratios, with the smallest and the largest.
func reportRatios(b *testing.B, ratios []float64, unit string) {
	slices.Sort(ratios)
	b.ReportMetric(ratios[len(ratios)/2], unit)
	b.Logf("%s: median %.3f, from %.3f to %.3f", unit, ratios[len(ratios)/2], ratios[0], ratios[len(ratios)-1])
}

func percentile(x []time.Duration, q float64) time.Duration {
	slices.Sort(x)
	return x[min(int(float64(len(x))*q), len(x)-1)]
}

// BenchmarkRecording: the flat-out rate with runs written to the store and without, in
// turns, and the order of the two in turns as well.
func BenchmarkRecording(b *testing.B) {
	const span = 700 * time.Millisecond
	limits := plan.Limits{Max: callers, PerInstance: callers, KeepWarm: 1, IdleAfter: time.Minute}
	rate := func(unkept bool) float64 {
		d, drill := open(b, "two bytes", limits, arrival.Phase{Pattern: arrival.Callers, Size: callers,
			For: span + 300*time.Millisecond})
		d.unkept = unkept
		_, run := carryOut(b, d, drill)
		n := 0
		for i := range run.Invocations {
			if at := run.Invocations[i].Done; at > clock.Time(300*time.Millisecond) &&
				at <= clock.Time(300*time.Millisecond+span) {
				n++
			}
		}
		return float64(n)
	}
	var ratios []float64
	for b.Loop() {
		ratios = nil
		for i := range rounds(30) {
			var with, without float64
			if i%2 == 0 {
				with, without = rate(false), rate(true)
			} else {
				without, with = rate(true), rate(false)
			}
			ratios = append(ratios, with/without)
		}
	}
	reportRatios(b, ratios, "of-not-recording")
}

// BenchmarkLag: a thousand events a second for 20 s. How late the driver takes
// and sends them, and how late the function, by its own clock, gets them.
func BenchmarkLag(b *testing.B) {
	for rate, lasts := range map[int]time.Duration{1000: 20 * time.Second, 5000: 8 * time.Second} {
		b.Run(fmt.Sprint(rate), func(b *testing.B) {
			for b.Loop() {
				if testing.Short() {
					lasts = 2 * time.Second
				}
				lag(b, rate, lasts)
			}
		})
	}
}

// lag reports the lags at a rate.
func lag(b *testing.B, rate int, lasts time.Duration) {
	limits := plan.Limits{Max: 8, PerInstance: 8, KeepWarm: 1, IdleAfter: time.Minute}
	d, drill := open(b, "when asked", limits,
		// until it is warm
		arrival.Phase{Pattern: arrival.Steady, Rate: arrival.Rate{Events: 10, Per: time.Second}, For: time.Second},
		arrival.Phase{Pattern: arrival.Steady, Rate: arrival.Rate{Events: rate, Per: time.Second},
			For: lasts})
	r, run := carryOut(b, d, drill)
	zero := monotonic() - int64(r.At(time.Now())) // the run's beginning, by the common clock
	place := map[uint64]*record.Invocation{}
	for i := range run.Invocations {
		place[run.Invocations[i].ID] = &run.Invocations[i]
	}
	var taken, sent, received []time.Duration
	for i := range run.Attempts {
		a, v := &run.Attempts[i], place[run.Attempts[i].Invocation]
		due := run.Arrivals[a.Event].Due
		if v == nil || due < clock.Time(time.Second) || v.Reply == 0 {
			continue
		}
		_, body, _ := strings.Cut(string(run.Blobs[v.Reply-1]), "\n\n")
		at, err := strconv.ParseInt(body, 10, 64)
		if err != nil {
			b.Fatalf("reply %q", body)
		}
		taken = append(taken, run.Arrivals[a.Event].Arrived.Sub(due))
		sent = append(sent, v.Sent.Sub(due))
		received = append(received, time.Duration(at-zero-int64(due)))
	}
	if !testing.Short() && len(taken) < rate*int(lasts/time.Second)*19/20 {
		b.Fatalf("only %d events", len(taken))
	}
	for name, x := range map[string][]time.Duration{"taken": taken, "sent": sent, "received": received} {
		b.ReportMetric(figure.Milliseconds(percentile(x, 0.5)), name+"-p50-ms")
		b.ReportMetric(figure.Milliseconds(percentile(x, 0.99)), name+"-p99-ms")
	}
}

// BenchmarkReady: how long after the function began to listen, by its own
// clock, that is noticed, with one and with twenty starting at once.
func BenchmarkReady(b *testing.B) {
	for _, n := range []int{1, 20} {
		b.Run(fmt.Sprintf("%d at once", n), func(b *testing.B) {
			var late []time.Duration
			for b.Loop() {
				late = late[:0]
				for range rounds(200 / n) {
					limits := plan.Limits{Max: n, PerInstance: 1, IdleAfter: time.Minute}
					d, drill := open(b, "when ready", limits, arrival.Phase{Pattern: arrival.Burst, Size: n,
						Every: time.Second, For: time.Second})
					r, run := carryOut(b, d, drill)
					zero := monotonic() - int64(r.At(time.Now()))
					for i := range run.Invocations {
						v := &run.Invocations[i]
						if v.Class != engine.Cold && v.Class != engine.First || v.Reply == 0 {
							continue
						}
						_, body, _ := strings.Cut(string(run.Blobs[v.Reply-1]), "\n\n")
						at, _ := strconv.ParseInt(body, 10, 64)
						late = append(late, time.Duration(zero+int64(run.Instances[v.Instance].Ready)-at))
					}
				}
			}
			b.ReportMetric(figure.Milliseconds(percentile(late, 0.5)), "p50-ms")
			b.ReportMetric(figure.Milliseconds(percentile(late, 0.99)), "p99-ms")
			b.ReportMetric(float64(len(late)), "starts")
		})
	}
}

// watchHeap returns a function that reports the most bytes that the program's heap held since.
func watchHeap() func() uint64 {
	debug.FreeOSMemory()
	var most atomic.Uint64
	end, ended := make(chan bool), make(chan bool)
	go func() {
		defer close(ended)
		tick := time.NewTicker(5 * time.Millisecond)
		defer tick.Stop()
		of := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}
		for {
			select {
			case <-end:
				return
			case <-tick.C:
				metrics.Read(of)
				most.Store(max(most.Load(), of[0].Value.Uint64()))
			}
		}
	}()
	return func() uint64 {
		close(end)
		<-ended
		return most.Load()
	}
}

// BenchmarkOpenLarge: a run of a million invocations is opened for its findings,
// and whole, for its lanes.
func BenchmarkOpenLarge(b *testing.B) {
	n := 1_000_000
	if more, err := strconv.Atoi(os.Getenv("NIGHTDRILL_LARGE")); err == nil {
		n = more
	}
	d, _ := open(b, "", plan.Limits{})
	run := &record.Run{ID: "large", Drill: "d", Functions: []record.Function{{Name: "f", PerInstance: 1}},
		Sources: []record.Source{{Name: "s", To: []int{0}}}, Finished: true}
	for i := range 40 {
		run.Instances = append(run.Instances, record.Instance{ID: int32(i), Number: int32(i + 1), Ready: 1})
	}
	for i := range n {
		at := clock.Time(i) * clock.Time(time.Millisecond)
		run.Arrivals = append(run.Arrivals, record.Arrival{Due: at, Arrived: at + 40_000, From: -1})
		run.Invocations = append(run.Invocations, record.Invocation{ID: uint64(i + 1), Instance: int32(i % 40),
			Assigned: at + 40_000, Sent: at + 60_000, Received: at + 900_000 + clock.Time(i%1000)*1000,
			Done: at + 910_000 + clock.Time(i%1000)*1000, Status: 200, Batch: 1})
		run.Attempts = append(run.Attempts, record.Attempt{Event: int64(i), Invocation: uint64(i + 1), N: 1})
		run.Deliveries = append(run.Deliveries, record.Delivery{Event: int64(i), Invocation: uint64(i + 1),
			Ended: at + 950_000, Attempts: 1})
	}
	w, err := d.Runs.Begin(run, time.Now())
	if err != nil {
		b.Fatal(err)
	}
	for k := 5000; k < n; k += 5000 { // in the blocks of a run that is written every half second
		part := *run
		part.Arrivals, part.Invocations, part.Attempts, part.Deliveries = run.Arrivals[:k], run.Invocations[:k],
			run.Attempts[:k], run.Deliveries[:k]
		if err := w.Append(&part); err != nil {
			b.Fatal(err)
		}
	}
	began := time.Now()
	page := report.NewPage(run)
	b.Logf("the findings were computed in %v", time.Since(began))
	if err := w.Finish(run, page); err != nil {
		b.Fatal(err)
	}
	b.Run("findings", func(b *testing.B) {
		for b.Loop() {
			if p, err := d.Runs.Page("large"); err != nil || p.Summary.Events.Done != n {
				b.Fatal(err)
			}
		}
	})
	// read, sifted, and its findings computed: what takes a third of it, and what takes a hundredth; whole, and as
	// a large run is, which is never whole in memory
	third := record.Filter{Function: "f", From: 100 * time.Second, Longer: 1500 * time.Microsecond}
	hundredth := third
	hundredth.Longer = 1900 * time.Microsecond
	filter := func(b *testing.B, least, most int, read func() (*record.Run, error)) {
		run = nil // what is measured is the memory of the filter
		peak := watchHeap()
		for b.Loop() {
			r, err := read()
			if err != nil {
				b.Fatal(err)
			}
			p := report.NewPage(r)
			if left := p.Summary.Events.Done; left < least || left > most {
				b.Fatalf("%d are left", left)
			}
		}
		b.ReportMetric(float64(peak())/(1<<20), "MiB-at-most")
	}
	b.Run("filter", func(b *testing.B) {
		filter(b, n*3/10, n/2, func() (*record.Run, error) {
			r, err := d.Runs.Load("large")
			if err == nil {
				r = r.Filter(third)
			}
			return r, err
		})
	})
	b.Run("filter as it is read, a third", func(b *testing.B) {
		filter(b, n*3/10, n/2, func() (*record.Run, error) { return d.Runs.Filter("large", third) })
	})
	b.Run("filter as it is read, a hundredth", func(b *testing.B) {
		filter(b, n/200, n/20, func() (*record.Run, error) { return d.Runs.Filter("large", hundredth) })
	})
	b.Run("lanes", func(b *testing.B) {
		for b.Loop() {
			if r, err := d.Runs.Load("large"); err != nil || len(r.Invocations) != n {
				b.Fatal(err)
			}
		}
	})
}
