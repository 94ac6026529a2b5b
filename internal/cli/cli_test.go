package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/store"
)

// The commands are tested as the program that users run.
var program string

func TestMain(m *testing.M) {
	if seed := os.Getenv("FAULTY"); seed != "" {
		faulty(seed)
	}
	dir, err := os.MkdirTemp("", "nightdrill-test")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "nightdrill")
	build := exec.Command("go", "build", "-o", program, "nightdrill.dev/cmd/nightdrill")
	build.Stderr = os.Stderr
	if err := build.Run(); err != nil {
		panic(err)
	}
	os.Setenv("XDG_STATE_HOME", filepath.Join(dir, "state"))
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

func nightdrill(t *testing.T, args ...string) (out, errs string, code int) {
	t.Helper()
	var o, e bytes.Buffer
	c := exec.Command(program, args...)
	c.Stdout, c.Stderr = &o, &e
	_ = c.Run() // the exit code tells
	return o.String(), e.String(), c.ProcessState.ExitCode()
}

// lay makes a project with one function; the yaml may say more.
func lay(t *testing.T, start, more string) string {
	dir := t.TempDir()
	patience := "2s"
	if strings.Contains(start, "demo-function") { // which does start, however busy the machine is
		patience = "60s"
	}
	yaml := `nightdrill: 1
project: quay
functions:
  quote: {start: ` + start + `, start_timeout: ` + patience + `, timeout: ` + patience + `}
sources:
  fares: {kind: http, wires: [{to: quote}]}
payloads:
  asks: {recording: asks.har}
drills:
  short: {settle: 20s, feeds: [{source: fares, payloads: asks, arrive: [{steady: 20/s, for: 500ms}]}]` + more + `}
`
	har := `{"log":{"version":"1.2","entries":[{"request":{"method":"GET",` +
		`"url":"http://x.example/quote/skerry-holm?day=2026-11-20&vehicle=foot&passengers=1"}}]}}`
	for name, content := range map[string]string{"nightdrill.yaml": yaml, "asks.har": har} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

const served = `["{nightdrill}", demo-function, quote]`

// noneLeft fails when a function of the demo is still running.
func noneLeft(t *testing.T) {
	t.Helper()
	out, _ := exec.Command("pgrep", "-f", program+" demo-function").Output()
	if len(out) > 0 {
		t.Errorf("processes are left: %s", out)
	}
}

// The demo ends, by the code that its budgets say, its summary adds up, and the run that was kept says the same.
func TestTheDemoHeadless(t *testing.T) {
	out, errs, code := nightdrill(t, "demo", "--headless", "--json", "-")
	var s measure.Summary
	if err := json.Unmarshal([]byte(out), &s); err != nil {
		t.Fatalf("exit %d, %v\n%s%s", code, err, out, errs)
	}
	missed := slices.ContainsFunc(s.Budgets, func(v measure.Verdict) bool { return !v.Held })
	disturbed := len(s.Beside.All()) > 0 // by others, or too slow a machine: its times are no matter of the test's
	if want := map[bool]int{true: 1}[missed]; code != want || missed && !disturbed {
		t.Errorf("exit %d, want %d\n%s%s", code, want, out, errs)
	}
	sum := 0
	for o := range engine.Outcomes {
		sum += *s.Events.Of(o)
	}
	if s.Format != measure.Format || !s.Finished || sum != s.Events.Deliveries ||
		s.Events.Arrived != s.Events.Deliveries || !disturbed && s.Seconds > 60 {
		t.Errorf("format %q, finished %v, %d outcomes, events %+v, %v s", s.Format, s.Finished, sum, s.Events,
			s.Seconds)
	}
	q := s.Functions["quote"].Latency
	if !disturbed && (q.Cold.N == 0 || q.Warm.N == 0 || s.Events.Rejected == 0 || s.Events.DeadLettered == 0 ||
		s.Functions["boarding"].Attempts <= 179 || *q.Cold.Max < *q.Warm.P50) {
		t.Errorf("cold %+v, warm %+v, events %+v, attempts of boarding %d", q.Cold, q.Warm, s.Events,
			s.Functions["boarding"].Attempts)
	}
	for _, f := range []measure.Figures{q.Cold, q.First, q.Warm} {
		if (f.P50 == nil) != (f.N < 6) || f.P50Lo != nil && !(*f.P50Lo <= *f.P50 && *f.P50 <= *f.P50Hi) {
			t.Errorf("%+v", f)
		}
	}
	noneLeft(t)
	dir := filepath.Join(os.Getenv("XDG_STATE_HOME"), "nightdrill", "demo")
	if kept, _, _ := nightdrill(t, "runs", "show", s.Run, "--json", "--project", dir); kept != out {
		t.Errorf("the run that was kept says\n%s\nit said\n%s", kept, out)
	}
	content, _, _ := nightdrill(t, "runs", "show", "--project", dir)
	list, _, _ := nightdrill(t, "runs", "list", "--project", dir)
	if !strings.Contains(content, "quote: ") || !strings.Contains(list, s.Run) {
		t.Errorf("show:\n%s\nlist:\n%s", content, list)
	}
}

// Every wrong use gives one clear line and its code.
func TestErrors(t *testing.T) {
	good := lay(t, served, "")
	missed := lay(t, served, ", budgets: [project done > 1000, project done > 0]")
	newer := lay(t, served, "")
	s, err := store.Open(newer)
	if err != nil {
		t.Fatal(err)
	}
	s.Close()
	for _, c := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"check", "--project", t.TempDir()}, 2, "no nightdrill.yaml here"},
		{[]string{"run", "shrot", "--project", good}, 2, `unknown drill "shrot"; available: short`},
		{[]string{"chekc"}, 2, "did you mean check?"},
		{[]string{"check", "--colour"}, 2, "unknown flag: --colour"},
		{[]string{"check", "it"}, 2, "takes no arguments"},
		{[]string{"runs"}, 2, "list, show, logs, export"},
		{[]string{"runs", "show", "--project", good}, 2, "no runs yet"},
		{[]string{"--project", good}, 2, "needs a terminal"},
		{[]string{"run", "--project", good, "--limit", "quote.mx=2"}, 2, "did you mean max?"},
		{[]string{"run", "--project", good, "--limit", "quoet.max=2"}, 2, "did you mean quote?"},
		{[]string{"run", "--project", good, "--limit", "quote=2"}, 2, "expected FUNCTION.LIMIT=VALUE"},
		{[]string{"run", "--project", good, "--limit", "quote.max=few"}, 2, "must be a whole number"},
		{[]string{"run", "--project", good, "--limit", "quote.max=2@soon"}, 2, "is not a time since the drill began"},
		{[]string{"run", "--project", good, "--limit", "quote.replace"}, 2, "quote.replace@5s"},
		{[]string{"run", "--project", good, "--limit", "quote.guaranteed=99"}, 2, "guaranteed is 99, but max is 10"},
		{[]string{"run", "--project", good, "--limit", "quote.guaranteed=9", "--limit", "concurrency=3"}, 2,
			"the project's concurrency is 3"},
		{[]string{"run", "--project", good, "--limit", "quote.idle_after=long"}, 2, "is not a duration"},
		{[]string{"run", "--project", good, "--limit", "quote.start_rate=0/s"}, 2, "is not a rate"},
		{[]string{"run", "--project", missed}, 1, ""},
		{[]string{"run", "--json", "/no/such/folder/x.json", "--project", good}, 3, "cannot be written"},
		{[]string{"run", "--project", lay(t, "[sh, -c, 'echo no tide table; exit 3']", "")}, 3, "quote never started"},
		{[]string{"run", "--project", lay(t, "[sleep, 60]", "")}, 3, "quote never started"},
		{[]string{"run", "--project", lay(t, "[pyhton3x]", "")}, 2,
			`nightdrill.yaml:4:19: functions.quote.start: "pyhton3x" not found on the PATH`},
	} {
		out, errs, code := nightdrill(t, c.args...)
		if code != c.code || !strings.Contains(errs, c.want) || strings.Count(errs, "\n") > 1 {
			t.Errorf("%v: exit %d (want %d), standard error %q (want %q)\n%s", c.args, code, c.code, errs, c.want, out)
		}
	}
	if content, _, _ := nightdrill(t, "runs", "show", "--project", missed); !strings.Contains(content,
		"missed      project done > 1000") {
		t.Errorf("the missed budget is not shown:\n%s", content)
	}
	noneLeft(t)
}

