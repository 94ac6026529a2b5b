package session

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session/catalog"
)

// says is a function that says what stands in says.txt, and does what its body
// or its text requests.
func says() {
	text, _ := os.ReadFile("says.txt")
	said := strings.TrimSpace(string(text))
	if strings.HasPrefix(said, "broken") {
		fmt.Println("line 3: " + said)
		os.Exit(1)
	}
	fmt.Println("tables are laid", os.Getenv("HARBOUR_TOKEN"))
	serve(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		fmt.Printf("asked for %s\n", r.URL.Path)
		switch do := string(body) + r.URL.Query().Get("do"); {
		case strings.Contains(do, "refuse"):
			w.WriteHeader(422)
		case strings.Contains(do, "crash"):
			os.Exit(7)
		case strings.Contains(do, "stuck"):
			<-r.Context().Done() // whoever asked has given up
		case strings.Contains(do, "slow"):
			time.Sleep(700 * time.Millisecond)
		}
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("Server-Timing", "look;dur=0.5")
		fmt.Fprintf(w, `{"said":%q,"env":%q,"as":%q,"id":%q}`, said, os.Getenv("HARBOUR"), os.Getenv("AS"),
			r.Header.Get("ce-id"))
	})
}

const standing = `
nightdrill: 1
project: quay
functions:
  teller:
    start: ["{self}"]
    env: {AS_FUNCTION: says, HARBOUR: holm, HARBOUR_TOKEN: very-secret-1}
    watch: [says.txt, "lib/**/*.txt"]
    timeout: 2s
    start_timeout: 60s
    concurrency: {max: 2}
    variants:
      other: {env: {AS: other}}
  lone: {start: ["{self}"], env: {AS_FUNCTION: says}, watch: [], concurrency: {max: 1}}
sources:
  asks: {kind: http, wires: [{to: teller, when: {path: "/ask/{what}"}}]}
  lone: {kind: http, wires: [{to: lone, when: {path: "/lone"}}]}
  jobs: {kind: queue, attempts: 2, backoff: 1ms, dead_letter: refused, wires: [{to: lone}]}
  refused: {kind: queue}
payloads:
  some: {recording: some.har, expect: {status: 200, values: {/said: hello}}}
  work: {recording: work.ndjson}
`

