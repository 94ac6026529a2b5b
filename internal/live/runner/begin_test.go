package runner

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"nightdrill.dev/internal/core/arrival"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/live/logs"
	"nightdrill.dev/internal/live/transport"
	"nightdrill.dev/internal/store"
)

// A drill begins when the instances that are kept warm are ready: what comes first finds
// them. `begin: empty` starts with none; and what does not start is said, and does not
// hold the drill up.
func TestADrillBeginsWarm(t *testing.T) {
	p, d := testProject("plain", false, "a", "b")
	p.Functions[0].Limits.KeepWarm, d.Limits[0].KeepWarm = 2, 2
	rec, s := run(t, p, d)
	if rec.Begins == 0 || rec.Arrivals[0].Due < rec.Begins || s.Events.Done != 2 {
		t.Fatalf("begins at %v, the first is due at %v, %+v", rec.Begins, rec.Arrivals[0].Due, s.Events)
	}
	for i, in := range rec.Instances {
		if in.Ready == 0 || in.Ready > rec.Begins {
			t.Errorf("instance %d is ready at %v, after %v", i, in.Ready, rec.Begins)
		}
	}
	for _, v := range rec.Invocations {
		if v.Class != engine.First {
			t.Errorf("an invocation is %v", v.Class)
		}
	}

	d.BeginEmpty = true
	if rec, s := run(t, p, d); rec.Begins != 0 || rec.Arrivals[0].Due != 0 || s.Functions["f"].Latency.Cold.N == 0 {
		t.Errorf("begins at %v, the first is due at %v: %+v", rec.Begins, rec.Arrivals[0].Due, s.Functions["f"].Latency)
	}

	// one that is ready, and then ends again and again
	p, d = testProject("misbehaves: ready and then exits", false, "a")
	p.Functions[0].Limits.KeepWarm, d.Limits[0].KeepWarm = 2, 2
	d.Settle = 200 * time.Millisecond
	if rec, s := run(t, p, d); s.Events.Arrived != 1 || rec.Begins == 0 {
		t.Errorf("begins at %v: %+v, %q", rec.Begins, s.Events, rec.Notes)
	}

	p, d = testProject("exits", false, "a")
	p.Functions[0].Limits.KeepWarm, d.Limits[0].KeepWarm = 1, 1
	d.Settle = 200 * time.Millisecond
	if rec, s = run(t, p, d); s.Events.Arrived != 1 || !strings.Contains(strings.Join(rec.Notes, "\n"),
		"f: the drill began with 0 of the 1 instances that keep_warm asks for") {
		t.Errorf("%+v, %q", s.Events, rec.Notes)
	}
}

// A function that answers twice is found out: no reply is taken for that of another
// request.
func TestAFunctionThatAnswersTwice(t *testing.T) {
	p, d := testProject("misbehaves: answers twice", false, "a")
	d.Feeds[0].Phases = []arrival.Phase{{Pattern: arrival.Steady, Rate: arrival.Rate{Events: 100, Per: time.Second},
		For: 300 * time.Millisecond}}
	p.Sources[0].Wait = 50 * time.Second
	rec, s := run(t, p, d)
	// at full speed a surplus reply may come after the look for it, and be found later: how many
	// are found depends on the machine
	if e := &s.Events; e.Failed+e.Unexpected == 0 {
		t.Errorf("%+v, %q", s.Events, rec.Notes)
	}
}

// Where a reply too many comes so late that it is taken for the next one, and no pause shows it, none of the replies
// that are those of other requests passes for a good one, also in what was written of the run meanwhile.
func TestAReplyThatIsTakenForTheNext(t *testing.T) {
	p, d := testProject("misbehaves: answers once too often", false, "a")
	d.Feeds[0].Phases = []arrival.Phase{{Pattern: arrival.Callers, Size: 1, For: 400 * time.Millisecond}}
	runs, err := store.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer runs.Close()
	x := New(p, d, Config{ID: "20260101-000000-aa"})
	x.awaited = true
	w, err := runs.Begin(x.Snapshot(), time.Now())
	if err != nil {
		t.Fatal(err)
	}
	over := make(chan struct{})
	go func() {
		defer close(over)
		x.Run(t.Context())
	}()
	for n := range 60 { // as often as it is possible from then on
		x.await(t.Context(), func() bool { return len(x.rec.Invocations) >= 20+n || x.over })
		if err := w.Append(x.Snapshot()); err != nil {
			t.Fatal(err)
		}
	}
	<-over
	rec := x.Snapshot()
	if err := w.Finish(rec, report.NewPage(rec)); err != nil {
		t.Fatal(err)
	}
	blobs := rec.Blobs
	if rec, err = runs.Load(rec.ID); err != nil {
		t.Fatal(err)
	}
	others := 0
	for i := range rec.Invocations {
		v := &rec.Invocations[i]
		if v.Result != engine.OK {
			continue
		}
		reply := string(blobs[v.Reply-1])
		if own := strings.HasSuffix(reply, fmt.Sprintf("\n\n%d", v.ID)); !own {
			if others++; !v.Unexpected {
				t.Fatalf("invocation %d has the reply %q for a good one", v.ID, reply)
			}
		}
	}
	t.Logf("%d replies of %d were those of others", others, len(rec.Invocations))
}