// Many starts at once of something that never listens: none is taken for ready,
// though every other process is between fork and exec at some time.
func TestNothingIsTakenForReadyThatNeverListens(t *testing.T) {
	dir := lay(t, "[sh, -c, 'exit 3']", "")
	content := strings.Replace(read(t, dir+"/nightdrill.yaml"), "steady: 20/s, for: 500ms",
		"burst: {size: 10, every: 200ms}, for: 2s", 1)
	if err := os.WriteFile(dir+"/nightdrill.yaml", []byte(content), 0o644); err != nil {
		t.Fatal(err)
	}
	out, _, code := nightdrill(t, "run", "--project", dir, "--json", "-")
	var s measure.Summary
	if err := json.Unmarshal([]byte(out), &s); err != nil {
		t.Fatal(err)
	}
	if f := s.Functions["quote"]; code != 3 || f.Start.N > 0 || f.Instances.FailedStarts < 10 {
		t.Errorf("exit %d, %d were ready, %d failed", code, f.Start.N, f.Instances.FailedStarts)
	}
}

func TestWhyAFunctionDidNotStartIsInTheFindings(t *testing.T) {
	out, errs, _ := nightdrill(t, "run", "--project", lay(t, "[sh, -c, 'echo no tide table; exit 3']", ""))
	if want := "quote does not start: it exited with code 3 before it was ready; its last line: no " +
		"tide table"; !strings.Contains(out, want) {
		t.Errorf("findings\n%s%s\nwant %q", out, errs, want)
	}
	out, _, _ = nightdrill(t, "run", "--project", lay(t, "[sleep, 60]", ""))
	if want := "did not listen on the port that it was given"; !strings.Contains(out, want) {
		t.Errorf("findings\n%s\nwant %q", out, want)
	}
}

