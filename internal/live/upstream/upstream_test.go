package upstream

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"nightdrill.dev/internal/core/fault"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
)

// process is a caller whose calls are all for one event.
type process struct {
	event string
	mu    sync.Mutex
	calls []Call
}

func (p *process) Calling(string) Of { return Of{Invocation: 1, Event: p.event} }

func (p *process) Called(_ Of, c Call) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.calls = append(p.calls, c)
}

// stand opens a stand-in for one upstream, and an entrance to it.
func stand(t testing.TB, u plan.Upstream, p *process) (url string, set *Set, closed func()) {
	t.Helper()
	u.Name = "rates"
	set, err := Open(Options{Upstreams: []plan.Upstream{u}, Seed: 1, Key: []byte("key"),
		Recording: func(u *plan.Upstream,
		) ([]payload.Payload, error) {
			text, err := os.ReadFile(u.Recording)
			all, mistakes := payload.Read(text)
			if len(mistakes) > 0 && err == nil {
				t.Fatal(mistakes)
			}
			return all, err
		}})
	if err != nil {
		t.Fatal(err)
	}
	g, err := set.Gate(p, []int{0}, "")
	if err != nil {
		t.Fatal(err)
	}
	closed = sync.OnceFunc(func() {
		g.Close()
		if err := set.Close(); err != nil {
			t.Error(err)
		}
	})
	t.Cleanup(closed)
	return g.URL(0), set, closed
}

func get(url string) (status int, body string, err error) {
	r, err := http.Get(url)
	if err != nil {
		return 0, "", err
	}
	defer r.Body.Close()
	b, err := io.ReadAll(r.Body)
	return r.StatusCode, string(b), err
}

// What was recorded of a service that is slow, fails and breaks off is replayed alike when the service is gone: the
// same replies in the same order, with secrets redacted and matched all the same; what was not recorded is a failure
// with the nearest request named, and never reaches the network.
func TestRecordedThenReplayed(t *testing.T) {
	n := 0
	reached := 0
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		reached++
		n++
		if n == 3 {
			w.Header().Set("Content-Length", "1000")
			_, _ = io.WriteString(w, "the beginning")
			_ = http.NewResponseController(w).Flush()
			panic(http.ErrAbortHandler)
		}
		if n == 2 {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
		w.Header().Set("X-Seen", "yes")
		fmt.Fprintf(w, "reply %d to %s", n, r.URL.Query().Get("day"))
	}))
	u := plan.Upstream{URL: service.URL + "/v1", Mode: plan.Record, Recording: filepath.Join(t.TempDir(), "u",
		"rates.har")}
	ask := func(url string) (out []string) {
		client := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
		for _, target := range []string{"/r?day=1&token=s3cret", "/r?token=s3cret&day=1", "/r?day=1&token=s3cret",
			"/r?day=2&token=s3cret"} {
			r, err := client.Get(url + target)
			if err != nil {
				out = append(out, "0")
				continue
			}
			b, err := io.ReadAll(r.Body)
			_ = r.Body.Close()
			if err != nil {
				b = nil
			}
			out = append(out, strings.TrimSpace(fmt.Sprint(map[bool]int{true: r.StatusCode}[err == nil], " ",
				string(b))))
		}
		return out
	}
	url, _, closed := stand(t, u, &process{event: "a"})
	if !strings.HasSuffix(url, "/v1") {
		t.Errorf("the address %s has not the path of the service", url)
	}
	first := ask(url)
	closed()
	service.Close()
	text, err := os.ReadFile(u.Recording)
	if err != nil || bytes.Contains(text, []byte("s3cret")) || len(first) != 4 || first[2] != "0" {
		t.Fatalf("%v, recorded %s\nreplies %q", err, text, first)
	}
	reached = 0
	u.Mode = plan.Replay
	p := &process{event: "a"}
	url, _, closed = stand(t, u, p)
	if again := ask(url); fmt.Sprint(again) != fmt.Sprint(first) {
		t.Errorf("recorded\n%q, replayed\n%q", first, again)
	}
	status, body, err := get(url + "/rr?day=1")
	if err != nil || status != http.StatusBadGateway || !strings.Contains(body, "nearest: GET /v1/r?day=1") {
		t.Errorf("not recorded: %d %s %v", status, body, err)
	}
	if status, body, _ := get(url + "/r?day=2&token=s3cret"); status != 200 || body != "reply 4 to 2" {
		t.Errorf("the last again: %d %s", status, body)
	}
	closed()
	if reached != 0 {
		t.Errorf("the service was reached %d times", reached)
	}
	var ways []string
	for i := range p.calls {
		c := &p.calls[i]
		ways = append(ways, fmt.Sprint(c.Way, c.Bad(), c.Repeated))
	}
	if want := "[replayed false false replayed true false replayed true false replayed false false missing true " +
		"false " +
		"replayed false true]"; fmt.Sprint(ways) != want {
		t.Errorf("calls %v, want %v", ways, want)
	}
}