// lay makes a project folder and opens its desk. The function's command is this
// test program.
func lay(t testing.TB, yaml string) (*Session, string) {
	t.Helper()
	dir := t.TempDir()
	self, _ := os.Executable()
	write(t, dir, "nightdrill.yaml", strings.ReplaceAll(yaml, "{self}", self))
	write(t, dir, "says.txt", "hello")
	write(t, dir, "some.har",
		`{"log":{"entries":[{"request":{"method":"GET","url":"http://x.example/ask/fare"}},`+
			`{"request":{"method":"GET","url":"http://x.example/elsewhere"}}]}}`)
	write(t, dir, "work.ndjson", `{"specversion":"1.0","id":"w1","source":"s","type":"t","data":"fine"}`+"\n"+
		`{"specversion":"1.0","id":"w2","source":"s","type":"t","data":"refuse"}`)
	d, err := Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	s, err := d.Stand("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close(); d.Close() })
	return s, dir
}

func write(t testing.TB, dir, name, text string) {
	t.Helper()
	path := filepath.Join(dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path+"~", []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(path+"~", path); err != nil { // whole, as most editors do
		t.Fatal(err)
	}
}

// fire fires and waits for the end.
func fire(t testing.TB, s *Session, key string, o Order) Shown {
	t.Helper()
	if o.Item = s.Find(key); o.Item == nil {
		t.Fatalf("there is no %s", key)
	}
	return wait(t, s, s.Fire(o))
}

func wait(t testing.TB, s *Session, f *Firing) Shown {
	t.Helper()
	select {
	case <-f.Done():
	case <-time.After(2 * time.Minute):
		t.Fatalf("firing %d is not over: %+v", f.N, s.Look(f))
	}
	return s.Look(f)
}

// until looks until something holds.
func until(t testing.TB, what string, holds func() bool) {
	t.Helper()
	tick := time.NewTicker(5 * time.Millisecond)
	defer tick.Stop()
	for end := time.Now().Add(2 * time.Minute); !holds(); <-tick.C {
		if time.Now().After(end) {
			t.Fatalf("never: %s", what)
		}
	}
}

func body(v *Shown) string {
	if t := v.Last(); t != nil && t.Reply != nil {
		return string(t.Reply.Body)
	}
	return ""
}

// One event, again, cold, to a variant: reply, class, version, log lines of
// this invocation, what differs, what was expected.
func TestFiring(t *testing.T) {
	s, _ := lay(t, standing)
	lines := func(v *Shown) (out string) {
		for _, l := range s.Lines(*v, v.Last(), 10) {
			out += l.Text + ";"
		}
		return out
	}
	cold := fire(t, s, "asks some#1", Order{})
	// lines come by another way than the reply, and are distinguished by their time
	until(t, "the lines of the cold one", func() bool { return strings.Contains(lines(&cold), "asked for") })
	warm := fire(t, s, "asks some#1", Order{})
	if a, b := cold.Last(), warm.Last(); a.Invocation.Class != engine.Cold || b.Invocation.Class != engine.Warm ||
		a.Name != "teller-1" || b.Name != "teller-1" ||
		!strings.HasPrefix(a.Version, "v1 ") || cold.Outcome() != engine.Done ||
		cold.Latency() < a.Instance.Ready.Sub(a.Instance.Spawned) {
		t.Errorf("fired twice: %+v\n%+v", a, b)
	}
	until(t, "the lines of both", func() bool { return lines(&cold) != "" && lines(&warm) != "" })
	if a, b := lines(&cold), lines(&warm); a != "tables are laid ••••••;asked for /ask/fare;" ||
		b != "asked for /ask/fare;" {
		t.Errorf("the cold one wrote %q, the warm one %q", a, b)
	}
	if v := warm.Verdicts(); len(v) != 2 || !v[0].Held || !v[1].Held {
		t.Errorf("verdicts %+v", v)
	}
	again := fire(t, s, "asks some#1", Order{Cold: true})
	if x := again.Last(); x.Invocation.Class != engine.Cold || x.Name != "teller-2" {
		t.Errorf("fired cold: %+v", x)
	}
	other := fire(t, s, "asks some#1", Order{Variant: "other"})
	before, ok := s.Before(other.Firing)
	if !ok || before.N != again.N || other.Last().Name != "teller@other-1" {
		t.Fatalf("the variant: %+v, before it %+v", other.Last(), before)
	}
	if d := Differences(&before, &other, nil); len(d) != 1 || d[0].At != "/as" || d[0].Is != `"other"` {
		t.Errorf("differences %+v", d)
	}
	if d := Differences(&before, &other, []string{"/as"}); len(d) != 0 {
		t.Errorf("left out, they are %+v", d)
	}
	if v := fire(t, s, "asks some#1", Order{Variant: "none"}); v.Refused == nil || !strings.Contains(v.Refused.Text,
		`variant "none"`) {
		t.Errorf("a variant that is not there: %+v", v)
	}
	if v := fire(t, s, "asks some#2", Order{}); v.Outcome() != engine.Unmatched {
		t.Errorf("an event that no wire takes is %v", v.Outcome())
	}
	// a queue: attempts, and the dead letter
	if v := fire(t, s, "jobs work#1", Order{}); v.Outcome() != engine.Done || !strings.Contains(body(&v), `"id":"w1"`) {
		t.Errorf("a message: %v, %s", v.Outcome(), body(&v))
	}
	if v := fire(t, s, "jobs work#2", Order{}); v.Outcome() != engine.DeadLettered || len(v.Trace.Attempts) != 2 ||
		v.Last().Reply.Status != 422 {
		t.Errorf("a refused message: %v after %d tries", v.Outcome(), len(v.Trace.Attempts))
	}
	series := s.FireTimes(Order{Item: s.Find("asks some#1")}, 5)
	if says := series.Says(); !strings.HasPrefix(says, "Fired 5 times; warm 5, median") {
		t.Errorf("in a row: %s", says)
	}
}

// The code changes: the reply is the new version's, also of what is fired
// again by itself; broken, it says why, and the old version goes on; fixed, it
// answers again.
func TestAChangeIsTakenUp(t *testing.T) {
	s, dir := lay(t, standing)
	fire(t, s, "asks some#1", Order{})
	s.SetAgain(true)
	latest := func() Shown { return s.Recent(1)[0] }
	write(t, dir, "says.txt", "good evening")
	until(t, "the new reply", func() bool {
		v := latest()
		return v.Over && strings.Contains(body(&v),
			"good evening")
	})
	if v := latest(); v.Origin != AfterChange || !strings.HasPrefix(v.Last().Version, "v2 ") || v.Verdicts()[1].Held {
		t.Errorf("fired again: %v, %s, %+v", v.Origin, v.Last().Version, v.Verdicts())
	}
	write(t, dir, "says.txt", "broken at sea")
	until(t, "the reason", func() bool { v := latest(); return v.Refused != nil })
	if r := latest().Refused; !strings.Contains(r.Text, "teller does not start: it exited with code 1") ||
		len(r.Lines) != 1 || r.Lines[0] != "line 3: broken at sea" {
		t.Errorf("broken: %+v", r)
	}
	resp, err := http.Get("http://" + s.Front.Address + "/ask/front")
	if err != nil || resp.StatusCode != 502 {
		t.Errorf("broken, the front gives %v %v", resp.StatusCode, err)
	}
	states, _ := s.States()
	if states[0].Failure == nil || !strings.Contains(states[0].Failure.Text, "does not start") {
		t.Errorf("the roster knows %+v", states[0].Failure)
	}
	write(t, dir, "says.txt", "fixed")
	until(t, "the fixed reply", func() bool { v := latest(); return v.Over && strings.Contains(body(&v), "fixed") })
	if states, _ := s.States(); states[0].Failure != nil {
		t.Errorf("fixed, the roster knows %+v", states[0].Failure)
	}
	// a new file in a new folder is code too
	was := latest().Last().Version
	write(t, dir, "lib/new/more.txt", "x")
	until(t, "another version", func() bool {
		v := fire(t, s, "asks some#1", Order{})
		return v.Last() != nil && v.Last().Version != was
	})
	// values for the session; what fires by itself would take the places that it has
	s.SetAgain(false)
	if err := s.SetEnv("teller", "HARBOUR", "skerry", true); err != nil {
		t.Fatal(err)
	}
	if v := fire(t, s, "asks some#1", Order{}); !strings.Contains(body(&v), `"env":"skerry"`) ||
		!strings.HasSuffix(v.Last().Version, "+env") {
		t.Errorf("with another value: %s by %s", body(&v), v.Last().Version)
	}
	if err := s.SetEnv("teller", "PORT", "1", true); err == nil {
		t.Error("PORT can be set")
	}
	if err := s.SetEnv("teller", "HARBOUR", "", false); err != nil {
		t.Fatal(err)
	}
	if v := fire(t, s, "asks some#1", Order{}); !strings.Contains(body(&v), `"env":"holm"`) {
		t.Errorf("reset to the project value: %s, %v, %+v", body(&v), v.Outcome(), v.Trace.Attempts)
	}
	// the project itself: refused while it is wrong, taken up when it is right
	yaml, _ := os.ReadFile(filepath.Join(dir, project.File))
	write(t, dir, project.File, strings.Replace(string(yaml), "max: 2", "max: two", 1))
	until(t, "its mistake", func() bool { return s.Wrong() != nil })
	if v := fire(t, s, "asks some#1", Order{}); v.Outcome() != engine.Done {
		t.Errorf("with a wrong project file the old one gives %v", v.Outcome())
	}
	write(t, dir, project.File, strings.Replace(string(yaml), "HARBOUR: holm", "HARBOUR: tern", 1))
	until(t, "the new project", func() bool {
		v := fire(t, s, "asks some#1", Order{})
		return s.Wrong() == nil && strings.Contains(body(&v), `"env":"tern"`)
	})
}

// A build that fails is shown, and what was built before goes on; the same
// inputs are not built twice; preparation follows the build.
func TestBuildAndPrepare(t *testing.T) {
	s, dir := lay(t, strings.NewReplacer("watch: [says.txt,", "watch: [source.txt,", "    timeout: 2s",
		`    timeout: 2s
    build: [sh, -c, "grep -q bad source.txt && { echo source.txt:1 is bad; exit 2; }; `+
			`echo built >> steps; cp source.txt says.txt"]
    prepare: [sh, -c, "echo prepared >> steps"]`).Replace(standing))
	// it begins with a source that cannot be built
	write(t, dir, "source.txt", "bad")
	if v := fire(t, s, "asks some#1", Order{}); v.Refused == nil ||
		v.Refused.Text != "teller does not build: sh exited with code 2" ||
		v.Refused.Lines[0] != "source.txt:1 is bad" {
		t.Fatalf("a build that fails: %+v", v.Refused)
	}
	write(t, dir, "source.txt", "from the build")
	until(t, "the built reply", func() bool {
		v := fire(t, s, "asks some#1", Order{})
		return strings.Contains(body(&v), "from the build")
	})
	steps := func() string { text, _ := os.ReadFile(filepath.Join(dir, "steps")); return string(text) }
	if steps() != "built\nprepared\n" {
		t.Errorf("steps %q", steps())
	}
	write(t, dir, "source.txt", "bad")
	until(t, "the failure", func() bool { states, _ := s.States(); return states[0].Failure != nil })
	resp, err := http.Get("http://" + s.Front.Address + "/ask/front")
	if err != nil || resp.StatusCode != 502 {
		t.Errorf("a failed build at the front: %v %v", resp, err)
	}
	// another program on the same inputs does not build them again
	write(t, dir, "source.txt", "from the build")
	until(t, "no failure", func() bool { states, _ := s.States(); return states[0].Failure == nil })
	was := steps()
	d, err := Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	if err := d.Prepare(context.Background(), &plan.Drill{}, nil); err != nil || steps() != was {
		t.Errorf("prepared again: %v, steps %q, before %q", err, steps(), was)
	}
}

// The front: a request takes the way of any event, and its caller gets the
// function's answer, or the limits' word.
func TestTheFront(t *testing.T) {
	s, _ := lay(t, standing)
	ask := func(method, path, prefer string) (int, http.Header, string) {
		t.Helper()
		r, _ := http.NewRequest(method, "http://"+s.Front.Address+path, nil)
		if prefer != "" {
			r.Header.Set("Prefer", prefer)
		}
		resp, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		text, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, resp.Header, string(text)
	}
	if status, header, text := ask("GET", "/ask/fare", ""); status != 200 ||
		header.Get("Server-Timing") != "look;dur=0.5" || !strings.Contains(text, "hello") {
		t.Errorf("%d %v %s", status, header, text)
	}
	if v := s.Recent(1)[0]; v.Origin != AtFront || v.Last().Invocation.Class != engine.Cold {
		t.Errorf("on the screen it is %v, %+v", v.Origin, v.Last())
	}
	if status, _, text := ask("GET", "/nowhere", ""); status != 404 ||
		!strings.Contains(text, "any /lone  (lone): the path is /nowhere, the wire wants /lone") {
		t.Errorf("no wire: %d %s", status, text)
	}
	for host, want := range map[string]string{"other.teller.localhost:1": "200 other",
		"OTHER.teller.localhost": "200 other",
		"teller.localhost":       "200 hello", "any.name.localhost": "200 hello",
		"node.teller.localhost": "404 teller has no variant node; its variants: other",
		"other.lone.localhost":  "404 lone has no variants"} {
		r, _ := http.NewRequest("GET", "http://"+s.Front.Address+"/ask/fare", nil)
		r.Host = host
		resp, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		text, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		status, words, _ := strings.Cut(want, " ")
		if fmt.Sprint(resp.StatusCode) != status || status == "404" && !strings.Contains(string(text), words) {
			t.Errorf("at %s: %d %s, want %s", host, resp.StatusCode, text, want)
		}
		if v := s.Recent(1)[0]; status == "200" && (v.Variant == "other") != (words == "other") {
			t.Errorf("at %s it went to %q", host, v.Variant)
		}
	}
	own, err := http.Get("http://" + s.VariantAddress("teller@other") + "/ask/fare") // it has a port, too
	if err != nil {
		t.Fatal(err)
	}
	own.Body.Close()
	if v := s.Recent(1)[0]; own.StatusCode != 200 || v.Variant != "other" || s.VariantAddress("lone@other") != "" {
		t.Errorf("at a variant's port: %d, to %q", own.StatusCode, v.Variant)
	}
	if status, _, text := ask("GET", "/ask/x?do=stuck", ""); status != 504 ||
		!strings.Contains(text, "did not reply within 2 s") {
		t.Errorf("too slow: %d %s", status, text)
	}
	if status, _, text := ask("GET", "/ask/x?do=crash", ""); status != 502 ||
		!strings.Contains(text, "exited with code 7") {
		t.Errorf("a crash: %d %s", status, text)
	}
	if status, header, _ := ask("GET", "/lone?do=slow", "respond-async"); status != 202 ||
		header.Get("Preference-Applied") != "respond-async" {
		t.Errorf("not waited for: %d %v", status, header)
	}
	until(t, "one in flight", func() bool { states, _ := s.States(); return states[1].Look.InFlight == 1 })
	if status, header, _ := ask("GET", "/lone", ""); status != 429 || header.Get("Retry-After") != "1" {
		t.Errorf("beyond the limit: %d %v", status, header)
	}
	if status, _, text := ask("HEAD", "/ask/fare", ""); status != 200 || text != "" {
		t.Errorf("HEAD: %d %q", status, text)
	}
	s.Pause("the drill evening is under way")
	if status, _, text := ask("GET", "/ask/fare", ""); status != 503 ||
		!strings.Contains(text, "the drill evening is under way") {
		t.Errorf("during a drill: %d %s", status, text)
	}
	if v := fire(t, s, "asks some#1", Order{}); v.Refused == nil {
		t.Error("during a drill it was fired")
	}
	s.Resume()
	if v := fire(t, s, "asks some#1", Order{}); v.Outcome() != engine.Done {
		t.Errorf("after the drill: %v", v.Outcome())
	}
}

// Who has asked at the front when the project's file is saved gets the answer; who asks
// while it is read again waits for that.
func TestASavedFileBreaksNothingOff(t *testing.T) {
	s, dir := lay(t, standing)
	status := make(chan int)
	ask := func(path string) {
		resp, err := http.Get("http://" + s.Front.Address + path)
		if err != nil {
			t.Error(err)
			status <- 0
			return
		}
		resp.Body.Close()
		status <- resp.StatusCode
	}
	go ask("/lone?do=slow")
	until(t, "one in flight", func() bool { states, _ := s.States(); return states[1].Look.InFlight == 1 })
	yaml, _ := os.ReadFile(filepath.Join(dir, "nightdrill.yaml"))
	write(t, dir, "nightdrill.yaml", strings.Replace(string(yaml), "concurrency: {max: 2}", "concurrency: {max: 3}", 1))
	until(t, "the file is being read", func() bool { s.mu.Lock(); defer s.mu.Unlock(); return s.closed })
	for range 3 {
		go ask("/ask/fare")
	}
	for range 4 {
		if got := <-status; got != 200 {
			t.Errorf("a request was answered with %d", got)
		}
	}
	if n := s.Plan().Functions[0].Limits.Max; n != 3 {
		t.Errorf("at most %d at a time", n)
	}
}

// Held for a debugger, an invocation may take longer than the timeout.
func TestHeld(t *testing.T) {
	s, dir := lay(t, strings.Replace(standing, "timeout: 2s", "timeout: 400ms", 1))
	key, err := s.Save("asks", "slow", []byte("GET /ask/x?do=slow HTTP/1.1\nX-Id: {{counter}}\n\n"))
	if err != nil {
		t.Fatal(err)
	}
	if v := fire(t, s, key, Order{}); v.Outcome() != engine.Failed || v.Last().Result != engine.Timeout {
		t.Errorf("not held: %v", v.Outcome())
	}
	s.Hold("teller", true)
	v := fire(t, s, key, Order{})
	if v.Outcome() != engine.Done || v.Sent.Request.Header[0].Value != "2" {
		t.Errorf("held: %v, %+v", v.Outcome(), v.Sent.Request)
	}
	// payloads that are kept by themselves
	if _, err := s.Save("asks", "slow", nil); err == nil {
		t.Error("a name was taken twice")
	}
	if _, err := s.Save("asks", "../x", nil); err == nil {
		t.Error("a name left the folder")
	}
	if key, err = s.Rename(s.Find(key), "slower"); err != nil || s.Find(key) == nil || s.Find("asks slow") != nil {
		t.Errorf("renamed: %v", err)
	}
	if err := s.Rewrite(s.Find(key), []byte("not a request")); err != nil || s.Find(key).Wrong == "" {
		t.Errorf("rewritten: %v", err)
	}
	if v := fire(t, s, key, Order{}); v.Refused == nil || !strings.Contains(v.Refused.Text, "line 1") {
		t.Errorf("a broken payload: %+v", v.Refused)
	}
	if err := s.Delete(s.Find(key)); err != nil || s.Find(key) != nil {
		t.Errorf("deleted: %v", err)
	}
	good := fire(t, s, "asks some#1", Order{})
	for _, to := range []string{"jobs", "asks"} {
		text, err := Keep(&good, &s.Sources[s.SourceNamed(to)])
		if err != nil {
			t.Fatal(err)
		}
		key, err := s.Save(to, "kept", text)
		if err != nil || s.Find(key) == nil || s.Find(key).Wrong != "" ||
			!strings.Contains(string(s.Find(key).Content()), "hello") {
			t.Errorf("kept for %s: %v\n%s", to, err, text)
		}
	}
	// one that someone else edits is read again
	write(t, dir, "payloads/asks/own.request", "GET /ask/own HTTP/1.1\n\n")
	until(t, "the new payload", func() bool { return s.Find("asks own") != nil })
}

// Services are there before the function starts, or it says which is missing; a
// function that was started elsewhere is attached to.
func TestServicesAndAttached(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := l.Addr().String()
	l.Close()
	s, dir := lay(t, strings.NewReplacer("functions:", `services:
  gulls: {start: [sh, -c, "test -f gulls.ok && exec sleep 100; echo no gulls; exit 1"], ready: {line: never},
    start_timeout: 300ms}
  terns: {start: [sh, -c, "echo terns are up; exec sleep 100"], ready: {line: "are up"}, reset: [touch, reset.ok],
    stop: [touch, stop.ok]}
functions:
  far: {transport: attach, url: "http://`+address+`"}`, "  lone: {start", "  lone: {needs: [terns, gulls], start",
		"wires: [{to: lone}]", "wires: [{to: far}]").Replace(standing))
	lone := &catalog.Item{Source: 1, SourceName: "lone", HTTP: true, File: "x", Name: "x",
		Text: []byte("GET /lone HTTP/1.1\n\n")}
	if v := wait(t, s, s.Fire(Order{Item: lone})); v.Refused == nil || !strings.Contains(v.Refused.Text,
		"lone needs a service: service gulls does not start: it exited with code 1 before it was ready; its last "+
			"line: no gulls") {
		t.Errorf("a service that is missing: %+v", v.Refused)
	}
	if err := s.works.Services.Reset(context.Background()); err != nil || !exists(dir, "reset.ok") {
		t.Errorf("reset: %v", err)
	}
	far := func() Shown { return fire(t, s, "jobs work#1", Order{}) }
	if v := far(); v.Outcome() != engine.DeadLettered || !strings.Contains(v.Last().Why,
		"nothing answers at "+address) {
		t.Errorf("an attached function that is not there: %v, %+v", v.Outcome(), v.Last())
	}
	if l, err = net.Listen("tcp", address); err != nil {
		t.Fatal(err)
	}
	go func() { _ = http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {})) }()
	defer l.Close()
	until(t, "it answers", func() bool { v := far(); return v.Outcome() == engine.Done })
	if v := far(); v.Last().Invocation.Class != engine.Warm {
		t.Errorf("an attached function is %v", v.Last().Invocation.Class)
	}
	s.works.Services.Close()
	if !exists(dir, "stop.ok") {
		t.Error("the service's stop command was not run")
	}
}