func TestCheckSaysWhatIsWired(t *testing.T) {
	out, errs, code := nightdrill(t, "check", "--project", lay(t, served, ""))
	for _, want := range []string{"No errors", "any /{path...} → quote", "drill short", "steady 20/s"} {
		if !strings.Contains(out, want) || code != 0 || errs != "" {
			t.Errorf("exit %d, %q in\n%s%s", code, want, out, errs)
		}
	}
}

// The limits are told in plain words, with what they mean together; what can never
// be reached is doubted. A run takes others, also while it goes on.
func TestLimitsInWordsAndByCommand(t *testing.T) {
	dir := lay(t, served, "")
	yaml := strings.Replace(read(t, filepath.Join(dir, "nightdrill.yaml")), "project: quay",
		"project: quay\nconcurrency: 24\nmemory_per_cpu: 1GiB", 1)
	yaml = strings.Replace(yaml, "timeout: 60s}",
		`timeout: 60s, concurrency: {max: 8, guaranteed: 2}, start_rate: 5/s, start_burst: 3, memory: 512MiB, cpu: `+
			`by_memory, replace: side_by_side,
    variants: {single: {transport: oneshot, start_rate: unbounded, memory: unbounded, cpu: unbounded},
      parked: {parked: 1, keep_warm: 1}}}
  rest: {start: `+served+`, concurrency: {max: 30, per_instance: 4}}`, 1)
	if err := os.WriteFile(filepath.Join(dir, "nightdrill.yaml"), []byte(yaml), 0o644); err != nil {
		t.Fatal(err)
	}
	out, errs, code := nightdrill(t, "check", "--project", dir)
	for _, want := range []string{
		"handles at most 8 at a time, one on each instance; 2 of the project's 24 are guaranteed to it, the others " +
			"share 22; instances start at 5/s, the first 3 at once",
		"each instance may use 512 MiB of memory and 0.5 of a processor (by its memory): ", "starts beside the old one",
		"each in a process of its own, so always cold", "1 process started ahead and parked in memory until needed; " +
			"1 kept warm",
		"up to 4 on each of at most 8 instances",
	} {
		if !strings.Contains(out, want) {
			t.Errorf("check does not say %q\n%s", want, out)
		}
	}
	if want := "functions.rest has max 30, but can never exceed 22: the project total is 24, of which 2 are " +
		"guaranteed to others"; code != 0 || !strings.Contains(errs, want) {
		t.Errorf("exit %d, standard error %q, want %q", code, errs, want)
	}
	out, errs, code = nightdrill(t, "run", "--project", lay(t, served, ""), "--limit", "quote.max=1", "--limit",
		"quote.max=3@100ms", "--limit", "concurrency=5@200ms", "--limit", "quote.replace@150ms")
	for _, want := range []string{"changes during the run", "quote: max 1 → 3", "quote: replaced one by one",
		"project total 32 → 5"} {
		if !strings.Contains(out, want) || code != 0 {
			t.Errorf("exit %d, the run does not say %q\n%s%s", code, want, out, errs)
		}
	}
}