// Faults, latency and a limit of its own are as they are set, and can be changed while calls come.
func TestBehaviour(t *testing.T) {
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, "ok")
	}))
	defer service.Close()
	p := &process{}
	url, set, closed := stand(t, plan.Upstream{URL: service.URL, Mode: plan.Pass, Behaviour: plan.Behaviour{
		Fail: fault.Whole, Status: 429}}, p)
	if status, body, _ := get(url); status != 429 || !strings.Contains(body, "failed on purpose") {
		t.Errorf("%d %s", status, body)
	}
	set.SetBehaviour(0, plan.Behaviour{Fail: fault.Whole, Fault: plan.FaultReset})
	if _, _, err := get(url); err == nil {
		t.Error("a connection that was to be reset was not")
	}
	set.SetBehaviour(0, plan.Behaviour{Fail: fault.Whole, Fault: plan.FaultStall})
	short := http.Client{Timeout: 50 * time.Millisecond}
	if _, err := short.Get(url); err == nil {
		t.Error("a call that was to stall was answered")
	}
	// three at a time of nine, each for at least 30 ms
	set.SetBehaviour(0, plan.Behaviour{P50: 30 * time.Millisecond, P99: 30 * time.Millisecond, Concurrency: 3})
	var all sync.WaitGroup
	for range 9 {
		all.Go(func() {
			if status, _, err := get(url); status != 200 || err != nil {
				t.Error(status, err)
			}
		})
	}
	all.Wait()
	closed()
	in, most, waited := 0, 0, 0
	type edge struct {
		at time.Time
		by int
	}
	var edges []edge
	failures := map[record.CallFailure]int{}
	for _, c := range p.calls {
		if failures[c.Failed]++; c.Way == record.CallPlanned {
			continue
		}
		begun := c.Began.Add(c.Waited)
		edges = append(edges, edge{begun, 1}, edge{c.Done, -1})
		if c.Done.Sub(begun) < 30*time.Millisecond {
			t.Errorf("a call took %v", c.Done.Sub(begun))
		}
		if c.Waited > 10*time.Millisecond {
			waited++
		}
	}
	for len(edges) > 0 { // in the order of time
		k := 0
		for i := range edges {
			if edges[i].at.Before(edges[k].at) {
				k = i
			}
		}
		in += edges[k].by
		most = max(most, in)
		edges = append(edges[:k], edges[k+1:]...)
	}
	// one that ends and the next that begins may overlap by the time between the two clocks' readings
	if most > 4 || waited < 5 {
		t.Errorf("%d at a time, %d waited", most, waited)
	}
	// a client may try again what was reset
	if failures[record.CallAnswered] != 10 || failures[record.CallReset] < 1 || failures[record.CallLeft] != 1 {
		t.Errorf("%v", failures)
	}
}

