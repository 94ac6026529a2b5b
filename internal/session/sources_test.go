package session

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/project"
	"nightdrill.dev/internal/session/catalog"
)

const kinds = `
nightdrill: 1
project: quay
functions:
  load:
    transport: attach
    url: "{url}"
    path: /load
    then:
      - {to: passes, when: {values: {/fits: true}}, type: pass, shape: {template: '{"pass": {{json .Data.pass}}}'}}
      - {to: doubled, when: {header: {x-twice: "*"}}, shape: {template: '{{json (json .Data)}}'}}
  gate: {transport: attach, url: "{url}", path: /gate}
  strict: {transport: attach, url: "{url}", path: /strict}
  reader: {transport: attach, url: "{url}", path: /reader}
sources:
  cargo: {kind: storage, attempts: 1, wires: [{to: load, when: {key: "in/*.csv", action: created}}]}
  box: {kind: storage, folder: box, attempts: 1, wires: [{to: gate}]}
  passes: {kind: queue, wires: [{to: gate}]}
  doubled: {kind: queue, attempts: 1, wires: [{to: strict}]}
  fixes: {kind: stream, partitions: 2, key: /vessel, batch: {max: 4}, attempts: 2, backoff: 1ms, on_failure: split,
    dead_letter: odd, wires: [{to: reader}]}
  odd: {kind: queue, wires: [{to: gate}]}
  log: {kind: stream, key: /vessel, wires: [{to: gate}]}
  news: {kind: stream, key: /vessel, begin: new, wires: [{to: gate}]}
  nightly: {kind: schedule, cron: "30 1 * * *", zone: Europe/Lisbon, while_running: parallel, wires: [{to: gate}]}
  fares: {kind: http, token: open-sesame, cors: {origins: ["http://pages.example"], headers: [x-desk],
    expose: [x-took], max_age: 1m}, wires: [{to: gate, when: {method: GET, path: "/fare/{to}"}}, {to: gate,
      when: {method: PUT, path: "/fare/{to}", header: {x-desk: "*"}}}]}
payloads:
  loads: {recording: loads.ndjson}
  crates: {recording: crates}
  positions: {recording: positions.ndjson}
drills:
  evening:
    idempotence: true
    settle: 5s
    feeds:
      - {source: cargo, payloads: loads, arrive: once}
      - {source: cargo, payloads: crates, arrive: once}
      - {source: fixes, payloads: positions, arrive: once}
      - {source: passes, payloads: positions, arrive: once, faults: {duplicate: 100%}}
      - {source: nightly, clock: {from: "2026-03-28", for: 72h, in: 50ms}}
  streams:
    settle: 5s
    feeds:
      - {source: log, payloads: positions, retained: 4, arrive: once}
      - {source: news, payloads: positions, retained: 4, arrive: once}
`

// harbour answers as the functions of the test: /load fetches the object that the
// event names, /reader refuses batches with a bad record, /strict wants an object.
type harbour struct {
	mu   sync.Mutex
	seen []string
	dead string // where a dead letter came from and why
}

func (h *harbour) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	h.mu.Lock()
	h.seen = append(h.seen, r.URL.Path+" "+string(body))
	n := len(h.seen)
	if of := r.Header.Get("Ce-Deadletterof"); of != "" {
		h.dead = fmt.Sprint(of, " ", r.Header.Get("Ce-Deadletterreason"), " ", r.Header.Get("Ce-Deadletterstatus"), " ",
			r.Header.Get("Ce-Deadletterattempts"))
	}
	h.mu.Unlock()
	switch r.URL.Path {
	case "/load":
		var o event.Object
		_ = json.Unmarshal(body, &o)
		reply, err := http.Get(o.URL)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadGateway)
			return
		}
		text, _ := io.ReadAll(reply.Body)
		reply.Body.Close()
		if strings.Contains(string(text), "twice") {
			w.Header().Set("X-Twice", "1")
		}
		fmt.Fprintf(w, `{"pass":%q,"fits":%v}`, strings.TrimSpace(string(text)), !strings.Contains(string(text),
			"heavy"))
	case "/strict":
		if json.Unmarshal(body, &struct{}{}) != nil {
			http.Error(w, "no object", http.StatusUnprocessableEntity)
		}
	case "/reader":
		if strings.Contains(string(body), "slipped") {
			http.Error(w, "a position that cannot be", http.StatusUnprocessableEntity)
		}
	default:
		w.Header().Set("X-Took", "1")
		fmt.Fprintf(w, "%d", n)
	}
}