func exists(dir, name string) bool {
	_, err := os.Stat(filepath.Join(dir, name))
	return err == nil
}

// BenchmarkChange is the time from a saved file to the reply of the new version
// that comes by itself, without the new instance's own start.
func BenchmarkChange(b *testing.B) {
	s, dir := lay(b, standing)
	if v := fire(b, s, "asks some#1", Order{}); v.Outcome() != engine.Done {
		b.Fatalf("%+v", v)
	}
	s.SetAgain(true)
	var all []time.Duration
	for n := 0; b.Loop(); n++ {
		said := fmt.Sprintf("change %d", n)
		began := time.Now()
		write(b, dir, "says.txt", said)
		until(b, "the reply", func() bool {
			v := s.Recent(1)[0]
			if !v.Over || !strings.Contains(body(&v), said+`"`) {
				return false
			}
			in := v.Last().Instance
			all = append(all, v.Trace.At.Add(v.Latency()).Sub(began)-in.Ready.Sub(in.Spawned))
			return true
		})
	}
	slices.Sort(all)
	b.ReportMetric(float64(all[len(all)/2])/1e6, "ms-p50")
	b.ReportMetric(float64(all[len(all)-1])/1e6, "ms-max")
}

// blobs returns all bytes that a run kept.
func blobs(r *record.Run) string {
	var all []string
	for _, b := range r.Blobs {
		all = append(all, string(b))
	}
	return strings.Join(all, "\n")
}

