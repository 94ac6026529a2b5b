package runner

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/live/logs"
	"nightdrill.dev/internal/live/transport"
)

// stand runs a follower on the test project.
func stand(t *testing.T, as string, queue bool, change func(*plan.Project)) (*Follower, *plan.Project) {
	t.Helper()
	p, _ := testProject(as, queue, "x")
	if change != nil {
		change(p)
	}
	c := Config{ID: "test", Log: logs.New("")}
	for i := range p.Functions {
		f := p.Functions[i]
		c.Code = append(c.Code, Code{Function: &f, Version: "v1"})
	}
	d := Follow(plan.Expand(p), c)
	ctx, end := context.WithCancel(context.Background())
	over := make(chan struct{})
	go func() { d.Run(ctx); close(over) }()
	t.Cleanup(func() { end(); <-over })
	return d, p
}

func post(body string) *payload.Payload {
	return &payload.Payload{Request: &event.Request{Method: "POST", Target: "/x", Body: []byte(body)}}
}

func message(id, data string) *payload.Payload {
	return &payload.Payload{Event: &event.Event{ID: id, Source: "t", Type: "t", Data: []byte(data)}}
}

func fire(t *testing.T, d *Follower, s Event) Trace {
	t.Helper()
	tr := d.Fire(s)
	select {
	case <-tr.Done():
	case <-time.After(2 * time.Minute):
		t.Fatalf("it is not over: %+v", d.Look(tr))
	}
	return d.Look(tr)
}

// Instances are replaced under load and nothing is lost: every event is done,
// first by the old version, in the end by the new one alone.
func TestReplacedUnderLoad(t *testing.T) {
	d, p := stand(t, "plain", false, func(p *plan.Project) { p.Sources[0].Wait = 10 * time.Second })
	stop := make(chan struct{})
	var workers sync.WaitGroup
	var done, other atomic.Int64
	seen := sync.Map{}
	for range 4 {
		workers.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				v := fire(t, d, Event{Payload: post("a"), Routes: 1})
				if last := v.Attempts[len(v.Attempts)-1]; v.Ended[0].Outcome == engine.Done &&
					last.Reply.Status == 200 {
					done.Add(1)
					seen.Store(last.Version, true)
				} else {
					other.Add(1)
					t.Errorf("an event was %v: %+v", v.Ended[0].Outcome, last)
				}
			}
		})
	}
	for n := 2; n <= 4; n++ {
		until(t, "answers", func() bool { return done.Load() > int64(20*n) })
		d.Renew(0, &p.Functions[0], fmt.Sprintf("v%d", n))
		until(t, "the new version", func() bool { return d.Stats()[0].Outdated == 0 })
	}
	close(stop)
	workers.Wait()
	if v := fire(t, d, Event{Payload: post("a"), Routes: 1}); v.Attempts[0].Version != "v4" {
		t.Errorf("in the end %s answers", v.Attempts[0].Version)
	}
	for _, version := range []string{"v1", "v4"} {
		if _, ok := seen.Load(version); !ok {
			t.Errorf("%s never answered", version)
		}
	}
	t.Logf("%d done, %d not", done.Load(), other.Load())
}

func until(t *testing.T, what string, holds func() bool) {
	t.Helper()
	tick := time.NewTicker(2 * time.Millisecond)
	defer tick.Stop()
	for end := time.Now().Add(2 * time.Minute); !holds(); <-tick.C {
		if time.Now().After(end) {
			t.Fatalf("never: %s", what)
		}
	}
}

// An event's track has every attempt with its reply, also of those that share a
// batch; cold ones begin with none running.
func TestTracks(t *testing.T) {
	d, _ := stand(t, "plain", true, nil)
	a := d.Fire(Event{Payload: message("a", `"fine"`), Routes: 1})
	b := d.Fire(Event{Payload: message("b", `"refuse"`), Routes: 1})
	<-a.Done()
	<-b.Done()
	x, y := d.Look(a), d.Look(b)
	// together they are refused; apart, or together again, b is given up
	if len(y.Attempts) != 2 || y.Ended[0].Outcome != engine.Failed || y.Attempts[1].Reply.Status != 422 ||
		y.Attempts[1].N != 2 {
		t.Errorf("the refused one: %+v", y)
	}
	if len(x.Attempts) == 0 || x.Attempts[0].Invocation.ID != y.Attempts[0].Invocation.ID ||
		x.Attempts[0].Invocation.Batch != 2 {
		t.Errorf("they did not share a batch: %+v, %+v", x.Attempts[0], y.Attempts[0])
	}
	first := x.Attempts[0]
	if first.Invocation.Class != engine.Cold || first.Name != "f-1" || first.Version != "v1" ||
		first.Instance.Ready == 0 || first.Invocation.Done <= first.Invocation.Sent {
		t.Errorf("the first attempt: %+v", first)
	}
	cold := fire(t, d, Event{Payload: message("c", `"fine"`), Routes: 1, Cold: true})
	if last := cold.Attempts[0]; last.Invocation.Class != engine.Cold || last.Name == "f-1" {
		t.Errorf("fired cold: %+v", last)
	}
	if d.Weight(a) != len(`"fine"`) || len(d.traces) != 0 {
		t.Errorf("%d tracks are held", len(d.traces))
	}
	if none := fire(t, d, Event{Payload: message("d", `1`)}); none.Ended[0].Outcome != engine.Unmatched ||
		len(none.Attempts) != 0 {
		t.Errorf("taken by no wire: %+v", none)
	}
}