// What the engine decided in a live run it decides again from the journal.
func TestAJournalIsReenacted(t *testing.T) {
	journal := filepath.Join(t.TempDir(), "journal")
	if _, errs, code := nightdrill(t, "run", "--project", lay(t, served, ""), "--journal", journal); code != 0 {
		t.Fatalf("exit %d, %s", code, errs)
	}
	out, errs, code := nightdrill(t, "reenact", journal)
	if code != 0 || strings.Count(out, "is done") != 10 || !strings.Contains(out, "start quote-1") {
		t.Errorf("exit %d\n%s%s", code, out, errs)
	}
	broken := strings.Replace(read(t, journal), `"outcome":1`, `"outcome":2`, 1) + "{}\n"
	if err := os.WriteFile(journal, []byte(broken), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, errs, code = nightdrill(t, "reenact", journal); code != 1 || !strings.Contains(errs, "line ") {
		t.Errorf("a changed journal: exit %d, %s", code, errs)
	}
}

// A disk that is full in the middle of a run: the drill ends in order, what was
// kept until then is readable.
func TestAFullDisk(t *testing.T) {
	dir := lay(t, served, "")
	content := strings.Replace(read(t, dir+"/nightdrill.yaml"), "steady: 20/s, for: 500ms", "steady: 400/s, for: 3s", 1)
	if err := os.WriteFile(dir+"/nightdrill.yaml", []byte(content), 0o644); err != nil {
		t.Fatal(err)
	}
	var o, e bytes.Buffer
	c := exec.Command("sh", "-c", "ulimit -f 260; exec "+program+" run --project "+dir) // blocks of 512 bytes
	c.Stdout, c.Stderr = &o, &e
	_ = c.Run() // the exit code tells
	if code := c.ProcessState.ExitCode(); code != 3 || !strings.Contains(e.String(), "the run could not be kept") ||
		!strings.Contains(o.String(), "quote: ") {
		t.Errorf("exit %d\n%s%s", code, o.String(), e.String())
	}
	noneLeft(t)
	if out, errs, code := nightdrill(t, "runs", "show", "--project", dir); code != 0 ||
		!strings.Contains(out, "unfinished") {
		t.Errorf("afterwards: exit %d\n%s%s", code, out, errs)
	}
}

// A warden that is killed takes nothing with it: starts are noticed all the same.
func TestWithoutItsWardenADrillGoesOn(t *testing.T) {
	dir := lay(t, served, "")
	content := strings.Replace(read(t, dir+"/nightdrill.yaml"), "{steady: 20/s, for: 500ms}",
		"{steady: 20/s, for: 2s}, {burst: {size: 6, every: 1s}, for: 1s}", 1)
	if err := os.WriteFile(dir+"/nightdrill.yaml", []byte(content), 0o644); err != nil {
		t.Fatal(err)
	}
	var o, e bytes.Buffer
	c := exec.Command(program, "run", "--project", dir, "--json", "-")
	c.Stdout, c.Stderr = &o, &e
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	until(t, func() bool { return exec.Command("pgrep", "-f", program+" demo-function").Run() == nil })
	until(t, func() bool { return exec.Command("pkill", "-KILL", "-xf", program+" warden").Run() == nil })
	_ = c.Wait() // the exit code tells
	var s measure.Summary
	if err := json.Unmarshal(o.Bytes(), &s); err != nil || c.ProcessState.ExitCode() != 0 {
		t.Fatalf("exit %d, %v\n%s", c.ProcessState.ExitCode(), err, e.String())
	}
	if f := s.Functions["quote"]; f.Instances.Started < 3 || f.Instances.FailedStarts > 0 || s.Events.Done < 10 ||
		s.Events.Done+s.Events.Rejected != s.Events.Arrived {
		t.Errorf("instances %+v, events %+v", f.Instances, s.Events)
	}
	noneLeft(t)
}

// start starts the program, which is killed when the test ends before it; errs is its standard
// error, to be read once it has ended.
func start(t *testing.T, args ...string) (c *exec.Cmd, errs *bytes.Buffer) {
	t.Helper()
	c, errs = exec.Command(program, args...), &bytes.Buffer{}
	c.Stderr = errs
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = c.Process.Kill() }) // it has ended where all is well
	return c, errs
}

