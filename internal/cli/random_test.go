package cli

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"nightdrill.dev/internal/core/measure"
)

// logged is what a function writes down of an invocation, before it answers.
type logged struct {
	PID    int      `json:"pid"`
	Source string   `json:"source"`
	IDs    []string `json:"ids"`
	Keys   []string `json:"keys"`   // of each, where it has one
	Does   string   `json:"does"`   // ok, refuse, absent, slow, sleep, crash, again
	Again  []string `json:"again"`  // of a batch, those that are to come again
	Status int      `json:"status"` // that it answers; 0 for none
}

// faulty is the life of a function that fails at random: what it does with an event depends
// on the event and on how often it has come to this process.
func faulty(seed string) {
	file, err := os.OpenFile(os.Getenv("FAULTY_LOG"), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		panic(err)
	}
	var mu sync.Mutex
	seen := map[string]int{}
	err = http.ListenAndServe("127.0.0.1:"+os.Getenv("PORT"),
		http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			body, _ := io.ReadAll(r.Body)
			x := logged{PID: os.Getpid(), Status: 200, Does: "ok", Source: "fares"}
			type data struct {
				Key string `json:"key"`
			}
			var events []struct {
				ID     string `json:"id"`
				Source string `json:"source"`
				Data   data   `json:"data"`
			}
			switch {
			case r.Header.Get("ce-id") != "":
				var d data
				_ = json.Unmarshal(body, &d)
				x.IDs, x.Keys, x.Source = []string{r.Header.Get("ce-id")}, []string{d.Key},
					strings.TrimPrefix(r.Header.Get("ce-source"), "/")
			case json.Unmarshal(body, &events) == nil && len(events) > 0:
				for _, e := range events {
					x.IDs, x.Keys, x.Source = append(x.IDs, e.ID), append(x.Keys, e.Data.Key),
						strings.TrimPrefix(e.Source, "/")
				}
			default:
				x.IDs = []string{r.URL.Path}
			}
			mu.Lock()
			for _, id := range x.IDs {
				seen[id]++
			}
			h := fnv.New64a()
			fmt.Fprint(h, seed, x.IDs[0], seen[x.IDs[0]])
			roll := rand.New(rand.NewPCG(h.Sum64(), 1)).IntN(100)
			mu.Unlock()
			switch {
			case roll < 8:
				x.Does, x.Status = "refuse", 500
			case roll < 12:
				x.Does, x.Status = "absent", 404
			case roll < 20:
				x.Does = "slow"
			case roll < 22:
				x.Does, x.Status = "sleep", 0
			case roll < 24:
				x.Does, x.Status = "crash", 0
			case roll < 34 && len(events) > 1:
				x.Does, x.Again = "again", x.IDs[len(x.IDs)/2:]
			}
			line, _ := json.Marshal(x)
			mu.Lock()
			_, _ = file.Write(append(line, '\n'))
			mu.Unlock()
			switch x.Does {
			case "slow":
				time.Sleep(30 * time.Millisecond)
			case "sleep":
				select {}
			case "crash":
				os.Exit(9)
			}
			w.WriteHeader(x.Status)
			if x.Again != nil {
				_ = json.NewEncoder(w).Encode(map[string]any{"retry": x.Again})
			}
		}))
	panic(err)
}

// project is a project that was thrown together.
type thrown struct {
	dir, log string
	events   map[string]int // of each source
	attempts map[string]int // that each source allows
	kills    int
	batched  map[string]bool
}

