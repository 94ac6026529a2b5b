package project

import (
	"errors"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/arrival"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/plan"
)

const good = `
nightdrill: 1
project: brackwater-ferries
concurrency: 24
memory_per_cpu: 2GiB
services:
  tides-db: {start: [sh, -c, "exec tides"], ready: {tcp: "127.0.0.1:5433"}, reset: [true]}
functions:
  quote:
    start: [sh, -c, "exec serve {port}"]
    needs: [tides-db]
    env_file: quote.env
    watch: ["functions/**/*.py"]
    package: ["functions/*"]
    build: [make]
    variants:
      local: {start: [sh, run.sh], env: {DECKS: 4}, concurrency: {max: 1}}
      small: {listen: socket, connection: fresh, memory: 128MiB, parked: 2, start_rate: unbounded}
      held: {transport: attach, url: "http://127.0.0.1:9000"}
    env: {FARES: data/fares.json, DECKS: 3}
    timeout: 4s
    concurrency: {max: 8, per_instance: 2}
    keep_warm: 1
    idle_after: 45s
    memory: 512MiB
    cpu: by_memory
    replace: side_by_side
    start_rate: 5/s
    start_burst: 2
    ready: {http: /health}
  manifest:
    start: [sh, m]
    then:
      - {to: scans, when: {status: [200, 2xx], header: {x-next: "*"}, values: {/ok: true}},
        type: brackwater.loaded, shape: {template: "{{json .Data}}"}}
      - {to: fares, request: {method: GET, path: /quote/x}}
      - {to: cargo, key: "done/{{.ID}}"}
  clerk: {start: [sh, -s], transport: lines, ready: {line: "at the desk"}}
  bell: {start: [sh, -s], transport: oneshot, turn_away: true}
  boarding: {start: [sh], deliver: structured, ready: {line: "listening on \\d+"}, timeout: 5s}
sources:
  fares: {kind: http, wait: 250ms, wires: [{to: quote, when: {method: GET, path: "/quote/{crossing}"}}, {to: quote}]}
  scans: {kind: queue, batch: {max: 6, wait: 200ms}, lease: 20s, attempts: 4, dead_letter: scans-refused,
    wires: [{to: boarding}]}
  scans-refused: {kind: queue}
  cargo: {kind: storage, bucket: holds, poll: 2s, attempts: 2, wires: [{to: manifest,
    when: {key: "manifests/*.csv", action: [created, overwritten]}}]}
  vessels: {kind: stream, partitions: 8, key: /vessel, on_failure: split, begin: new, batch: {max: 10},
    wires: [{to: boarding, when: {attributes: {type: "brackwater.*"}}}]}
  nightly: {kind: schedule, cron: "15 2 * * *", zone: Europe/Lisbon, while_running: wait, missed: once,
    wires: [{to: boarding}]}
  counted: {kind: queue, lease: 4s, extend_to: 1m, group: /pass, delay: 1s}
payloads:
  fare-requests: {recording: fares.har, expect: {status: 200, values: {/cents: 450}, leave_out: [/at]}}
  boarding-scans: {recording: scans.ndjson, broken: skip}
  scans-made: {schema: scan.json, seed: 7, count: 20, extras: true}
  asks-made: {schema: scan.json, mode: broken, count: 3, request: {path: /scan}}
cost: {currency: EUR, memory: 0.00002, request: 0.002, round_up: 1ms, billed: [start, invocation]}
runs: {keep: 50, for: 30d, size: 500MiB}
drills:
  friday-evening:
    seed: 7
    idempotence: true
    feeds:
      - {source: nightly, clock: {from: "2026-03-28 22:00", for: 10h, in: 20s}}
      - {source: vessels, payloads: boarding-scans, retained: 1, arrive: once, faults: {duplicate: 5%,
        delay: {share: 0.5%, by: 2s}, drop_ack: 1%}}
      - {source: scans, payloads: boarding-scans, arrive: [{recorded: {speed: 4}}, once]}
      - source: fares
        payloads: fare-requests
        arrive:
          - {poisson: 40/s, for: 12s}
          - {ramp: {from: 0/s, to: 2.5/s}, for: 8s}
          - {burst: {size: 5, every: 1s}, for: 3s}
          - {callers: {count: 8, rate: 100/s}, for: 3s}
    limits: {quote: {concurrency: {max: 4}}}
    concurrency: 20
    changes:
      - {at: 2s, concurrency: 12, limits: {quote: {turn_away: true}, clerk: {keep_warm: 1}}}
      - {at: 4s, limits: {quote: {turn_away: false, start_rate: 90/m}}, replace: quote}
    budgets:
      - function quote cold p95 < 900ms
      - source scans failed == 0
  starts:
    cold_starts: {n: 12, warm: 40, files: [cached, dropped], of: [quote, quote@small]}
    feeds: [{source: fares, payloads: fare-requests}]
    budgets: [function quote@small cold p50 < 2s]
`

