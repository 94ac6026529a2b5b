package cli

import (
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
)

func rewrite(t *testing.T, dir, name, content string) {
	t.Helper()
	path := filepath.Join(dir, filepath.FromSlash(name))
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
		t.Fatal(err)
	}
}

// The drill that init writes passes by itself: for every kind of source, and every
// language that this machine has.
func TestTheFirstDrillPasses(t *testing.T) {
	languages := []string{"python", "node", "go", "java"}
	commands := map[string]string{"python": "python3", "node": "node", "go": "go", "java": "java"}
	first := ""
	type begun struct{ language, kinds string }
	var all []begun
	for _, l := range languages {
		if _, err := exec.LookPath(commands[l]); err != nil {
			t.Logf("NOT TESTED with %s, which is not on this machine", l)
			continue
		}
		if first == "" {
			first = l
			continue
		}
		all = append(all, begun{l, "http,queue,storage,stream,schedule"})
	}
	for _, kind := range []string{"http", "queue", "storage", "stream", "schedule"} {
		all = append(all, begun{first, kind})
	}
	for _, b := range all {
		t.Run(b.language+" "+b.kinds, func(t *testing.T) {
			dir := filepath.Join(t.TempDir(), "quay")
			if err := os.Mkdir(dir, 0o755); err != nil {
				t.Fatal(err)
			}
			expectCall(t, dir, []string{"init", "--lang", b.language, "--sources", b.kinds}, 0, nil)
			content := read(t, dir+"/nightdrill.yaml")
			for _, x := range [][2]string{{"    budgets:", "    settle: 5m\n    budgets:"}, {"idle_after: 40s",
				"idle_after: 10m\n    start_timeout: 5m"}, {"timeout: 10s", "timeout: 2m"},
				{"all max < 30s", "all max < 10m"}} { // a machine may be slow
				if !strings.Contains(content, x[0]) {
					t.Errorf("there is no %s in\n%s", x[0], content)
				}
				content = strings.Replace(content, x[0], x[1], 1)
			}
			rewrite(t, dir, "nightdrill.yaml", content)
			expectCall(t, dir, []string{"run", "first"}, 0, []string{"met         project failed == 0"})
		})
	}
}

// Every expectation is fired, also of sets that no drill uses; one of which it is not clear
// where it goes is an error that says what to do.
func TestNoExpectationIsLeftOut(t *testing.T) {
	dir := lay(t, served, "")
	content := read(t, dir+"/nightdrill.yaml")
	sets := func(more string) {
		rewrite(t, dir, "nightdrill.yaml", strings.Replace(content, "payloads:\n", "payloads:\n"+more, 1))
	}
	sets("  other: {recording: asks.har, expect: {status: 200}}\n  third: {recording: asks.har, expect: {status: " +
		"404}}\n")
	expectCall(t, dir, []string{"fire", "--all"}, 1, []string{"fares third#1: expected status 404, got 200",
		"1 of 2 replies as expected"})
	content = strings.Replace(content, "sources:\n",
		"sources:\n  more: {kind: http, wires: [{to: quote, when: {method: PUT}}]}\n", 1)
	sets("  other: {recording: asks.har, expect: {status: 200}}\n")
	expectCall(t, dir, []string{"fire", "--all"}, 1,
		[]string{"other: its expectations could be meant for more or fares; name the source in payloads.other.reaches",
			"0 of 1 reply as expected"})
	sets("  other: {recording: asks.har, expect: {status: 200}, reaches: [fares]}\n")
	expectCall(t, dir, []string{"fire", "--all"}, 0, []string{"1 of 1 reply as expected"})
	sets("  other: {recording: asks.har, expect: {status: 200}, reaches: [fears]}\n")
	expectCall(t, dir, []string{"check"}, 2, []string{`payloads.other.reaches[0]: unknown source "fears"`})
	rewrite(t, dir, "jobs.ndjson", `{"specversion":"1.0","id":"1","source":"s","type":"t"}`+"\n")
	sets("  other: {recording: jobs.ndjson, expect: {status: 200}}\n")
	expectCall(t, dir, []string{"fire", "--all"}, 1,
		[]string{"other: its expectations reach no source; name one in payloads.other.reaches"})
}