// throw writes a project with random settings.
func throw(t *testing.T, seed uint64) *thrown {
	t.Helper()
	r := rand.New(rand.NewPCG(seed, 77))
	x := &thrown{dir: t.TempDir(), events: map[string]int{}, attempts: map[string]int{"fares": 1},
		batched: map[string]bool{}}
	x.log = filepath.Join(x.dir, "function.log")
	self, _ := os.Executable()
	rewrite(t, x.dir, "function.log", "")
	pick := func(of ...string) string { return of[r.IntN(len(of))] }
	lasts := time.Duration(400+r.IntN(500)) * time.Millisecond
	batch := func(source string) string {
		if r.IntN(2) == 0 {
			return ""
		}
		x.batched[source] = true
		return fmt.Sprintf("batch: {max: %d, wait: %dms}, ", 2+r.IntN(6), 10+r.IntN(60))
	}
	retries := func(source string) string {
		x.attempts[source] = 1 + r.IntN(4)
		return fmt.Sprintf("attempts: %d, backoff: %dms, ", x.attempts[source], 1+r.IntN(20))
	}
	group := ""
	if r.IntN(2) == 0 {
		group = "group: /key, "
	}
	letters := ""
	if r.IntN(2) == 0 {
		letters = "dead_letter: refused, "
	}
	var b strings.Builder
	fmt.Fprintf(&b, "nightdrill: 1\nproject: thrown\nconcurrency: %d\nfunctions:\n", 3+r.IntN(9))
	fmt.Fprintf(&b,
		"  f: {start: [%q], env: {FAULTY: \"%d\", FAULTY_LOG: %q, GORACE: atexit_sleep_ms=0}, timeout: 250ms, "+
			"start_timeout: 60s, idle_after: %dms, keep_warm: %d, concurrency: {max: %d, per_instance: %d}}\n",
		self, seed, x.log, 60+r.IntN(500), r.IntN(2), 2+r.IntN(5), 1+r.IntN(3))
	fmt.Fprintf(&b, "sources:\n  fares: {kind: http, wait: %s, wires: [{to: f}]}\n", pick("0s", "50ms", "2s"))
	fmt.Fprintf(&b, "  scans: {kind: queue, %s%s%slease: %s, %swires: [{to: f}]}\n", batch("scans"), retries("scans"),
		group, pick("300ms", "10s"), letters)
	fmt.Fprintf(&b,
		"  refused: {kind: queue}\n  fixes: {kind: stream, key: /key, partitions: %d, %s%swires: [{to: f}]}\n",
		1+r.IntN(4),
		batch("fixes"), retries("fixes"))
	b.WriteString("payloads:\n  fares: {recording: fares.har}\n  scans: {recording: scans.ndjson}\n  fixes: " +
		"{recording: fixes.ndjson}\ndrills:\n  d:\n    settle: 20s\n    feeds:\n")
	var entries, scans, fixes []string
	for n := range 40 {
		entries = append(entries, fmt.Sprintf(`{"request":{"method":"GET","url":"http://x.example/fare-%d"}}`, n))
		scans = append(scans,
			fmt.Sprintf(`{"specversion":"1.0","id":"scan-%03d","source":"/scans","type":"t","data":{"key":"k%d"}}`, n,
				r.IntN(4)))
		fixes = append(fixes,
			fmt.Sprintf(`{"specversion":"1.0","id":"fix-%03d","source":"/fixes","type":"t","data":{"key":"k%d"}}`, n,
				r.IntN(4)))
	}
	rewrite(t, x.dir, "fares.har", `{"log":{"entries":[`+strings.Join(entries, ",")+`]}}`)
	rewrite(t, x.dir, "scans.ndjson", strings.Join(scans, "\n"))
	rewrite(t, x.dir, "fixes.ndjson", strings.Join(fixes, "\n"))
	for _, source := range []string{"fares", "scans", "fixes"} {
		rate := 20 + r.IntN(60)
		n := 0
		for ; time.Duration(n)*time.Second/time.Duration(rate) < lasts; n++ {
		}
		x.events[source] = n
		faults := ""
		if source == "scans" && r.IntN(2) == 0 {
			faults = fmt.Sprintf(", faults: {duplicate: %d%%, drop_ack: %d%%, delay: {share: 10%%, by: 40ms}}",
				r.IntN(20),
				r.IntN(8))
		}
		fmt.Fprintf(&b, "      - {source: %s, payloads: %s, arrive: [{steady: %d/s, for: %v}]%s}\n", source, source,
			rate,
			lasts, faults)
	}
	if r.IntN(2) == 0 {
		fmt.Fprintf(&b, "    changes: [{at: %dms, limits: {f: {concurrency: {max: %d}}}}]\n", 100+r.IntN(300),
			1+r.IntN(6))
	}
	fmt.Fprintf(&b,
		"    budgets: [source fares failed <= %d, source scans done >= %d, function f status 5xx < %d%%, project "+
			"abandoned == 0]\n",
		r.IntN(4), x.events["scans"]*r.IntN(11)/10, 1+r.IntN(15))
	rewrite(t, x.dir, "nightdrill.yaml", b.String())
	x.kills = r.IntN(3)
	return x
}