// worked reports whether a process has worked for longer than it takes to begin.
func worked(pid int) bool {
	content, _ := os.ReadFile(filepath.Join("/proc", strconv.Itoa(pid), "stat"))
	fields := strings.Fields(string(content))
	if len(fields) < 14 {
		return false
	}
	ticks, _ := strconv.Atoi(fields[13]) // of a hundredth of a second each
	return ticks >= 30
}

// opened reports whether someone reads a pipe, and lets it wait for what is written.
func opened(pipe string) bool {
	_, err := syscall.Open(pipe, syscall.O_WRONLY|syscall.O_NONBLOCK|syscall.O_CLOEXEC, 0)
	return err == nil
}

// What works for long ends when it is told to, says how far it was, and leaves no half file.
func TestLongWorkIsInterrupted(t *testing.T) {
	dir := t.TempDir()
	write := func(name, content string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("many.json", `{"type":"object","properties":{"pass":{"type":"string"}}}`)
	write("long.json", `{"type":"array","contains":{"multipleOf":7},"minContains":900000,"uniqueItems":true}`)
	write("nightdrill.yaml", "nightdrill: 1\nfunctions: {f: {start: [sh]}}\nsources: {q: {kind: queue, wires: [{to: "+
		"f}]}}\npayloads: {long: {schema: long.json, mode: broken}}\n")
	if err := syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o600); err != nil {
		t.Fatal(err)
	}
	for want, args := range map[string][]string{
		" of 900000000 was being made": {"payloads", "generate", "--schema", dir + "/many.json", "--count", "900000000",
			"--out", dir + "/out.ndjson"},
		"payload 1 of 10 was being made": {"payloads", "generate", "--schema", dir + "/long.json", "--mode", "broken"},
		"of the set long was being made": {"check", "--project", dir},
		"nightdrill: interrupted\n":      {"payloads", "infer", dir + "/pipe"},
	} {
		c, errs := start(t, args...)
		until(t, func() bool {
			return args[1] == "infer" && opened(dir+"/pipe") || args[1] != "infer" && worked(c.Process.Pid)
		})
		_ = c.Process.Signal(syscall.SIGTERM)
		_ = c.Wait()
		if code := c.ProcessState.ExitCode(); code != 130 || !strings.Contains(errs.String(), want) {
			t.Errorf("%v: exit %d, %q; want %q", args, code, errs.String(), want)
		}
	}
	if left, _ := filepath.Glob(dir + "/*out*"); len(left) > 0 {
		t.Errorf("left are %v", left)
	}
}