// A variant that is kept warm is warm when it is requested: its first firing is not cold.
func TestAKeptWarmVariantIsNotColdInFire(t *testing.T) {
	s, _ := lay(t, strings.Replace(standing, "other: {env: {AS: other}}", "other: {env: {AS: other}, keep_warm: 1}", 1))
	for n, want := range []engine.Class{engine.First, engine.Warm} {
		if v := fire(t, s, "asks some#1", Order{Variant: "other"}); v.Last() == nil ||
			v.Last().Invocation.Class != want ||
			!strings.Contains(body(&v), `"as":"other"`) {
			t.Errorf("firing %d: %+v", n, v.Last())
		}
	}
	if v := fire(t, s, "asks some#1", Order{}); v.Last() == nil || v.Last().Invocation.Class != engine.Cold {
		t.Errorf("the function itself, which is not kept warm: %+v", v.Last())
	}
}

// Values that were set for the session hold for a drill that is begun then, too, and its
// version says so.
func TestADrillHasTheSessionsValues(t *testing.T) {
	s, _ := lay(t, standing+"drills:\n  d: {feeds: [{source: asks, payloads: some, arrive: [once]}]}\n")
	if err := s.SetEnv("teller", "HARBOUR", "skerry", true); err != nil {
		t.Fatal(err)
	}
	if v := fire(t, s, "asks some#1", Order{}); v.Last() == nil || !strings.HasPrefix(v.Last().Version, "v1") ||
		!strings.HasSuffix(v.Last().Version, " +env") {
		t.Errorf("with values that were set before it was started: %+v", v.Last())
	}
	drill, err := s.Drill("d")
	if err != nil {
		t.Fatal(err)
	}
	r, err := s.Start(t.Context(), drill, nil)
	if err != nil {
		t.Fatal(err)
	}
	<-r.Done()
	run := r.Snapshot()
	if text := blobs(run); !strings.Contains(text, `"env":"skerry"`) || strings.Contains(text, `"env":"holm"`) ||
		!strings.HasSuffix(run.Functions[0].Version, "+env") {
		t.Errorf("the drill, of version %q, was answered %q", run.Functions[0].Version, text)
	}
}