// A crash, a timeout, a start that fails: each attempt says why.
func TestWhyAnAttemptFailed(t *testing.T) {
	for as, want := range map[string]string{
		"crashes": "crashed: it exited with code 7", "slow": "did not reply within 150 ms",
		"exits": "does not start: it exited with code 3 before it was ready; its last line: no tide table",
		"never": "was not ready within 300 ms: it did not listen on the port that it was given",
	} {
		t.Run(as, func(t *testing.T) {
			d, _ := stand(t, as, false, func(p *plan.Project) {
				p.Functions[0].Timeout, p.Functions[0].StartTimeout = 150*time.Millisecond, 300*time.Millisecond
				p.Functions[0].Limits.Max = 1
				if as == "crashes" {
					p.Functions[0].Timeout, p.Functions[0].StartTimeout = 5*time.Second, 5*time.Second
				} else if as != "never" {
					p.Functions[0].StartTimeout = 5 * time.Second
				}
			})
			var v Trace
			for range 3 { // the third one crashes
				v = fire(t, d, Event{Payload: post("a"), Routes: 1})
			}
			last := v.Attempts[len(v.Attempts)-1]
			if v.Ended[0].Outcome != engine.Failed || !strings.Contains(last.Why, want) {
				t.Errorf("%v: %q, want %q", v.Ended[0].Outcome, last.Why, want)
			}
			if trouble := d.Trouble(0); as != "slow" && (!strings.Contains(trouble.Text, want) ||
				trouble.Started != (as == "crashes") || trouble.Version != "v1") {
				t.Errorf("the function's trouble is %+v", trouble)
			}
		})
	}
}

// Of a reply all is kept; of long ago, its beginning.
func TestLongRepliesAreTrimmed(t *testing.T) {
	big := strings.Repeat("z", 200<<10)
	server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w,
			big)
	})}
	d, _ := stand(t, "plain", false, func(p *plan.Project) {
		l := listen(t)
		go func() { _ = server.Serve(l) }()
		p.Functions[0] = plan.Function{Name: "f", Transport: plan.Attach, Address: l.Addr().String(),
			Timeout: 5 * time.Second, StartTimeout: time.Second, Limits: plan.Limits{Max: 4, PerInstance: 4,
				IdleAfter: time.Minute}}
	})
	defer server.Close()
	tr := d.Fire(Event{Payload: post("a"), Routes: 1})
	<-tr.Done()
	v := d.Look(tr)
	if r := v.Attempts[0].Reply; string(r.Body) != big || v.Attempts[0].Invocation.Class != engine.Warm ||
		d.Weight(tr) != len(big)+len("a") {
		t.Errorf("%d bytes, %v", len(r.Body), v.Attempts[0].Invocation.Class)
	}
	d.Trim(tr, transport.Kept)
	if d.Weight(tr) != transport.Kept+len("a") || len(v.Attempts[0].Reply.Body) != len(big) {
		t.Errorf("trimmed, it has %d bytes; what was looked at before has %d", d.Weight(tr),
			len(v.Attempts[0].Reply.Body))
	}
	if address := d.Address(0); address == "" || d.Version(0) != "v1" {
		t.Errorf("it is at %q, version %q", address, d.Version(0))
	}
	// gone and back: the connection is made anew
	server.Close()
	if v := fire(t, d, Event{Payload: post("a"), Routes: 1}); v.Ended[0].Outcome != engine.Failed {
		t.Errorf("gone, it is %v", v.Ended[0].Outcome)
	}
}

// The function's own stop command comes before any signal.
func TestTheStopCommand(t *testing.T) {
	dir := t.TempDir()
	d, _ := stand(t, "plain", false, func(p *plan.Project) {
		p.Functions[0].Dir = dir
		p.Functions[0].Stop = []string{"sh", "-c", "echo {instance} $PORT > stopped"}
		p.Functions[0].Limits.IdleAfter = 50 * time.Millisecond
	})
	v := fire(t, d, Event{Payload: post("a"), Routes: 1})
	until(t, "the stop", func() bool {
		d.mu.Lock()
		defer d.mu.Unlock()
		return d.records[0].Stopped > 0
	})
	text := read(t, dir+"/stopped")
	if !strings.HasPrefix(text, "f-"+d.tag+"-0 ") || v.Attempts[0].Name != "f-1" {
		t.Errorf("the command wrote %q", text)
	}
}

func listen(t *testing.T) net.Listener {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	return l
}

func read(t *testing.T, path string) string {
	t.Helper()
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}