// A service that cannot be reached looks to the function as it would without the stand-in: a connection that fails.
func TestUnreachable(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	gone := "http://" + l.Addr().String()
	_ = l.Close()
	p := &process{}
	url, _, closed := stand(t, plan.Upstream{URL: gone, Mode: plan.Pass}, p)
	if status, _, err := get(url); err == nil {
		t.Errorf("answered with %d", status)
	}
	request, _ := http.NewRequest("GET", url, nil)
	request.Host = "evil.example"
	if r, err := http.DefaultClient.Do(request); err != nil || r.StatusCode != http.StatusMisdirectedRequest {
		t.Errorf("another name: %v %v", r, err)
	}
	closed()
	if len(p.calls) != 1 || p.calls[0].Failed != record.CallUnreachable || p.calls[0].Why == "" {
		t.Errorf("%+v", p.calls)
	}
	if _, err := Open(Options{Upstreams: []plan.Upstream{{Name: "rates", Mode: plan.Replay}},
		Recording: func(*plan.Upstream) ([]payload.Payload, error) { return nil, os.ErrNotExist }}); err == nil ||
		!strings.Contains(err.Error(), "--upstream rates=record") {
		t.Errorf("without a recording: %v", err)
	}
}

// BenchmarkCall measures a call on a connection that is kept alive: straight to the service, and by its stand-in.
func BenchmarkCall(b *testing.B) {
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, `{"cents": 450}`)
	}))
	defer service.Close()
	dir := b.TempDir()
	u := plan.Upstream{URL: service.URL, Mode: plan.Record, Recording: filepath.Join(dir, "rates.har")}
	url, _, closed := stand(b, u, &process{})
	for i := range 1000 {
		if _, _, err := get(fmt.Sprintf("%s/fares/%d", url, i)); err != nil {
			b.Fatal(err)
		}
	}
	closed()
	for _, mode := range []plan.Mode{0, plan.Pass, plan.Record, plan.Replay} {
		name, at := "straight", service.URL
		u.Mode = mode
		if mode != 0 {
			name = mode.String()
			if mode == plan.Replay {
				u.Times = 0.001 // what is measured is the look-up, not the recorded time
			}
			at, _, closed = stand(b, u, &process{})
		}
		b.Run(name, func(b *testing.B) {
			for i := range b.N {
				if _, _, err := get(fmt.Sprintf("%s/fares/%d", at, i%1000)); err != nil {
					b.Fatal(err)
				}
			}
		})
		if mode != 0 {
			closed()
		}
		u.Mode, u.Recording = plan.Record, filepath.Join(dir, "rates.har")
		if mode == plan.Pass { // recorded over by the next
			u.Recording = filepath.Join(dir, "other.har")
		}
	}
	if _, err := os.Stat(filepath.Join(dir, "rates.har")); errors.Is(err, os.ErrNotExist) {
		b.Error("no recording")
	}
}

// A recording that was interrupted takes the place of no other, two are not made at once, and what a killed program
// left is of no harm.
func TestInterruptedRecording(t *testing.T) {
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.WriteString(w, r.URL.Path)
	}))
	defer service.Close()
	u := plan.Upstream{Name: "rates", URL: service.URL, Mode: plan.Record, Recording: filepath.Join(t.TempDir(),
		"r.har")}
	record := func(path string, whole bool) {
		t.Helper()
		set, err := Open(Options{Upstreams: []plan.Upstream{u}})
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Open(Options{Upstreams: []plan.Upstream{u}}); err == nil {
			t.Error("two recordings at once")
		}
		g, err := set.Gate(&process{}, []int{0}, "")
		if err != nil {
			t.Fatal(err)
		}
		if _, _, err := get(g.URL(0) + path); err != nil {
			t.Error(err)
		}
		g.Close()
		if err := set.End(whole); err != nil {
			t.Error(err)
		}
	}
	holds := func(file, path string) bool {
		text, _ := os.ReadFile(u.Recording + file)
		return bytes.Contains(text, []byte(path))
	}
	if record("/first", false); !holds("", "/first") {
		t.Error("the only recording there is was not kept")
	}
	if err := os.WriteFile(u.Recording+nextMark, []byte("cut o"), 0o600); err != nil {
		t.Fatal(err)
	}
	if record("/second", false); !holds("", "/first") || !holds(interruptedMark, "/second") {
		t.Error("an interrupted recording took the place of a whole one, or was lost")
	}
	if record("/third", true); !holds("", "/third") || holds("", "/first") {
		t.Error("a whole recording did not take the place of the one before")
	}
}