// A reply that is left over when an instance is stopped is found, unless a request is on its way.
func TestAReplyThatIsLeftOver(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	more := make(chan bool)
	go func() {
		if c, err := l.Accept(); err == nil {
			for range 2 {
				fmt.Fprint(c, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
				<-more
			}
		}
	}()
	p, d := testProject("plain", false, "a")
	x := New(p, d, Config{ID: "test"})
	x.records = make([]record.Instance, 1)
	s := &slot{in: &instance{d: x.Runner, fn: &p.Functions[0]}, conn: transport.New(l.Addr().String())}
	s.in.slots = []*slot{s}
	if r := s.conn.Do(t.Context(), &transport.Message{Method: "GET", Target: "/"}, ""); r.Result != engine.OK {
		t.Fatal(r.Why)
	}
	for i, busy := range []bool{false, true, false} {
		if s.busy = busy; i > 0 {
			for !s.conn.Surplus() {
			}
		}
		x.leftover(s.in)
		if found := len(x.doubts) > 0; found != (i == 2) {
			t.Errorf("look %d: found %v", i, found)
		}
		if i == 0 {
			more <- true
		}
	}
}

func init() {
	programs["ready and then exits"] = func(net.Listener, *atomic.Int32) http.HandlerFunc {
		time.AfterFunc(30*time.Millisecond, func() { os.Exit(4) })
		return nil
	}
	programs["answers twice"] = raw(func(c net.Conn) {
		buffer := make([]byte, 4096)
		for {
			for range 2 {
				if _, err := io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok"); err != nil {
					return
				}
			}
			if _, err := c.Read(buffer); err != nil {
				return
			}
		}
	})
}

func init() {
	var requests atomic.Int32
	programs["answers once too often"] = raw(func(c net.Conn) {
		in := bufio.NewReader(c)
		for { // the first request has been read
			n := requests.Add(1)
			if n == 21 {
				fmt.Fprint(c, "HTTP/1.1 200 OK\r\nContent-Length: 1\r\n\r\n0")
				_, _ = in.Peek(1) // until it has been taken: the next request is there
			}
			fmt.Fprintf(c, "HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n%d", len(fmt.Sprint(n)), n)
			r, err := http.ReadRequest(in)
			if err != nil {
				return
			}
			_, _ = io.Copy(io.Discard, r.Body)
		}
	})
}

// A stop of the driver itself is recorded.
func TestAGapOfTheDriverIsRecorded(t *testing.T) {
	p, d := testProject("plain", false, "a")
	d.Feeds[0].Phases = []arrival.Phase{{Pattern: arrival.Steady, Rate: arrival.Rate{Events: 50, Per: time.Second},
		For: 1500 * time.Millisecond}}
	r := New(p, d, Config{ID: "test"})
	r.awaited = true
	over := make(chan struct{})
	go func() {
		defer close(over)
		r.Run(t.Context())
	}()
	r.await(t.Context(), func() bool { return len(r.rec.Invocations) >= 15 })
	stopSelf(t, 300*time.Millisecond)
	<-over
	rec := r.Snapshot()
	longest := time.Duration(0)
	for _, g := range rec.Self.Gaps {
		longest = max(longest, g.To.Sub(g.From))
	}
	if longest < 250*time.Millisecond {
		t.Errorf("the longest gap is %v of %v", longest, rec.Self.Gaps)
	}
}

// stopSelf stops this process, and has it woken after a time.
func stopSelf(t *testing.T, d time.Duration) {
	t.Helper()
	pid := syscall.Getpid()
	wake := []string{"/bin/sh", "-c", fmt.Sprintf("sleep %g; kill -CONT %d", d.Seconds(), pid)}
	child, err := syscall.ForkExec(wake[0], wake, &syscall.ProcAttr{Env: []string{"PATH=/usr/bin:/bin"}})
	if err != nil {
		t.Fatal(err)
	}
	if err := syscall.Kill(pid, syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	var status syscall.WaitStatus
	_, _ = syscall.Wait4(child, &status, 0, nil) // gone
}

// What Night Drill ends itself is said so in the log, with the reason.
func TestTheLogSaysWhoEndedAnInstance(t *testing.T) {
	p, d := testProject("plain", false, "a")
	p.Functions[0].Limits.IdleAfter, d.Limits[0].IdleAfter = 20*time.Millisecond, 20*time.Millisecond
	l := logs.New("")
	r := New(p, d, Config{ID: "test", Log: l})
	r.Run(t.Context())
	var said []string
	for _, e := range l.Up(l.Last(), 100, func(e *logs.Entry) bool { return e.Kind == logs.Stopped }) {
		said = append(said, e.Text)
	}
	if len(said) != 1 || said[0] != "stopped: idle" {
		t.Errorf("the log says %q", said)
	}
}

// More arrivals than the machine can make fall behind, which is measured, and the run ends
// when it is told to.
func TestArrivalsThatCannotBeMade(t *testing.T) {
	p, d := testProject("plain", false, "a")
	d.Feeds[0].Phases = []arrival.Phase{{Pattern: arrival.Steady, Rate: arrival.Rate{Events: 20_000_000,
		Per: time.Second}, For: time.Hour}}
	ctx, stop := context.WithCancel(t.Context())
	r := New(p, d, Config{ID: "test"})
	over := make(chan struct{})
	go func() {
		defer close(over)
		r.Run(ctx)
	}()
	until(t, "events are taken", func() bool { return len(r.Snapshot().Arrivals) > 100_000 })
	stop()
	<-over
	rec := r.Snapshot()
	last := rec.Arrivals[len(rec.Arrivals)-1]
	if behind := last.Arrived.Sub(last.Due); rec.Finished || behind <= 0 {
		t.Errorf("finished %v, the last of %d was taken %v after it was due", rec.Finished, len(rec.Arrivals), behind)
	}
}