// what returns what the function wrote down.
func (x *thrown) what(t *testing.T) (out []logged) {
	t.Helper()
	file, err := os.Open(x.log)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	for lines := bufio.NewScanner(file); lines.Scan(); {
		var l logged
		if json.Unmarshal(lines.Bytes(), &l) == nil {
			out = append(out, l)
		}
	}
	return out
}

// carryOut carries the drill out, and kills some of its processes from outside meanwhile.
func (x *thrown) carryOut(t *testing.T, seed uint64) (s measure.Summary, rows []map[string]string, code int) {
	t.Helper()
	c := exec.Command(program, "run", "d", "--project", x.dir, "--json", filepath.Join(x.dir, "summary.json"), "--out",
		filepath.Join(x.dir, "out"))
	var content strings.Builder
	c.Stdout, c.Stderr = &content, &content
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	over := make(chan struct{})
	go func() { _ = c.Wait(); close(over) }() // the exit code tells
	r := rand.New(rand.NewPCG(seed, 78))
	for killed := 0; killed < x.kills; {
		select {
		case <-over:
			killed = x.kills
		case <-time.After(20 * time.Millisecond): // the run goes by the clock on the wall
			if all := x.what(t); len(all) > 15*(killed+1) {
				_ = syscall.Kill(all[r.IntN(len(all))].PID, syscall.SIGKILL) // it may be gone
				killed++
			}
		}
	}
	<-over
	code = c.ProcessState.ExitCode()
	read, err := os.ReadFile(filepath.Join(x.dir, "summary.json"))
	if err == nil {
		err = json.Unmarshal(read, &s)
	}
	if err != nil || code > 1 {
		t.Fatalf("seed %d: exit %d, %v\n%s", seed, code, err, content.String())
	}
	names, _ := filepath.Glob(filepath.Join(x.dir, "out", "*invocations*.csv"))
	if len(names) != 1 {
		t.Fatalf("seed %d: there are %v", seed, names)
	}
	file, err := os.Open(names[0])
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	all, err := csv.NewReader(file).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	for _, row := range all[1:] {
		m := map[string]string{}
		for i, name := range all[0] {
			m[name] = row[i]
		}
		rows = append(rows, m)
	}
	return s, rows, code
}