// What would hang, be ignored or be taken for well is an error with the reason.
func TestWhatWasTakenForWell(t *testing.T) {
	dir := lay(t, served, "")
	content := read(t, dir+"/nightdrill.yaml")
	expectCall(t, dir, []string{"run", "--worse", "5%"}, 2,
		[]string{"--worse needs --baseline RUN"})

	// a limit of 0: an event would wait for ever
	rewrite(t, dir, "jobs.ndjson", `{"specversion":"1.0","id":"1","source":"s","type":"t"}`+"\n")
	stopped := strings.Replace(content, "start_timeout", "concurrency: {max: 0}, start_timeout", 1)
	rewrite(t, dir, "nightdrill.yaml", strings.Replace(stopped, "payloads:\n",
		"  jobs: {kind: queue, wires: [{to: quote}]}\npayloads:\n  work: {recording: jobs.ndjson}\n", 1))
	expectCall(t, dir, []string{"fire", "jobs", "work"}, 3, []string{"not sent: the limit of quote is 0"})

	// a chain whose second step fails
	chained := strings.Replace(content, "start_timeout: 60s, timeout: 60s}",
		"start_timeout: 60s, timeout: 60s, then: [{to: onward}]}\n"+
			"  bad: {start: [sh, -c, 'exit 3'], start_timeout: 1s}",
		1)
	rewrite(t, dir, "nightdrill.yaml", strings.Replace(chained, "payloads:\n",
		"  onward: {kind: queue, attempts: 1, wires: [{to: bad}]}\npayloads:\n", 1))
	expectCall(t, dir, []string{"fire", "fares", "asks"}, 1, []string{"step by step"})

	// what cannot be started is found before it is tried
	missing := func(start, want string) {
		t.Helper()
		rewrite(t, dir, "nightdrill.yaml", strings.Replace(content, served, start, 1))
		expectCall(t, dir, []string{"check"}, 2, []string{want})
	}
	rewrite(t, dir, "functions/quote.py", "")
	missing("[sh, functions/qoute.sh]", "functions.quote.start: no file functions/qoute.sh")
	missing("[sh, -x, functions/quote.sh]", "no file functions/quote.sh")
	missing("[python3, functions/qoute.py]", "no file functions/qoute.py; did you mean quote.py?")
	if runtime.GOOS == "linux" {
		c := exec.Command("go", "build", "-o", "../other", ".")
		c.Env = append(os.Environ(), "GOOS=darwin", "GOARCH=arm64")
		rewrite(t, dir, "src/main.go", "package main\n\nfunc main() {}\n")
		rewrite(t, dir, "src/go.mod", "module other\n")
		c.Dir = filepath.Join(dir, "src")
		if out, err := c.CombinedOutput(); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		missing("[./other]",
			"functions.quote.start: ./other was built for darwin/arm64, and this machine is linux/"+runtime.GOARCH)
	}
}

// Every delivery that did not end well is listed on demand, and the findings name the
// worst with its last log line.
func TestWhatFailedIsNamed(t *testing.T) {
	dir := lay(t, `["sh", "-c", "`+program+` demo-function quote; exit 3"]`,
		", budgets: [function quote status 4xx < 1%]")
	har := read(t, dir+"/asks.har")
	rewrite(t, dir, "asks.har", strings.Replace(har, "skerry-holm", "nowhere-island", 1))
	expectCall(t, dir, []string{"run", "short"}, 1, []string{"GET /{path...}  404 × 10",
		"fares → quote: 10 × answered with status 404", "GET /quote/nowhere-island",
		"missed      function quote status 4xx < 1%  (measured 100 %)"})
	expectCall(t, dir, []string{"runs", "show", "last", "--failed"}, 0,
		[]string{"asks#1", "404", "GET /quote/nowhere-island"})
	expectCall(t, dir, []string{"runs", "show", "last", "--failed", "--json"}, 0,
		[]string{`"format": "nightdrill.failures/1"`, `"status": 404`})
	// the memory is that of what the shell started, not of the shell alone
	out, _, _ := nightdrill(t, "--project", dir, "runs", "show", "last")
	if !strings.Contains(out, "memory peak") || strings.Contains(out, "memory peak 1 MiB") ||
		strings.Contains(out, "memory peak 2 MiB") {
		t.Errorf("memory in\n%s", out)
	}
}