// Ctrl-C keeps the run, marks it unfinished, and leaves no process.
func TestInterrupted(t *testing.T) {
	dir := lay(t, served, "")
	long := strings.Replace(read(t, dir+"/nightdrill.yaml"), "for: 500ms", "for: 1h", 1)
	if err := os.WriteFile(dir+"/nightdrill.yaml", []byte(long), 0o644); err != nil {
		t.Fatal(err)
	}
	c, errs := start(t, "run", "--project", dir)
	until(t, func() bool {
		s, err := store.Open(dir)
		if err != nil {
			return false
		}
		defer s.Close()
		i, err := s.Find("last")
		if err != nil {
			return false
		}
		r, err := s.Load(i.ID)
		return err == nil && len(r.Deliveries) > 3
	})
	c.Process.Signal(syscall.SIGINT)
	_ = c.Wait()
	if code := c.ProcessState.ExitCode(); code != 130 || !strings.Contains(errs.String(), "interrupted") {
		t.Errorf("exit %d, %q", code, errs.String())
	}
	noneLeft(t)
	out, _, _ := nightdrill(t, "runs", "show", "--project", dir)
	if !strings.Contains(out, "unfinished") {
		t.Errorf("the run is not marked:\n%s", out)
	}
}

// until waits for a condition, at most two minutes.
func until(t *testing.T, holds func() bool) {
	t.Helper()
	for end := time.Now().Add(2 * time.Minute); !holds(); runtime.Gosched() {
		if time.Now().After(end) {
			t.Fatal("waited in vain")
		}
	}
}

func read(t *testing.T, file string) string {
	content, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	return string(content)
}

// A function in any language that reads PORT and answers HTTP works, and a plain handler.
func TestExamples(t *testing.T) {
	for name, interpreter := range map[string]string{"python": "python3", "node": "node", "python-handler": "python3",
		"node-handler": "node", "go-handler": "go", "java-handler": "javac", "ruby-handler": "ruby"} {
		t.Run(name, func(t *testing.T) {
			if _, err := exec.LookPath(interpreter); err != nil {
				t.Skipf("THE EXAMPLE IN %s WAS NOT TRIED: %s is not on this machine", strings.ToUpper(name),
					interpreter)
			}
			dir := t.TempDir()
			if err := os.CopyFS(dir, os.DirFS("../../examples/"+name)); err != nil {
				t.Fatal(err)
			}
			// how fast this machine is at the moment is not the example's
			file := filepath.Join(dir, "nightdrill.yaml")
			put(t, file, strings.NewReplacer("p95 < 500ms", "p95 < 60s", "wait: 1s", "wait: 60s", "timeout: 2s",
				"timeout: 60s", "settle: 1s", "settle: 60s").Replace(read(t, file)))
			out, errs, code := nightdrill(t, "run", "morning", "--project", dir)
			if code != 0 || !strings.Contains(out, "met         function quote warm p95") {
				t.Errorf("exit %d\n%s%s", code, out, errs)
			}
			if name != "node" {
				return
			}
			// from a start-up snapshot it answers the same
			for _, variant := range []string{"snapshot", "parked"} {
				if out, errs, code = nightdrill(t, "fire", "fares", "fare-requests", "--variant", variant, "--project",
					dir); code != 0 || !strings.Contains(out, "status 200") {
					t.Errorf("%s: exit %d\n%s%s", variant, code, out, errs)
				}
			}
		})
	}
}