// Projects that were thrown together, with functions that fail at random, limits that
// change and processes that are killed from outside: what the functions wrote down, the
// summary, the CSV and the exit code agree.
func TestThrownProjectsAddUp(t *testing.T) {
	first, seeds := uint64(0), uint64(20)
	if testing.Short() {
		seeds = 4
	}
	if text := os.Getenv("NIGHTDRILL_SEEDS"); text != "" { // so many, or such as 100-140
		from, to, ranged := strings.Cut(text, "-")
		if !ranged {
			from, to = "0", text
		}
		var e1, e2 error
		first, e1 = strconv.ParseUint(from, 10, 16)
		seeds, e2 = strconv.ParseUint(to, 10, 16)
		if e1 != nil || e2 != nil || first >= seeds {
			t.Fatalf("NIGHTDRILL_SEEDS is %q", text)
		}
	}
	var common struct {
		failed, dead, retried, crashed, timeouts, rejected, batches, missed, held, killed, doubled,
		unheard int
	}
	for seed := first; seed < seeds; seed++ {
		x := throw(t, seed)
		s, rows, code := x.carryOut(t, seed)
		wrong := func(format string, args ...any) {
			t.Helper()
			content, _ := os.ReadFile(filepath.Join(x.dir, "nightdrill.yaml"))
			t.Errorf("seed %d: %s\n%s", seed, fmt.Sprintf(format, args...), content)
		}
		said := x.what(t)
		x.compare(s, rows, said, wrong)
		x.order(said, wrong)

		// the exit code is that of the budgets and of nothing else
		missed := 0
		for _, b := range s.Budgets {
			if !b.Held {
				missed++
			}
		}
		if (code == 1) != (missed > 0 || s.Events.Unexpected > 0) {
			wrong("exit %d with %d budgets missed: %+v", code, missed, s.Budgets)
		}
		if got := s.Sources["fares"].Failed; *s.Budgets[0].Measured != float64(got) {
			wrong("the budget measured %v failed, the summary has %d", *s.Budgets[0].Measured, got)
		}
		common.missed, common.held = common.missed+missed, common.held+len(s.Budgets)-missed
		common.failed, common.dead = common.failed+s.Events.Failed, common.dead+s.Events.DeadLettered
		f := s.Functions["f"]
		common.retried, common.crashed, common.timeouts = common.retried+f.Latency.Retried.N, common.crashed+f.Crashes,
			common.timeouts+f.Timeouts
		common.rejected, common.killed = common.rejected+s.Events.Rejected, common.killed+x.kills
		common.batches += len(x.batched)
		common.doubled, common.unheard = common.doubled+s.Faults["duplicated"],
			common.unheard+s.Faults["acknowledgement lost"]
		if left, _ := exec.Command("pgrep", "-f", x.log).Output(); len(left) > 0 {
			wrong("processes are left: %s", left)
		}
	}
	if !testing.Short() && seeds-first >= 20 && (common.failed < 10 || common.dead < 3 || common.retried < 30 ||
		common.crashed < 10 ||
		common.timeouts < 10 || common.batches < 5 || common.missed < 5 || common.held < 5 || common.killed < 5 ||
		common.doubled < 10 || common.unheard < 3) {
		t.Errorf("too little was common: %+v", common)
	}
}

