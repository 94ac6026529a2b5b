package runner

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"nightdrill.dev/internal/core/arrival"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/report"
	"nightdrill.dev/internal/live/publish"
	"nightdrill.dev/internal/live/transport"
)

// publishing answers a request by publishing as many events as its body says, in its trace.
func publishing(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	n := 0
	_, _ = fmt.Sscan(string(body), &n)
	for range n {
		out, err := http.NewRequest(http.MethodPost, os.Getenv("PUBLISH_URL")+"/next", strings.NewReader("0"))
		if err != nil {
			panic(err)
		}
		out.Header.Set("Traceparent", r.Header.Get("Traceparent"))
		reply, err := http.DefaultClient.Do(out)
		if err != nil {
			w.WriteHeader(500)
			return
		}
		reply.Body.Close()
	}
}

// What a drill's functions publish, and what others publish beside them, is in the record to the last event, apart
// from the load: each is delivered, and those of functions are steps of the chains that they came of.
func TestPublishedEventsAreAccounted(t *testing.T) {
	for seed := range uint64(20) {
		random := rand.New(rand.NewPCG(seed, 3))
		const events = 6
		var bodies []string
		want := 0
		for range events {
			n := random.IntN(4)
			want += n
			bodies = append(bodies, fmt.Sprint(n))
		}
		p, d := testProject("publishes", true, bodies...)
		p.Steps = 40
		p.Sources = append(p.Sources, plan.Source{Name: "next", Kind: plan.Queue, Wires: []plan.Wire{{To: 0}},
			BatchMax: 1, Lease: time.Minute, Attempts: 1, DeadLetter: -1})
		p.Sources[0].BatchMax, p.Sources[0].BatchWait = 1, 0
		d.Feeds[0].Phases = []arrival.Phase{{Pattern: arrival.Once}}
		var drill *Drill
		var taken atomic.Int64
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			body, _ := io.ReadAll(r.Body)
			e := event.Event{ID: fmt.Sprint("p", taken.Load()), Source: "f", Type: "t", Data: body}
			if err := drill.Publish(1, []payload.Payload{{Event: &e}}, r.Header.Get("Traceparent")); err != nil {
				t.Errorf("seed %d: %v", seed, err)
				w.WriteHeader(503)
				return
			}
			taken.Add(1)
			w.WriteHeader(202)
		}))
		drill = New(p, d, Config{ID: "test", Publish: server.URL})
		outside := 0
		var wg sync.WaitGroup
		wg.Go(func() { // someone else publishes batches meanwhile, as long as the drill takes them
			for i := range 5 {
				var batch []payload.Payload
				for n := range 1 + random.IntN(3) {
					batch = append(
						batch,
						payload.Payload{Event: &event.Event{ID: fmt.Sprint("o", i, n), Source: "o", Type: "t",
							Data: []byte("0")}},
					)
				}
				if err := drill.Publish(1, batch, "00-"+strings.Repeat("ab", 16)+"-0000000000000001-01"); err == nil {
					outside += len(batch)
				} else if !errors.As(err, new(*ErrLater)) {
					t.Errorf("seed %d: %v", seed, err)
				}
			}
		})
		drill.Run(context.Background())
		wg.Wait()
		server.Close()
		r := drill.Snapshot()
		s := report.Summarize(r)
		next := s.Sources["next"]
		if int(taken.Load()) != want || next.Published != want+outside || next.Arrived != next.Published ||
			next.Done != next.Published || s.Sources["s"].Published != 0 || s.Sources["s"].Done != events {
			t.Fatalf(
				"seed %d: %d and %d were published, %d of %d taken: %+v",
				seed,
				want,
				outside,
				taken.Load(),
				want,
				s.Sources,
			)
		}
		offered, chained := 0, 0
		for i := range r.Arrivals {
			a := &r.Arrivals[i]
			if a.Offered() {
				offered++
			}
			if a.Origin == engine.FromPublish && a.From >= 0 {
				chained++
				if r.Arrivals[a.From].Source != 0 {
					t.Errorf("seed %d: it is of the event %d", seed, a.From)
				}
			}
		}
		if offered != events || chained != want {
			t.Errorf("seed %d: %d offered, %d of chains; want %d and %d", seed, offered, chained, events, want)
		}
		if err := drill.Publish(1, nil, ""); !errors.As(err, new(*ErrLater)) {
			t.Errorf("after its end: %v", err)
		}
	}
}