// The copy of a payload keeps what its reply should be, in the project and when it is
// fired.
func TestACopyKeepsItsExpectations(t *testing.T) {
	s, dir := lay(t, standing)
	i := s.Find("asks some#1")
	if i == nil || i.Expect == nil {
		t.Fatalf("the payload is %+v", i)
	}
	if _, err := s.Save("asks", "copy", i.Content()); err != nil {
		t.Fatal(err)
	}
	if err := s.KeepExpectation(i, "copy"); err != nil {
		t.Fatal(err)
	}
	l, err := project.Load(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	if set := l.SetNamed("copy"); set < 0 || l.Sets[set].ExpectOf(0) == nil ||
		len(l.Sets[set].ExpectOf(0).Values) != 1 || l.Sets[set].Reaches[0] != "asks" {
		text, _ := os.ReadFile(filepath.Join(dir, project.File))
		t.Errorf("the project is\n%s", text)
	}
	until(t, "the copy expects what its original does", func() bool {
		for _, i := range s.List() {
			if i.Name == "copy" && i.Expect != nil {
				return true
			}
		}
		return false
	})
}

// A page of another site sends nothing that changes something, unless the source lets it; and
// no one is answered who requests another name.
func TestPagesOfOtherSitesStayOut(t *testing.T) {
	s, _ := lay(t, strings.Replace(standing, "lone: {kind: http,",
		"lone: {kind: http, cors: {origins: [\"http://desk.example\"]},", 1))
	for _, c := range []struct {
		method, path, origin, host string
		status                     int
	}{
		{"GET", "/ask/fare", "http://page.example", "", 200},
		{"POST", "/ask/fare", "", "", 200},
		{"POST", "/ask/fare", "http://page.example", "", 403},
		{"POST", "/ask/fare", "http://" + s.Front.Address, "", 200},
		{"POST", "/lone", "http://desk.example", "", 200},
		{"POST", "/lone", "http://page.example", "", 403},
		{"GET", "/ask/fare", "", "rebound.example", 421},
		{"GET", "/ask/fare", "", "quay.localhost", 200},
	} {
		r, err := http.NewRequest(c.method, "http://"+s.Front.Address+c.path, nil)
		if err != nil {
			t.Fatal(err)
		}
		if c.origin != "" {
			r.Header.Set("Origin", c.origin)
		}
		r.Host = c.host
		reply, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		reply.Body.Close()
		if reply.StatusCode != c.status {
			t.Errorf("%s %s from %q to %q: %d, want %d", c.method, c.path, c.origin, c.host, reply.StatusCode, c.status)
		}
	}
}

// A template without end obeys the timeout of the invocation, and holds no one up.
func TestATemplateObeysTheTimeout(t *testing.T) {
	s, _ := lay(t, strings.Replace(standing, "    timeout: 2s\n", "    timeout: 20ms\n    deliver: shaped\n"+
		"    shape: {template: '{{range 100000}}{{range 100000}}{{end}}{{end}}'}\n", 1))
	f := s.Fire(Order{Item: s.Find("asks some#1")})
	until(t, "it is under way", func() bool { v := s.Look(f); return v.Last() != nil })
	<-f.Whole()
	v := s.Look(f)
	if last := v.Last(); last == nil || last.Result != engine.Timeout {
		t.Errorf("it is %+v, %v", last, v.Refused)
	}
}