// compare compares what the function wrote down with the summary and the CSV.
func (x *thrown) compare(s measure.Summary, rows []map[string]string, said []logged, wrong func(string, ...any)) {
	f := s.Functions["f"]
	// what faults brought twice is an event of its own; where an acknowledgement was lost, the
	// function has done what its source does not know to be done
	doubled, unheard := s.Faults["duplicated"], s.Faults["acknowledgement lost"]
	for source, n := range x.events {
		if source == "scans" {
			n += doubled
		}
		if c := s.Sources[source]; c.Arrived != n || c.Deliveries != n ||
			c.Done+c.Failed+c.DeadLettered+c.Rejected+c.Expired+c.Abandoned != n {
			wrong("%s: %d arrived, want %d: %+v", source, c.Arrived, n, c)
		}
	}
	// every invocation that the function saw is a row, and the other way round but for those
	// that a process did not live to write down
	invocations, attempts := len(rows), 0
	statuses, bySource := map[string]int{}, map[string]map[string]int{"rows": {}, "log": {}}
	for _, row := range rows {
		n, _ := strconv.Atoi(row["events"])
		attempts += n
		bySource["rows"][row["source"]]++
		if row["status"] != "" {
			statuses[row["status"]]++
		}
		if (row["result"] == "ok") != (row["status"] == "200" || row["status"] == "404" && row["source"] == "fares") &&
			row["result"] != "retry requested" && row["result"] != "acknowledgement lost" &&
			row["result"] != "run over" && row["result"] != "timeout" && // its end came too late, on a busy machine
			row["late"] != "true" {
			wrong("a row has the status %s and the result %s", row["status"], row["result"])
		}
		x.times(row, wrong)
	}
	// what is cut off between the function's log and its answer, or before its log, is of a
	// process that was killed, that crashed with others in progress, that timed out, or that
	// the end of the run ended
	cut := 0
	for _, row := range rows {
		if row["result"] == "run over" {
			cut++
		}
	}
	for _, in := range []int{f.Crashes, f.Timeouts, x.kills} {
		cut += 3 * in // slots
	}
	logs := map[string]int{}
	logAttempts := 0
	for _, l := range said {
		logAttempts += len(l.IDs)
		bySource["log"][l.Source]++
		if l.Status > 0 {
			logs[strconv.Itoa(l.Status)]++
		}
	}
	if d := invocations - len(said); d < 0 || d > cut {
		wrong("%d invocations, the function saw %d; at most %d were cut off", invocations, len(said), cut)
	}
	for status, n := range statuses {
		if s := f.Statuses[status]; s != n {
			wrong("status %s: %d rows, %d in the summary", status, n, s)
		}
		if d := logs[status] - n; d < 0 || d > cut {
			wrong("status %s: %d rows, the function answered it %d times", status, n, logs[status])
		}
	}
	if lost := f.Attempts - attempts; lost < 0 || lost > f.Instances.FailedStarts+f.Instances.Started {
		wrong("%d attempts, the rows have %d", f.Attempts, attempts)
	}
	// of each event, as many attempts as its source allows, and its outcome is that of the last
	times, ended := map[string]int{}, map[string]string{}
	good := map[string]int{}
	for _, l := range said {
		for i, id := range l.IDs {
			id = l.Source + " " + id
			if n := times[id]; l.Source != "fixes" || i == 0 {
				times[id] = n + 1
			} else {
				times[id] = n // a record behind others in its batch may come again without an attempt of its own
			}
			ok := l.Status == 200 || l.Status == 404 && l.Source == "fares"
			for _, again := range l.Again {
				ok = ok && l.Source+" "+again != id
			}
			ended[id] = map[bool]string{true: "ok", false: "bad"}[ok]
		}
	}
	for id, n := range times {
		source, _, _ := strings.Cut(id, " ")
		// payloads of a set that is used up come again under the same path, or another id
		if source == "scans" && doubled > 0 {
			n = (n + 1) / 2 // of two with one id
		}
		if source != "fares" && n > x.attempts[source] {
			wrong("%s was dispatched %d times of %d", id, n, x.attempts[source])
		}
		if ended[id] == "ok" {
			good[source]++
		}
	}
	for _, source := range []string{"scans", "fixes"} {
		slack := cut
		if source == "scans" {
			slack += doubled + unheard
		}
		if d := good[source] - s.Sources[source].Done; d > slack || d < -slack {
			wrong("%s: %d are done, of the function's log %d ended well", source, s.Sources[source].Done, good[source])
		}
	}
	accounted := f.Latency.N() + s.Events.Rejected + s.Events.Expired + s.Events.Abandoned + (f.Attempts - attempts)
	if accounted < s.Events.Deliveries-s.Sources["refused"].Deliveries {
		wrong("%d deliveries have a latency or none for a reason, of %d", accounted, s.Events.Deliveries)
	}
}

// times recomputes what a row says of its times.
func (x *thrown) times(row map[string]string, wrong func(string, ...any)) {
	at := func(name string) float64 { v, _ := strconv.ParseFloat(row[name], 64); return v }
	near := func(a, b float64) bool { return a-b < 1e-6 && b-a < 1e-6 }
	if row["sent_ms"] != "" && (!near(at("service_ms"), at("done_ms")-at("sent_ms")) ||
		!near(at("wait_ms"), at("sent_ms")-at("due_ms")) || at("wait_ms") < 0) {
		wrong("times do not add up: %v", row)
	}
	if row["latency_ms"] != "" && !near(at("latency_ms"), at("done_ms")-at("due_ms")) {
		wrong("latency: %v", row)
	}
}

// order checks that records of one key are first done in their order.
func (x *thrown) order(said []logged, wrong func(string, ...any)) {
	last := map[string]string{}
	seen := map[string]bool{}
	for _, l := range said {
		if l.Source != "fixes" {
			continue
		}
		for i, id := range l.IDs {
			if seen[id] {
				continue
			}
			seen[id] = true
			if round := strings.Split(id, "~"); len(round) == 1 && last[l.Keys[i]] > id {
				wrong("record %s of %s was dispatched after %s", id, l.Keys[i], last[l.Keys[i]])
			} else if len(round) == 1 {
				last[l.Keys[i]] = id
			}
		}
	}
}