const scan = `{"specversion":"1.0","id":"1","source":"s","type":"t","time":"2026-11-20T18:00:00Z"}` + "\n"

// write makes a project folder.
func write(t *testing.T, yaml string) string {
	dir := t.TempDir()
	for name, text := range map[string]string{
		File:        yaml,
		"quote.env": "# fares\nHARBOUR=\"Skerry Holm\"\nDECKS=2\n",
		"run.sh":    "exec serve",
		"scan.json": `{"type":"object","required":["pass"],"properties":{"pass":{"type":"string",` +
			`"pattern":"^BF-[0-9]{4}$"}}}`,
		"scans.ndjson": scan + "{broken\n",
		"fares.har": `{"log":{"entries":[{"startedDateTime":"2026-11-20T18:00:00Z","request":{"method":"GET",` +
			`"url":"http://fares.example/quote/x"}}]}}`,
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, folder := range []string{"crates", "hold"} {
		if err := os.Mkdir(filepath.Join(dir, folder), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "crates", "a\nb.csv"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	return dir
}

func TestAGoodFileIsResolved(t *testing.T) {
	l, err := Load(t.Context(), write(t, good))
	if err != nil {
		t.Fatal(err)
	}
	q := &l.Functions[0]
	if q.Limits != (plan.Limits{Max: 8, PerInstance: 2, KeepWarm: 1, IdleAfter: 45 * time.Second,
		StartEvery: 200 * time.Millisecond, StartBurst: 2}) || q.Timeout != 4*time.Second {
		t.Errorf("quote has %+v", q)
	}
	if got := strings.Join(q.Env, " "); got != "DECKS=3 FARES=data/fares.json HARBOUR=Skerry Holm" {
		t.Errorf("environment %q", got)
	}
	v := &q.Variants[0]
	if v.Name != "quote@local" || v.Start[1] != "run.sh" || v.Limits.Max != 1 || v.Limits.KeepWarm != 0 ||
		v.Timeout != q.Timeout ||
		strings.Join(v.Env, " ") != "DECKS=4 FARES=data/fares.json HARBOUR=Skerry Holm" ||
		strings.Join(v.Watch, " ") != "run.sh" || v.Build == nil {
		t.Errorf("its variant has %+v", v)
	}
	if v := &q.Variants[1]; !v.Socket || !v.Fresh || v.Parked != 2 || v.Memory != 128<<20 || v.CPU != 0.0625 ||
		v.Limits.StartEvery != 0 ||
		q.CPU != 0.25 || q.Replace != plan.SideBySide {
		t.Errorf("its small variant has %+v, it %+v", v, q)
	}
	if c, b := &l.Functions[2], &l.Functions[3]; c.Transport != plan.Lines || c.Ready.By != plan.ReadyLine ||
		b.Transport != plan.OneShot || !b.Limits.TurnAway {
		t.Errorf("without a port there are %+v and %+v", c, b)
	}
	if v := &q.Variants[2]; v.Transport != plan.Attach || v.Address != "127.0.0.1:9000" || v.Start != nil ||
		v.Limits.Instances() != 1 {
		t.Errorf("its attached variant has %+v", v)
	}
	if x := l.Sets[0].Expect; x == nil || len(x.Check(&payload.Payload{}, 200, []byte(`{"cents":450}`))) != 2 ||
		x.Check(&payload.Payload{}, 404, []byte(`{"cents":451}`))[1].Held {
		t.Errorf("expectations %+v", x)
	}
	if made := l.Sets[2].Payloads; len(made) != 20 || made[4].Event.ID != "scans-made-7-5" ||
		made[4].Event.Type != "scans-made.made" || !strings.Contains(string(made[4].Event.Data), `"pass":"BF-`) {
		t.Errorf("made events %+v", made)
	}
	if made := l.Sets[3].Payloads; len(made) != 3 || made[0].Label() != "POST /scan" ||
		strings.HasPrefix(string(made[0].Request.Body), `{"pass":"BF-`) &&
			strings.HasSuffix(string(made[0].Request.Body), `"}`) && len(made[0].Request.Body) == 18 {
		t.Errorf("made requests %+v", made)
	}
	s := &l.Sources[1]
	if s.BatchMax != 6 || s.Attempts != 4 || s.DeadLetter != 2 || s.Lease != 20*time.Second {
		t.Errorf("scans has %+v", s)
	}
	m := l.Functions[1].Then
	if len(m) != 3 || m[0].To != 1 || m[0].Status[1] != (plan.StatusRange{From: 200, To: 299}) ||
		m[0].Values[0].At != "/ok" || m[1].Method != "GET" || m[2].Objects == nil {
		t.Errorf("manifest sends on %+v", m)
	}
	c, vessels, n := &l.Sources[3], &l.Sources[4], &l.Sources[5]
	if c.Bucket != "holds" || c.Poll != 2*time.Second || c.Wires[0].When.Key != "manifests/*.csv" ||
		vessels.Partitions != 8 || vessels.Key != "/vessel" || vessels.OnFailure != plan.Split || !vessels.FromNew ||
		len(n.Times) != 1 || n.Times[0].Zone.String() != "Europe/Lisbon" || n.WhileRunning != plan.Wait || !n.CatchUp ||
		n.Attempts != 1 {
		t.Errorf("sources %+v %+v %+v", c, vessels, n)
	}
	d := l.DrillNamed("friday-evening")
	if k := d.Feeds[0].Clock; k == nil || k.Speed != 1800 || k.From.Format(time.RFC3339) != "2026-03-28T22:00:00Z" {
		t.Errorf("the clock of the night is %+v", k)
	}
	if f := d.Feeds[1]; f.Retained != 1 || f.Faults.Duplicate != 50_000 || f.Faults.Delay != 5_000 || !d.Idempotence {
		t.Errorf("faults %+v", f)
	}
	d.Feeds = d.Feeds[2:]
	if d.Limits[0].Max != 4 || d.Limits[0].PerInstance != 2 || d.Limits[4].Max != 10 || d.Concurrency != 20 ||
		d.Seed != 7 || len(d.Budgets) != 2 {
		t.Errorf("the drill has %+v", d)
	}
	if c := d.Changes; len(c) != 5 || c[0].Concurrency != 12 || !c[1].Limits.TurnAway || c[1].Limits.Max != 4 ||
		c[2].Function != 2 || c[3].Limits.TurnAway ||
		c[3].Limits.StartRate() != "1.5/s" || !c[4].Replace || c[4].At != 4*time.Second {
		t.Errorf("changes %+v", c)
	}
	cold, starts := l.ColdPlan(l.DrillNamed("starts"))
	// both are started ahead
	if len(cold.Functions) != 2 || cold.Functions[1].Name != "quote@small" || cold.Functions[1].Dropped ||
		cold.Sources[1].Wires[0].To != 1 || len(starts.Feeds) != 2 {
		t.Errorf("a plan of cold starts %+v, %+v", cold.Functions, starts)
	}
	if p := d.Feeds[1].Phases; len(p) != 4 || p[1].To != (arrival.Rate{Events: 25, Per: 10 * time.Second}) {
		t.Errorf("phases %+v", p)
	}
	if len(l.Skipped) != 1 || l.Skipped[0].Line != 2 {
		t.Errorf("skipped %v; want line 2 of the recording", l.Skipped)
	}
}

// What is paid, which runs are kept, what is deployed.
func TestCostRunsAndPackages(t *testing.T) {
	l, err := Load(t.Context(), write(t, good))
	if err != nil {
		t.Fatal(err)
	}
	if want := (plan.Rates{Currency: "EUR", GiBSecond: 0.00002, Request: 0.002, RoundUp: time.Millisecond,
		Billed: []string{"start", "invocation"}}); l.Rates == nil || !reflect.DeepEqual(*l.Rates, want) {
		t.Errorf("rates %+v, want %+v", l.Rates, want)
	}
	if want := (plan.Keeping{Runs: 50, For: 30 * 24 * time.Hour, Bytes: 500 << 20}); l.Keep != want {
		t.Errorf("keeps %+v, want %+v", l.Keep, want)
	}
	q := l.Functions[l.FunctionNamed("quote")]
	if !slices.Equal(q.Package, []string{"functions/*"}) || !slices.Equal(q.Variants[0].Package, q.Package) {
		t.Errorf("packages %v, of its variant %v", q.Package, q.Variants[0].Package)
	}
	if c := l.DrillNamed("starts").Cold; c.N != 12 || c.Warm != 40 {
		t.Errorf("%+v", c)
	}
	if l, err = Load(t.Context(), write(t, strings.Replace(good, ", billed: [start, invocation]", "",
		1))); err != nil || !slices.Equal(l.Rates.Billed, []string{"start", "invocation"}) {
		t.Errorf("billed by default: %+v, %v", l.Rates, err)
	}
	// a budget on cost wants rates
	without := strings.Replace(strings.Replace(good, "cost: {currency: EUR, memory: 0.00002, request: 0.002, "+
		"round_up: 1ms, billed: [start, invocation]}\n", "", 1), "- source scans failed == 0", "- project cost < 1", 1)
	if _, err := Load(t.Context(), write(t, without)); err == nil || !strings.Contains(err.Error(),
		"the project has no rates; add a cost") {
		t.Error(err)
	}
}

// errors are changes of the good file, with what the reader says of them;
// form reports whether the mistake is one of the file's form, which a schema sees.
var mistakes = []struct {
	old, new, want string
	form           bool
}{
	{"nightdrill: 1", "nightdrill: 2", `:2:13: nightdrill: this program supports file version 1`, true},
	{"    timeout: 4s", "    timeuot: 4s", `:21:5: unknown setting functions.quote.timeuot; did you mean timeout?`,
		true},
	{"    seed: 7\n", "    seed: 7\n    marks: [{text: rush}]\n",
		"marks[0].at is missing, such as {at: 5s, text: rush}",
		true},
	{"    seed: 7\n", "    seed: 7\n    marks: [{at: 1s, text: ''}]\n", "marks[0].text must have 1 to 40 characters",
		true},
	{"start: [sh]", "handler: boarding.py", `"boarding.py" must have the form FILE:NAME`, true},
	{"start: [sh]", "handler: 'boarding.rb:f'", "boarding.rb is not Python", false},
	{"start: [sh]", "handler: 'boarding.py:f'", "functions.boarding.handler: no file boarding.py", false},
	{"start: [sh]", "handler: 'a.py:f', start: [sh]", "either a handler, which is loaded, or a start command", false},
	{"start: [sh]", "handler: 'a.py:f'", "a handler is ready when it is loaded", false},
	{"start: [sh]", "handler: 'a.py:f', takes: everything", `"everything" must be one of event, data, request, shaped`,
		true},
	{"start: [sh]", "handler: 'a.py:f', takes: shaped", "missing template", false},
	{"start: [sh]", "handler: 'a.py:f', reply: {status: code}", `"code" is not a JSON Pointer, such as /status`, true},
	{"start: [sh]", "handler: 'a.py:f', interpreter: [pyhton3]", `"pyhton3" not found`, false},
	{"start: [sh]", "start: [sh], takes: data", "functions.boarding.takes needs a handler", false},
	{"timeout: 4s", "timeout: 4 seconds", `:21:14: functions.quote.timeout: "4 seconds" is not a duration`, true},
	{"start: [sh]", "start: [hs-missing-command]", `not found on the PATH`, false},
	{"start: [sh]", "start: sh", `functions.boarding.start is "sh"; expected a list`, true},
	{"start: [sh], deliver", "start: [./no-such], deliver", "no file ./no-such", false},
	{"{max: 8,", "{max: -1,", "functions.quote.concurrency.max is -1; it must be at least 0", true},
	{"{max: 8,", "{max: 8, guaranteed: 9,", "guaranteed is 9, but at most 8 may be in flight", false},
	{"keep_warm: 1", "keep_warm: 9", "functions.quote.keep_warm is 9, but", false},
	{"{to: boarding}", "{to: bording}", `unknown function "bording"; did you mean boarding?`, false},
	{"{to: quote}]", "{to: quote, wehn: {}}]", "did you mean when?", true},
	{`"/quote/{crossing}"`, `"quote"`, "must begin with /", false},
	{"max: 8, per_instance: 2}", "max: 30, guaranteed: 25}", "the functions' guaranteed shares add up to 25, but the " +
		"project's concurrency is 24", false},
	{"lease: 20s", "lease: 20s, max_age: old", `"old" is not a duration`, true},
	{"wait: 250ms", "wait: 250ms, backoff: 1s", "not a setting of a source of kind http", true},
	{"lease: 20s", "lease: 5s", "longer than the timeout", false},
	{"dead_letter: scans-refused", "dead_letter: scans-refsued", "did you mean scans-refused?", false},
	{"dead_letter: scans-refused", "dead_letter: scans", "come back to it", false},
	{"dead_letter: scans-refused", "dead_letter: fares", "is not a queue", false},
	{"{poisson: 40/s, for: 12s}", "{steady: 1000000/s, for: 1m}",
		"would produce 60000000 events, and a run keeps each of them; the limit of one phase is 10000000", false},
	{"lease: 20s", "lease: 20s}\n  own: {kind: storage, folder: .",
		"contains the project file or .nightdrill, which uploads could then replace", false},
	{"lease: 20s", "lease: 20s}\n  own: {kind: storage, folder: .nightdrill/x",
		"contains the project file or .nightdrill",
		false},
	{"wait: 250ms", "lease: 3s", "not a setting of a source of kind http", true},
	{"recording: fares.har", "recording: fares.hra", "did you mean fares.har?", false},
	{"recording: fares.har", "recording: ../fares.har", "leaves the project's folder", false},
	{", broken: skip", "", "scans.ndjson:2: not valid JSON", false},
	{"{source: scans, payloads: boarding-scans,", "{source: scans, payloads: fare-requests,",
		"contains HTTP requests, but scans is a source of kind queue", false},
	{"{poisson: 40/s, for: 12s}", "{poisson: 40, for: 12s}", `"40" is not a rate`, true},
	{"{poisson: 40/s, for: 12s}", "{poisson: 40/s}", "missing duration", true},
	{"{poisson: 40/s, for: 12s}", "{poisson: 40/s, steady: 2/s, for: 12s}", "a phase has one pattern", true},
	{"{callers: {count: 8, rate: 100/s}, for: 3s}", "{callers: {rate: 100/s}, for: 3s}", "count is missing", true},
	{"limits: {quote:", "limits: {qoute:", "did you mean quote?", false},
	{"cold p95 <", "cold p105 <", `"p105" is not a figure`, false},
	{"source scans failed == 0", "project failed == 0ms", "must be a number, a share such as 2%, or a rate", false},
	{"request: 0.002", "request: -1", `"-1" must be a number of at least 0`, true},
	{"memory: 0.00002, request: 0.002, ", "", "has no rate", true},
	{"billed: [start, invocation]", "billed: [start, rest]", `"rest" is not a phase`, true},
	{"keep: 50", "keep: 0", "it must be at least 1", true},
	{"for: 30d", "for: a while", `"a while" is not a duration`, false},
	{"size: 500MiB", "size: 5kB", "must be a size of at least 1 MiB", false},
	{"warm: 40", "warm: 0", "it must be at least 1", true},
	{"package: [\"functions", "package: [\"../functions", "leaves the project's folder", false},
	{"function quote cold", "function quoth cold", "did you mean quote?", false},
	{"source scans failed == 0", "source scans failed = 0", `"=" is not a comparison`, false},
	{"needs: [tides-db]", "needs: [tide-db]", "did you mean tides-db?", false},
	{"watch: [\"functions", "watch: [\"../functions", "leaves the project's folder", false},
	{"watch: [\"functions/**", "watch: [\"functions/{a", "is not a pattern", false},
	{"env_file: quote.env", "env_file: quote.evn", "did you mean quote.env?", false},
	{"transport: attach, url", "start: [sh], url", "needs transport: attach", false},
	{"transport: attach, url", "transport: attach, ulr", "did you mean url?", true},
	{"http://127.0.0.1:9000", "https://127.0.0.1:9000", "must have the form http://host:port", true},
	{"transport: attach, url", "transport: attach, start: [sh], url", "is started elsewhere", false},
	{"{tcp: \"127.0.0.1:5433\"}", "{tcp: 5433}", "is not an address", false},
	{"status: 200", "status: fine", "is not an HTTP status", true},
	{"/cents: 450", "cents: 450", "is not a JSON Pointer", true},
	{"status: 200", "schema: no.json", "no.json", false},
	{"count: 20, extras: true", "count: 20, extras: maybe", "extras: \"maybe\" must be", true},
	{"schema: scan.json, seed", "schema: scna.json, seed", "did you mean scan.json?", false},
	{"count: 20", "count: 2000000", "it must be at most 100000", true},
	{"count: 3, request: {path: /scan}", "recording: fares.har", "a set is either recorded or generated", true},
	{"{recording: fares.har, expect", "{recording: fares.har, seed: 3, expect", "needs schema", false},
	{"path: /scan", "path: scan", "must begin with /", true},
	{"count: 20", "count: 20, size: large", `"large" is not a size`, false},
	{"count: 20", "count: 20, body: yaml", "json, csv, form", true},
	{"count: 20", "count: 20, kind: har", "a set is either recorded or generated", false},
	{"count: 20", "count: 20, operation: x", "needs openapi", false},
	{"schema: scan.json, seed", "openapi: scan.json, seed", "not OpenAPI 3", false},
	{"schema: scan.json, seed", "openapi: scan.json, body: csv, seed", "describes the whole request", false},
	{"{recording: fares.har, expect", "{recording: fares.har, kind: tape, expect", "tape", true},
	{"{recording: fares.har, expect", "{recording: fares.har, time: at, expect", "is not a JSON Pointer", true},
	{"{recording: fares.har, expect", "{recording: fares.har, fits: none.json, expect", "none.json", false},
	{"{recording: fares.har, expect", "{recording: fares.har, expect_each: {99: {status: 200}}, expect",
		"has payloads 1 to", false},
	{"{recording: fares.har, expect", "{recording: fares.har, expect_each: [1], expect",
		"expected a mapping of payload numbers", true},
	{"{recording: fares.har, expect", "{recording: fares.har, expect_each: {1: {stauts: 200}}, expect",
		"did you mean status?", true},
	{"status: 200", "recorded: true", "was recorded without a reply", false},
	{"scans-made: {", "crates: {recording: crates}\n  scans-made: {",
		`payloads.crates.recording: "a\nb.csv" is not a name for an object`, false},
	{"scans-made: {", "crates: {recording: crates, kind: json}\n  scans-made: {",
		"payloads.crates.kind cannot be used with a folder", false},
	{"scans-made: {", "crates: {recording: hold}\n  scans-made: {", "the folder hold has no files", false},
	{"deliver: structured", "deliver: shaped", "missing template", false},
	{"deliver: structured", "deliver: structured, shape: {template: x}", "needs deliver: shaped", false},
	{"deliver: structured", "deliver: shaped, shape: {template: none.tmpl}", "none.tmpl cannot be read", false},
	{"deliver: structured", "deliver: shaped, shape: {template: '{{.ID'}", "unclosed action", false},
	{"boarding: {start: [sh]", "boarding: {start: [sh], then: [{to: scans}]",
		"functions.boarding.then: replies go round in an endless circle: boarding → boarding", false},
	{"    needs: [tides-db]", "    then: [{to: fares, request: {method: GET, path: /quote/x}}]\n    needs: [tides-db]",
		"functions.quote.then: replies go round in an endless circle: quote → quote", false},
	{"boarding: {start: [sh]", "boarding: {start: [sh], then: [{to: vessels, type: brackwater.seen}]",
		"round in an endless circle: boarding → boarding", false},
	{"15 2 * * *", "15 2 31 2 *", "can never fire", false},
	{"15 2 * * *", "15 25 * * *", "the hour", false},
	{"Europe/Lisbon", "Europe/Brackwater", "is not a time zone", false},
	{"cron: \"15 2 * * *\", ", "", "cron is missing", true},
	{"while_running: wait", "while_running: queue", "must be one of drop, wait, parallel", true},
	{"poll: 2s", "poll: 2s, notify: push", "remove one of them", false},
	{"poll: 2s", "notify: poll", "missing interval", false},
	{"bucket: holds", "bucket: ../holds", "is not a name for a bucket", true},
	{"key: \"manifests/*.csv\"", "bucket: hold", "could never take anything", false},
	{"key: \"manifests/*.csv\"", "attributes: {type: storage.object.removed}", "and the action created or overwritten",
		false},
	{"key: \"manifests/*.csv\"", "key: \"manifests/[\"", "is not a pattern", false},
	{"action: [created", "action: [crated", "did you mean created?", true},
	{"key: \"manifests/*.csv\"", "method: GET", "of kind storage have conditions on bucket, key, action, attributes",
		true},
	{"{to: quote}]", "{to: quote, when: {method: GET, path: /quote/north}}]",
		"sources.fares.wires[1]: no event ever reaches GET /quote/north here", false},
	{"partitions: 8", "partitions: 2000", "it must be at most 1024", true},
	{"key: /vessel", "key: Vessel", "must be a JSON Pointer", false},
	{"on_failure: split", "on_failure: halve", "must be one of skip, split", true},
	{"extend_to: 1m", "extend_to: 3s", "must be longer than the lease", false},
	{"delay: 1s", "delay: 1s, max_age: 500ms", "none would ever become visible", false},
	{"dead_letter: scans-refused", "dead_letter: vessels", "is not a queue", false},
	{"kind: queue, lease: 4s", "kind: queue, dead_letter: counted, lease: 4s", "come back to it", false},
	{"retained: 1", "retained: 9", "has 1 payloads", false},
	{"duplicate: 5%", "duplicate: 5", "must be a share", true},
	{"delay: {share: 0.5%, by: 2s}", "delay: {share: 0.5%}", "by is missing", true},
	{"for: 10h, in: 20s}", "for: 2500000h, in: 20s}", "falls due more than 99999 times", false},
	{"in: 20s", "speed: fast", "must be a factor", false},
	{"in: 20s", "in: 20s, speed: 9", "mean the same", false},
	{"from: \"2026-03-28 22:00\"", "from: tonight", "is not a time", false},
	{"{source: nightly, clock: {from: \"2026-03-28 22:00\", for: 10h, in: 20s}}", "{source: nightly, arrive: once}",
		"come from its clock", false},
	{"{to: cargo, key", "{to: nightly, key", "is a schedule", false},
	{"{to: fares, request", "{to: scans, request", "is for a source of kind http", false},
	{"{to: cargo, key: \"done/{{.ID}}\"}", "{to: cargo, key: \"done/{{.ID\"}", "unclosed action", false},
	{"status: [200, 2xx]", "status: [200, 2x]", "is not an HTTP status", true},
	{"action: [created, overwritten]}}]}", "action: [created]}}, {to: manifest}]}", "manifest → manifest", false},
	{"wait: 250ms", "wait: 250ms, cors: {headers: [x]}", "the origins of the pages", true},
	{"wait: 250ms", "wait: 250ms, cors: {origins: [\"*\"], credentials: true}", "browsers refuse credentials", false},
	{"wait: 250ms", "wait: 250ms, cors: {origins: [\"http://localhost:3000/x\"]}", "is not an origin", false},
	{"wait: 250ms", "wait: 250ms, token: \"a b\"", "contain spaces", false},
	{"wait: 250ms", "wait: 250ms, token: {env: NIGHTDRILL_NO_SUCH_TOKEN}", "is not set", false},
	{"cpu: by_memory", "cpu: 0", "must be a number of processors", false},
	{"memory_per_cpu: 2GiB\n", "", "needs the project's memory_per_cpu", false},
	{"memory: 512MiB", "memory: 12", "less than 1 MiB", false},
	{"memory: 512MiB", "memory: lots", "is not a size", true},
	{"replace: side_by_side", "replace: side_by_sied", "did you mean side_by_side?", true},
	{"    start_rate: 5/s\n", "", "start_burst needs start_rate", false},
	{"start_rate: 5/s", "start_rate: 0/s", "must be above 0", false},
	{"listen: socket", "listen: pipe", "must be one of port, socket", true},
	{"transport: lines,", "transport: lines, listen: socket,", "uses its standard input", false},
	{"transport: lines,", "transport: lines, concurrency: {per_instance: 2},", "one event at a time", false},
	{"ready: {line: \"at the desk\"}", "ready: {http: /}", "it listens on no port", false},
	{"transport: oneshot,", "transport: oneshot, keep_warm: 1,", "none before or after it", false},
	{"transport: attach, url", "transport: attach, memory: 64MiB, url", "is started elsewhere", false},
	{"{at: 4s, limits", "{at: 1s, limits", "in the order of their times", false},
	{"clerk: {keep_warm: 1}", "clerk: {concurrency: {per_instance: 2}}", "transport: lines handles one event at a time",
		false},
	{"limits: {quote: {concurrency: {max: 4}}}", "limits: {bell: {keep_warm: 1}}", "has a process for each invocation",
		false},
	{"clerk: {keep_warm: 1}", "clerc: {keep_warm: 1}", "did you mean clerk?", false},
	{"concurrency: 12,", "concurrency: 12, replaces: quote,", "did you mean replace?", true},
	{"of: [quote, quote@small]", "of: [quote@smal]", "did you mean quote@small?", false},
	{"function quote@small cold", "function quote@smal cold", "did you mean quote@small?", false},
	{"files: [cached, dropped]", "files: warm", "must be cached or dropped", true},
	{"fare-requests}]\n", "fare-requests, arrive: once}]\n", "send one event after the other", false},
	{"{to: quote}]", "{shares: {quote: 90, quote@small: 20}}]", "must add up to 100; they add up to 110", false},
	{"{to: quote}]", "{shares: {quote: 90, quote@smal: 10}}]", "did you mean quote@small?", false},
	{"{to: quote}]", "{shares: {quote: 90.5, quote@small: 9.5}}]", "a whole number of percents", true},
	{"{to: quote}]", "{shares: [quote]}]", "expected percents by function and variant", true},
	{"{to: quote}]", "{to: quote, shares: {quote: 100}}]", "either to, one function, or shares", true},
	{"{to: quote}]", "{to: quote@small}]", "a variant is reached with a share: shares: {quote@small: 100}", false},
	{"scans-refused: {kind: queue}", "scans-refused: {kind: queue, wires: [{shares: {bell: 50, boarding: 50}}]}",
		"a dead-letter queue sends everything to its functions", false},
	{
		"build: [make]",
		"build: [make]\n    target: {os: lunix, arch: arm64}",
		"must be one of linux, darwin, windows",
		true,
	},
	{"build: [make]", "build: [make]\n    target: {arch: amd46}", "did you mean amd64?", false},
	{"build: [make]", "build: [make]\n    target: {os: linux}", "target.arch is missing", true},
	{"DECKS: 3}", "DECKS: \"{publish:scanz}\"}", "did you mean scans?", false},
	{
		"DECKS: 3}",
		"DECKS: \"{publish:cargo}\"}",
		"is of kind storage; events are published to queues and streams",
		false,
	},
	{"DECKS: 3}", "PUBLISH_URL: x}", "PUBLISH_URL is set by Night Drill", false},
	{"scans-refused: {kind: queue}", "scans-refused: {kind: queue, token: \"a b\"}", "contain spaces", false},
	{
		"nightly: {kind: schedule,",
		"nightly: {kind: schedule, token: abc,",
		"token is not a setting of a source of kind " +
			"schedule",
		true,
	},
	{"build: [make]", "build: [make]\n    reach_at: \"a b\"", "is not a host name or an address", false},
	{"build: [make]", "build: make", "expected a list", true},
	{"functions:\n", "functions:\n  boarding: {start: [sh]}\n", "already defined", false},
	{"  quote:\n", "  quote:\n   - x\n", "not valid YAML", false},
}

// Each change of the good file gives the mistake, at the place.
func TestMistakesNameTheirPlaceAndAWayOut(t *testing.T) {
	for _, c := range mistakes {
		if !strings.Contains(good, c.old) {
			t.Fatalf("%q is not in the good file", c.old)
		}
		l, err := Load(t.Context(), write(t, strings.Replace(good, c.old, c.new, 1)))
		if err == nil {
			err = l.Startable()
		}
		var all Mistakes
		if !errors.As(err, &all) {
			t.Errorf("%q: error %v, want mistakes", c.new, err)
			continue
		}
		if !strings.Contains(all.Error(), c.want) {
			t.Errorf("%q:\n%v\nwant %q", c.new, all, c.want)
		}
		for _, m := range all {
			if m.Line == 0 {
				t.Errorf("%q: %v has no line", c.new, m)
			}
		}
	}
}

func TestAllMistakesAtOnce(t *testing.T) {
	bad := strings.NewReplacer("timeout: 4s", "timeout: soon", "idle_after: 45s", "idle_after: never", "{to: boarding}",
		"{to: no-one}").Replace(good)
	_, err := Load(t.Context(), write(t, bad))
	var all Mistakes
	if !errors.As(err, &all) || len(all) != 4 {
		t.Errorf("got %v; want four mistakes", err)
	}
	if _, err := Load(t.Context(), t.TempDir()); !errors.Is(err, ErrNoProject) {
		t.Errorf("an empty folder gave %v", err)
	}
}

func FuzzParse(f *testing.F) {
	dir := f.TempDir()
	f.Add(good)
	f.Add("nightdrill: 1\nfunctions: &a {x: *a}\n")
	f.Fuzz(func(t *testing.T, text string) {
		l, err := parse(t.Context(), dir, []byte(text))
		if (l == nil) == (err == nil) {
			t.Errorf("both or neither: %v %v", l, err)
		}
	})
}

// A payload is found by its set and its place in it.
func TestAPayloadIsFound(t *testing.T) {
	l, err := Load(t.Context(), write(t, good))
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{
		"fare-requests": "GET /quote/x", "fare-requests#1": "GET /quote/x",
		"scans-made#20":   "scans-made.made scans-made-7-20",
		"fare-requests#2": "! fare-requests has payloads 1 to 1, not 2", "scans-made#0": "! not 0",
		"scans-made#x": "! not x", "scans-made#": "! has payloads 1 to 20",
		"scans-maed": "! did you mean scans-made?", "": "! no payload set",
	} {
		p, err := l.Payload(name)
		if bad, ok := strings.CutPrefix(want, "! "); ok {
			if err == nil || !strings.Contains(err.Error(), bad) {
				t.Errorf("%s: error %v, want %q", name, err, bad)
			}
		} else if err != nil || p.Label() != want {
			t.Errorf("%s: %+v, %v", name, p, err)
		}
	}
	// a name that no set has may be something else's
	if set, n, err := l.InSet("own-request"); set != nil || n != 0 || err != nil {
		t.Errorf("a name of no set: %v %d %v", set, n, err)
	}
}