// A chain of published events is stopped where chain_steps says, and the rest of the drill goes on.
func TestAPublishedChainIsStopped(t *testing.T) {
	p, d := testProject("publishes", true, "1")
	p.Steps = 5
	p.Sources[0].BatchMax = 1
	var drill *Drill
	n := 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n++
		e := event.Event{ID: fmt.Sprint("p", n), Source: "f", Type: "t", Data: []byte("1")} // which publishes again
		if err := drill.Publish(0, []payload.Payload{{Event: &e}}, r.Header.Get("Traceparent")); err != nil {
			w.WriteHeader(409)
		}
	}))
	defer server.Close()
	drill = New(p, d, Config{ID: "test", Publish: server.URL})
	drill.Run(context.Background())
	if s := report.Summarize(drill.Snapshot()); s.Sources["s"].Arrived != 6 || n != 6 {
		t.Errorf("%d published: %+v", n, s.Sources["s"])
	}
}

// What an invocation publishes is a step of its chain, even where it is handed in after the invocation's end; the chain
// is open until then.
func TestPublishedJustBeforeTheReply(t *testing.T) {
	d, _ := stand(t, "plain", true, func(p *plan.Project) {
		p.Steps, p.Sources[0].BatchMax, p.Sources[0].BatchWait = 2, 2, time.Hour
	})
	by := d.Fire(Event{Payload: message("a", "1"), Routes: 1}) // waits for a second one
	trace := transport.Traceparent(d.trace, d.Look(by).Number, 1)
	got, err := d.Expect(trace, 2)
	if got != by || err != nil {
		t.Fatalf("expected of %v, %v", got, err)
	}
	fire(t, d, Event{Payload: message("b", "2"), Routes: 1})
	<-by.Done()
	d.Came(by) // one of the two was refused
	if v := d.Look(by); v.Coming != 1 || len(v.Made) != 0 {
		t.Errorf("expected are %d, made %d", v.Coming, len(v.Made))
	}
	select {
	case <-by.Whole():
		t.Error("the chain is over before what was published was handed in")
	default:
	}
	made := d.Publish(Event{Payload: message("c", "3"), Routes: 1}, by)
	d.Came(by)
	fire(t, d, Event{Payload: message("d", "4"), Routes: 1})
	<-by.Whole()
	if v := d.Look(by); len(v.Made) != 1 || v.Made[0].Origin != engine.FromPublish || v.Made[0].Steps != 1 {
		t.Errorf("made of it: %+v", v.Made)
	}
	<-made.Done()
	if got, err := d.Expect(trace, 1); got != nil || err != nil { // it is over
		t.Errorf("expected of %v, %v", got, err)
	}
}

// BenchmarkPublishing publishes events by HTTP to a drill that runs and is recorded, one to a request and a hundred.
func BenchmarkPublishing(b *testing.B) {
	one := `{"specversion":"1.0","id":"s1","source":"/gate","type":"scan","data":{"pass":"BF-1815-001","deck":"car"}}`
	for name, body := range map[string]string{"single": one, "batch": "[" + strings.Repeat(one+",", 99) + one + "]"} {
		kind := map[string]string{"single": event.StructuredType, "batch": event.BatchType}[name]
		b.Run(name, func(b *testing.B) {
			p, d := testProject("f", true, "x")
			p.Steps = 40
			p.Functions[0].Limits.Max, d.Limits[0].Max = 1, 1
			d.Settle = time.Hour
			var drill *Drill
			entrance, err := publish.Open(
				"127.0.0.1:0",
				nil,
				func() *plan.Project { return p },
				func(source int, all []payload.Payload, trace string) error {
					return drill.Publish(source, all, trace)
				},
				nil,
				func(error) bool { return false },
			)
			if err != nil {
				b.Fatal(err)
			}
			defer entrance.Close()
			drill = New(p, d, Config{ID: "test", Publish: entrance.URL()})
			ctx, end := context.WithCancel(b.Context())
			over := make(chan struct{})
			go func() {
				defer close(over)
				drill.Run(ctx)
			}()
			client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64}}
			post := func() int {
				resp, err := client.Post(entrance.URL()+"/s", kind, strings.NewReader(body))
				if err != nil {
					return 0
				}
				resp.Body.Close()
				return resp.StatusCode
			}
			for post() != http.StatusAccepted { // until it runs
			}
			var n atomic.Int64
			b.RunParallel(func(pb *testing.PB) {
				for pb.Next() {
					if status := post(); status != http.StatusAccepted {
						b.Error(status)
						return
					}
					n.Add(1)
				}
			})
			events := float64(n.Load())
			if name == "batch" {
				events *= 100
			}
			b.ReportMetric(events/b.Elapsed().Seconds(), "events/s")
			end()
			<-over
		})
	}
}