func layKinds(t *testing.T) (*Session, string, *harbour) {
	h := &harbour{}
	server := httptest.NewServer(h)
	t.Cleanup(server.Close)
	old := kinds
	yaml := strings.ReplaceAll(old, "{url}", server.URL)
	dir := t.TempDir()
	write(t, dir, "nightdrill.yaml", yaml)
	write(t, dir, "loads.ndjson",
		`{"specversion":"1.0","id":"1","source":"s","type":"t","subject":"in/a.csv","datacontenttype":"text/csv",`+
			`"data":"BF-1"}
{"specversion":"1.0","id":"2","source":"s","type":"t","subject":"in/b.CSV","datacontenttype":"text/csv","data":"BF-2"}
`)
	write(t, dir, "crates/in/c.csv", "BF-3")
	write(t, dir, "crates/in/d.txt", "BF-4")
	write(t, dir, "crates/.hidden", "BF-5")
	var fixes strings.Builder
	for i := range 12 {
		vessel, note := "Heron", "fine"
		if i == 6 {
			note = "slipped"
		}
		fmt.Fprintf(&fixes, `{"specversion":"1.0","id":"f%d","source":"s","type":"t","data":{"vessel":%q,"note":%q,`+
			`"n":%d}}`+"\n", i, vessel, note, i)
	}
	write(t, dir, "positions.ndjson", fixes.String())
	d, err := Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	s, err := d.Stand("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close(); d.Close() })
	return s, dir, h
}

func ask(t *testing.T, method, url, body string, headers ...string) (int, http.Header, string) {
	t.Helper()
	r, err := http.NewRequest(method, url, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	for i := 0; i < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	reply, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer reply.Body.Close()
	text, _ := io.ReadAll(reply.Body)
	return reply.StatusCode, reply.Header, string(text)
}

// An upload becomes an event whose URL serves the object, its reply goes on to
// the next function, and the trace has every step. An upload that triggers
// nothing names the nearest miss; with the project fixed it is offered again.
func TestAnUploadAndWhatBecomesOfIt(t *testing.T) {
	s, dir, _ := layKinds(t)
	store := "http://" + s.Objects.Address()
	put := func(key, body string) Shown {
		t.Helper()
		before := len(s.Recent(keptFirings))
		if status, _, text := ask(t, "PUT", store+"/cargo/"+key, body); status != 201 {
			t.Fatalf("PUT gave %d %s", status, text)
		}
		until(t, "the upload is an event", func() bool { return len(s.Recent(keptFirings)) > before })
		f := s.Recent(1)[0].Firing
		<-f.Whole()
		return s.Look(f)
	}
	v := put("in/heron.csv", "BF-7")
	steps := s.Trace(&v)
	if len(steps) != 2 || v.Origin != InStorage || steps[0].Function != "load" || steps[0].Outcome != engine.Done ||
		steps[1].Function != "gate" || steps[1].Depth != 1 ||
		string(steps[1].Payload.Data()) != `{"pass": "BF-7"}` || steps[1].Payload.Event.Type != "pass" {
		t.Fatalf("steps %+v", steps)
	}
	v = put("in/heavy.csv", "heavy")
	if steps = s.Trace(&v); len(steps) != 1 { // the condition does not hold
		t.Errorf("a load that is too heavy has steps %+v", steps)
	}
	v = put("in/twice.csv", "twice")
	if steps = s.Trace(&v); len(steps) != 3 || steps[2].Source != "doubled" || steps[2].Outcome != engine.Failed ||
		!strings.Contains(steps[2].Hint, "JSON inside a JSON string") {
		t.Errorf("a reply that was encoded twice has steps %+v", steps)
	}
	v = put("in/heron.CSV", "BF-8")
	if steps = s.Trace(&v); v.Outcome() != engine.Unmatched || !strings.Contains(steps[0].Why,
		"ends in .CSV, the wire wants in/*.csv") {
		t.Errorf("a near miss is %v: %+v", v.Outcome(), steps)
	}
	if missed, taken := s.OfferAgain(); missed != 1 || taken != 0 {
		t.Errorf("before the wire is fixed %d of %d are taken", taken, missed)
	}
	yaml := readFile(t, filepath.Join(dir, "nightdrill.yaml"))
	write(t, dir, "nightdrill.yaml", strings.Replace(yaml, "in/*.csv", "in/*.{csv,CSV}", 1))
	until(t, "the project is read again",
		func() bool { return s.Plan().Sources[0].Wires[0].When.Key == "in/*.{csv,CSV}" })
	if s.Objects.Address() != strings.TrimPrefix(store, "http://") {
		t.Errorf("the object store went from %s to %s", store, s.Objects.Address())
	}
	if missed, taken := s.OfferAgain(); missed != 1 || taken != 1 {
		t.Errorf("after it is fixed %d of %d are taken", taken, missed)
	}
	f := s.Recent(1)[0].Firing
	<-f.Whole()
	if v = s.Look(f); v.Outcome() != engine.Done || len(s.Trace(&v)) != 2 {
		t.Errorf("offered again it is %v", v.Outcome())
	}
	if missed, _ := s.OfferAgain(); missed != 0 {
		t.Errorf("%d are still offered", missed)
	}
	// a file in a watched folder is an object too
	write(t, dir, "box/crate.json", `{}`)
	until(t, "the file is an event", func() bool {
		last := s.Recent(1)[0]
		return last.Item.SourceName == "box" && last.Over && last.Outcome() == engine.Done
	})
}

// The front requests the token, answers what browsers ask first, and names the
// routes that came close.
func TestTheFrontsManners(t *testing.T) {
	s, _, _ := layKinds(t)
	url := "http://" + s.Front.Address
	const token, page = "Bearer open-sesame", "http://pages.example"
	for _, c := range []struct {
		name, method, path string
		headers            []string
		status             int
		want               map[string]string
		text               string
	}{
		{"well", "GET", "/fare/north", []string{"Authorization", token, "Origin", page}, 200,
			map[string]string{"Access-Control-Allow-Origin": page, "Access-Control-Expose-Headers": "x-took",
				"Vary": "Origin"}, ""},
		{"HEAD is taken by GET", "HEAD", "/fare/north", []string{"Authorization", token}, 200, nil, ""},
		{"no token", "GET", "/fare/north", nil, 401, map[string]string{"WWW-Authenticate": `Bearer realm="fares"`},
			"bearer token"},
		{"another token", "GET", "/fare/north", []string{"Authorization", "Bearer open-sesam"}, 401, nil, ""},
		{"another page", "GET", "/fare/north", []string{"Authorization", token, "Origin", "http://other.example"}, 200,
			map[string]string{"Access-Control-Allow-Origin": ""}, ""},
		{"a browser asks", "OPTIONS", "/fare/north", []string{"Origin", page, "Access-Control-Request-Method", "PUT"},
			204, map[string]string{"Access-Control-Allow-Origin": page, "Access-Control-Allow-Methods": "GET, PUT",
				"Access-Control-Allow-Headers": "x-desk", "Access-Control-Max-Age": "60"}, ""},
		{"a browser of another page asks", "OPTIONS", "/fare/north", []string{"Origin", "http://other.example",
			"Access-Control-Request-Method", "PUT"}, 403, map[string]string{"Access-Control-Allow-Origin": ""},
			"may not send"},
		{"what may be asked", "OPTIONS", "/fare/north", nil, 204, map[string]string{"Allow": "GET, PUT, HEAD, OPTIONS"},
			""},
		{"another method", "DELETE", "/fare/north", []string{"Authorization", token}, 405,
			map[string]string{"Allow": "GET, PUT, HEAD, OPTIONS"}, "the method is DELETE, the wire wants GET"},
		{"another path", "GET", "/fares/north", nil, 404, nil, "GET /fare/{to}  (fares): the path is /fares/north"},
		{"a header is missing", "PUT", "/fare/north", []string{"Authorization", token}, 404, nil,
			"the header x-desk is missing"},
		{"no one waits", "GET", "/fare/north", []string{"Authorization", token, "Prefer", "respond-async, wait=5"}, 202,
			map[string]string{"Preference-Applied": "respond-async"}, "accepted"},
		{"a very long line", "GET", "/x" + strings.Repeat("y", 100_000), nil, 404, nil, "no wire takes"},
	} {
		status, h, text := ask(t, c.method, url+c.path, "", c.headers...)
		if status != c.status || !strings.Contains(text, c.text) || len(text) > 4000 {
			t.Errorf("%s: %d %.300s", c.name, status, text)
		}
		for name, want := range c.want {
			if got := h.Get(name); got != want {
				t.Errorf("%s: %s is %q, want %q", c.name, name, got, want)
			}
		}
	}
	until(t, "unmatched ones can be offered again", func() bool { return len(s.Unmatched()) == 4 })
}

// A folder is a payload set: its files are objects, in whatever bucket they are
// brought to, and a file that comes later is a payload too.
func TestAFolderAsAPayloadSet(t *testing.T) {
	s, dir, h := layKinds(t)
	names := func() (out []string) {
		for _, i := range s.List() {
			if i.Set == "crates" && i.SourceName == "cargo" {
				out = append(out, catalog.AsObject(&s.Plan().Sources[i.Source], i.Payload).Event.Subject)
			}
		}
		return out
	}
	if got := names(); !slices.Equal(got, []string{"in/c.csv", "in/d.txt"}) {
		t.Fatalf("the folder is read as %q", got)
	}
	write(t, dir, "crates/deck/e.csv", "BF-6")
	until(t, "the new file", func() bool { return len(names()) == 3 })
	for _, i := range s.List() {
		if i.Set != "crates" || i.SourceName != "cargo" {
			continue
		}
		f := s.Fire(Order{Item: i})
		<-f.Whole()
		v := s.Look(f)
		if want := map[bool]int{true: 1}[catalog.AsObject(&s.Plan().Sources[i.Source],
			i.Payload).Event.Subject == "in/c.csv"]; len(v.Trace.Attempts) != want {
			t.Errorf("%s had %d attempts, %s", i.Label, len(v.Trace.Attempts), v.Outcome())
		}
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if told := strings.Join(h.seen, " "); !strings.Contains(told, `"bucket":"cargo","key":"in/c.csv"`) ||
		!strings.Contains(told, `"etag"`) || strings.Contains(told, "file:") {
		t.Errorf("the function was told %s", told)
	}
}

// A drill with all kinds: objects are brought before it begins, a batch is cut
// until the bad record stands alone, the night with a gap is reported, replies
// go on, and second deliveries are compared.
func TestADrillOfAllKinds(t *testing.T) {
	s, _, h := layKinds(t)
	s.Pause("a drill runs")
	r, err := s.Start(t.Context(), s.DrillNamed("evening"), nil)
	if err != nil {
		t.Fatal(err)
	}
	<-r.Done()
	p := r.Page().Summary
	for name, want := range map[string]measure.Counts{
		"cargo":   {Arrived: 4, Deliveries: 4, Done: 2, Unmatched: 2},
		"fixes":   {Arrived: 12, Deliveries: 12, Done: 11, DeadLettered: 1},
		"passes":  {Arrived: 26, Deliveries: 26, Done: 26}, // each of 12 twice, and two replies
		"nightly": {Arrived: 3, Deliveries: 3, Done: 3},
	} {
		if got := p.Sources[name]; got != want {
			t.Errorf("%s: %+v, want %+v", name, got, want)
		}
	}
	if c := p.Chains["cargo"]; c.Latency.N != 2 || c.Steps != 2 || c.Broken != 0 {
		t.Errorf("chains %+v", p.Chains)
	}
	if got := r.Snapshot().Sources[s.SourceNamed("nightly")].Speed; got != 5_184_000 { // 72 h in 50 ms
		t.Errorf("the clock of the nightly runs is %v times as fast", got)
	}
	// the gate counts its answers
	if x := p.Idempotence; x.Twice != 12 || x.Differed != 12 || p.Faults["duplicated"] != 12 {
		t.Errorf("second deliveries %+v, faults %v", x, p.Faults)
	}
	if text := strings.Join(p.Warnings, "\n"); !strings.Contains(text, "nightly: 01:30 does not exist on 2026-03-29") ||
		!strings.Contains(text, "cargo: unmatched: storage.object.created in/b.CSV: nearest is the wire to load") {
		t.Errorf("warnings %s", text)
	}
	if h.mu.Lock(); !strings.HasPrefix(h.dead, "fixes bad%20status 422 ") && !strings.HasPrefix(h.dead,
		"fixes bad status 422 ") {
		t.Errorf("the dead letter says %q", h.dead)
	}
	h.mu.Unlock()
	// records of a vessel came in their order: whatever was read was read once more only after a failure
	h.mu.Lock()
	defer h.mu.Unlock()
	last := -1
	for _, seen := range h.seen {
		body, of := strings.CutPrefix(seen, "/reader ")
		if !of || strings.Contains(body, "slipped") {
			continue
		}
		var batch []struct{ Data struct{ N int } }
		if json.Unmarshal([]byte(body), &batch) != nil {
			t.Fatalf("the reader got %s", body)
		}
		for _, x := range batch {
			if x.Data.N <= last {
				t.Errorf("record %d is read after %d", x.Data.N, last)
			}
			last = x.Data.N
		}
	}
	if last != 11 {
		t.Errorf("the last record that was read is %d", last)
	}
}

// Records that were in a stream before are read where it begins with the oldest, before
// those that come, and not where it begins with new ones.
func TestWhereAStreamBegins(t *testing.T) {
	s, _, h := layKinds(t)
	s.Pause("a drill runs")
	r, err := s.Start(t.Context(), s.DrillNamed("streams"), nil)
	if err != nil {
		t.Fatal(err)
	}
	<-r.Done()
	p := r.Page().Summary
	if log, news := p.Sources["log"], p.Sources["news"]; log.Arrived != 12 || log.Done != 12 || news.Arrived != 8 ||
		news.Done != 8 {
		t.Errorf("log %+v, news %+v", log, news)
	}
	if text := strings.Join(p.Warnings, "\n"); !strings.Contains(text,
		"news: 4 records that were there before the drill are not read") {
		t.Errorf("warnings %s", text)
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	counts := map[string]int{}
	for _, seen := range h.seen {
		counts[seen]++
	}
	if n := counts[`/gate {"vessel":"Heron","note":"fine","n":0}`]; n != 1 ||
		counts[`/gate {"vessel":"Heron","note":"fine","n":11}`] != 2 {
		t.Errorf("the first record was read %d times, the last %d times", n,
			counts[`/gate {"vessel":"Heron","note":"fine","n":11}`])
	}
}

func readFile(t *testing.T, path string) string {
	t.Helper()
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// Large requests of long ago are freed, as large replies are: one budget for all that is
// kept of firings. What is left of them is shown, and is not sent again.
func TestLargeRequestsAreNotKeptForEver(t *testing.T) {
	s, _ := lay(t, standing)
	large := bytes.Repeat([]byte("a"), 20<<20)
	for range 18 {
		reply, err := http.Post("http://"+s.Front.Address+"/ask/fare", "text/plain", bytes.NewReader(large))
		if err != nil {
			t.Fatal(err)
		}
		reply.Body.Close()
	}
	kept := func() (n int) {
		for _, v := range s.Recent(keptFirings) {
			if v.Sent != nil {
				n += len(v.Sent.Data())
			}
			n += len(v.Item.Payload.Data())
		}
		return n
	}
	until(t, "what is kept is bounded", func() bool { s.trim(); return kept() < 2*keptOfFirings+8*len(large) })
	old := s.Recent(keptFirings)
	for _, v := range old {
		if v.N == 1 {
			if again := wait(t, s, s.Fire(Order{Item: v.Item})); again.Refused == nil ||
				!strings.Contains(again.Refused.Text,
					"only the first 65536 of its 20971520 bytes are kept") {
				t.Errorf("a request that is not there any more was sent: %+v", again.Refused)
			}
			if s.Resend(&v) != nil {
				t.Error("its beginning was sent again")
			}
		}
	}
}

// What a drill and a second program store leaves the user's objects as they are, at the
// first program as in its folder, and what they stored goes with them.
func TestNobodyOverwritesTheUsersObjects(t *testing.T) {
	s, dir, _ := layKinds(t)
	store := "http://" + s.Objects.Address()
	for _, path := range []string{"/cargo/in/a.csv", "/box/in/c.csv"} {
		if status, _, text := ask(t, "PUT", store+path, "the user's"); status > 201 {
			t.Fatalf("PUT %s gave %d %s", path, status, text)
		}
	}
	unchanged := func(who string) {
		t.Helper()
		for _, path := range []string{"/cargo/in/a.csv", "/box/in/c.csv"} {
			if status, _, text := ask(t, "GET", store+path, ""); status != 200 || text != "the user's" {
				t.Errorf("after %s, %s is %d %q", who, path, status, text)
			}
		}
		if left, _, _ := s.Objects.List("cargo", "", "", 10); len(left) != 1 {
			t.Errorf("after %s, the bucket has %+v", who, left)
		}
	}
	until(t, "the uploads are fired", func() bool { return len(s.Recent(keptFirings)) >= 2 })
	for _, f := range s.Recent(keptFirings) {
		<-f.Whole()
	}
	s.Pause("a drill runs")
	drill := func(d *Workspace) string {
		t.Helper()
		r, err := d.Start(t.Context(), d.DrillNamed("evening"), nil)
		if err != nil {
			t.Fatal(err)
		}
		<-r.Done()
		if got := r.Page().Summary.Sources["cargo"]; got.Done != 2 {
			t.Errorf("the drill had %+v", got)
		}
		return r.ID
	}
	first := drill(s.Workspace)
	unchanged("a drill")

	second, err := Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(second.Apart(), fmt.Sprintf("(process %d) has this project open", os.Getpid())) {
		t.Errorf("the second is told %q", second.Apart())
	}
	drill(second)
	q := second.StandQuietly()
	write(t, dir, "other.csv", "the second's")
	if _, err := q.Workspace.Upload(second.SourceNamed("cargo"), filepath.Join(dir, "other.csv"),
		"in/a.csv"); err != nil {
		t.Error(err)
	}
	q.Close()
	if err := second.Close(); err != nil {
		t.Error(err)
	}
	unchanged("a second program")
	// that of the first's drill
	if left, _ := os.ReadDir(filepath.Join(dir, project.StateDir, "aside")); len(left) > 1 {
		t.Errorf("left are %v", left)
	}

	// events of the drill that are fired again bring their objects, but for those of the user's
	s.Resume()
	yaml := readFile(t, filepath.Join(dir, "nightdrill.yaml"))
	write(t, dir, "nightdrill.yaml", strings.Replace(yaml, "in/*.csv", "in/*.{csv,CSV}", 1))
	until(t, "the project is read again",
		func() bool { return s.Plan().Sources[0].Wires[0].When.Key == "in/*.{csv,CSV}" })
	run, err := s.Runs.Load(first)
	if err != nil {
		t.Fatal(err)
	}
	if missed, taken, err := s.OfferRunAgain(run); missed != 2 || taken != 1 || err != nil {
		t.Errorf("%d of %d are taken, %v", taken, missed, err)
	}
	if status, _, text := ask(t, "GET", store+"/cargo/in/b.CSV", ""); status != 200 || text != "BF-2" {
		t.Errorf("the object of the drill's event is %d %q", status, text)
	}
}
