package cli

import (
	"bufio"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// handlers lays a project with one function for each handler, reached by /NAME of the source web and by the
// queue NAME.
func handlers(t *testing.T, all map[string]string, more string) string {
	t.Helper()
	dir := t.TempDir()
	if err := os.CopyFS(filepath.Join(dir, "functions"), os.DirFS("testdata/handlers")); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(filepath.Join(dir, "functions", "syntax.py.txt"), filepath.Join(dir, "functions",
		"syntax.py")); err != nil {
		t.Fatal(err)
	}
	var functions, wires, queues strings.Builder
	for name, settings := range all {
		if !strings.Contains(settings, "start_timeout") { // a machine may be busy
			settings += ", start_timeout: 60s"
		}
		fmt.Fprintf(&functions, "  %s: {%s}\n", name, settings)
		fmt.Fprintf(&wires, "      - {to: %s, when: {path: \"/%s/{rest...}\"}}\n", name, name)
		fmt.Fprintf(&queues, "  %s: {kind: queue, attempts: 2, backoff: 1ms, wires: [{to: %s}]}\n", name, name)
	}
	put(t, filepath.Join(dir, "nightdrill.yaml"), "nightdrill: 1\nfunctions:\n"+functions.String()+
		"sources:\n  web:\n    kind: http\n    wires:\n"+wires.String()+queues.String()+more)
	put(t, filepath.Join(dir, "good.event.json"), `{"specversion":"1.0","id":"s-1","source":"/gate","type":"scan",`+
		`"deck":"car","data":{"pass":"BF-1"}}`)
	put(t, filepath.Join(dir, "bad.event.json"), `{"specversion":"1.0","id":"s-2","source":"/gate","type":"scan",`+
		`"deck":"car","data":{"pass":"bad"}}`)
	return dir
}

func put(t *testing.T, path, text string) {
	t.Helper()
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// has skips a test with a plain word where a program is missing.
func has(t *testing.T, program string) {
	t.Helper()
	if _, err := exec.LookPath(program); err != nil {
		t.Skipf("HANDLERS ARE NOT TRIED: %s is not on this machine", program)
	}
}

// noLoadersLeft fails where a loader of this test's is still there; tests of other packages run beside it.
func noLoadersLeft(t *testing.T) {
	t.Helper()
	out, _ := exec.Command("pgrep", "-f", `(nightdrill_loader|\.nightdrill/handlers/).*(functions/|ferry|Tide)`).
		Output()
	test, _, _ := strings.Cut(t.Name(), "/")
	for _, pid := range strings.Fields(string(out)) {
		if dir, err := os.Readlink("/proc/" + pid + "/cwd"); err == nil && strings.Contains(dir, test) {
			t.Errorf("process %s is left in %s", pid, dir)
		}
	}
}

// handlerCase is a handler with what is sent to it, and what comes of it.
type handlerCase struct {
	name, settings string
	request        string // method, the rest of the path, and a body; "" for the good event of the queue
	want           []string
}

func tryHandlers(t *testing.T, cases []handlerCase) {
	t.Helper()
	all := map[string]string{}
	for _, c := range cases {
		all[c.name] = c.settings
	}
	dir := handlers(t, all, "")
	if strings.Contains(cases[0].settings, "classes:") {
		compile(t, dir)
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			args := []string{"--project", dir, "fire", c.name, filepath.Join(dir, "good.event.json")}
			if c.request == "bad" {
				args[4] = filepath.Join(dir, "bad.event.json")
			} else if c.request != "" {
				method, rest, _ := strings.Cut(c.request, " ")
				rest, body, _ := strings.Cut(rest, " ")
				file := filepath.Join(dir, c.name+".request")
				put(t, file, fmt.Sprintf("%s /%s/%s HTTP/1.1\nContent-Type: application/json\n\n%s", method, c.name,
					rest, body))
				args = []string{"--project", dir, "fire", "web", file}
			}
			out, errs, _ := nightdrill(t, args...)
			for _, want := range c.want {
				if !strings.Contains(out+errs, want) {
					t.Errorf("without %q:\n%s%s", want, out, errs)
				}
			}
		})
	}
}

// What a person may write in Python is called as it is, and what goes wrong has its place in the code.
func TestPythonHandlers(t *testing.T) {
	has(t, "python3")
	handler := func(name string) string { return "handler: \"functions/fares.py:" + name + "\"" }
	tryHandlers(t, []handlerCase{
		{"quote", handler("quote"), "POST x?day=1&day=2 {\"a\":1}", []string{"status 200", `"cents": 1200`,
			`"day": "2"`, `"path": "/quote/x"`, `"a": 1`, "asked 1 True True quote-1", "handler"}},
		{"scan", handler("scan"), "", []string{"done", `"id": "s-1"`, `"deck": "car"`, "attempt 1 last False"}},
		{"scan-bad", handler("scan"), "bad", []string{"failed", "ValueError: bad pass (functions/fares.py:20)",
			"attempt 2 last True"}},
		{"data", handler("data") + ", takes: data", "", []string{`"pass": "BF-1"`}},
		{"slowly", handler("slowly"), "GET x", []string{"application/octet-stream", "11 bytes of binary data"}},
		{"method", handler("desk.quote"), "GET x", []string{"status 200, 1 B"}},
		{"object", handler("desk"), "GET x", []string{`"called"`}},
		{"nothing", handler("nothing"), "GET x", []string{"done", "status 204"}},
		{"wsgi", handler("wsgi") + ", takes: request", "POST x?a=b hello", []string{"status 201", "X-Query: a=b",
			"POST hello"}},
		{"asgi", handler("asgi") + ", takes: request", "POST x hello", []string{"status 202", "X-Path: /asgi/x",
			"hello!"}},
		{"envelope", handler("envelope") + ", reply: {status: /code, headers: /meta, body: /result, base64: /coded}",
			"GET x", []string{"status 418, 5 B", "X-Tide: high", "Set-Cookie: ", "hello"}},
		{"bare", handler("bare") + ", reply: {status: /code}", "GET x",
			[]string{"status 500", "reply.status: what the handler returned has nothing at /code; it has /result"}},
		{"shaped", handler("data") + ", takes: shaped, shape: {template: '{\"records\": [{{json .Data}}]}'}", "",
			[]string{`"records"`, `"pass": "BF-1"`}},
		{"raises", handler("raises"), "GET x", []string{"status 500", "JSONDecodeError: Expecting property name",
			"(functions/fares.py:84)", `"title": "the handler failed: raised"`}},
		{"no-json", handler("no_json"), "GET x", []string{"status 500",
			"it returned a value that is not JSON: Object of type set", "(functions/fares.py:87)"}},
		{"leaves", handler("leaves"), "GET x", []string{"status 500", "it called exit(4) (functions/fares.py:92)"}},
		{"dies", handler("dies"), "GET x", []string{"failed", "exited with code 5"}},
		{"hangs", handler("hangs") + ", timeout: 300ms", "GET x", []string{"failed", "did not reply within 300 ms"}},
		{"no-name", handler("quot"), "GET x", []string{"does not start", "has no 'quot' (did you mean 'quote'?)"}},
		{"no-call", handler("TABLE"), "GET x", []string{"TABLE is a dict, and cannot be called"}},
		{"unbound", handler("Desk.quote"), "GET x", []string{"is a method of a class and needs an instance"}},
		{"arity", handler("three"), "GET x", []string{"three needs 3 parameters", "(functions/fares.py:103)"}},
		{"syntax", "handler: \"functions/syntax.py:f\"", "GET x", []string{"SyntaxError: ", "(functions/syntax.py:4)"}},
		{"imports", "handler: \"functions/imports.py:f\"", "GET x",
			[]string{"ModuleNotFoundError: No module named 'not_installed_anywhere' (functions/imports.py:2)"}},
		{"options", handler("nothing") + ", interpreter: [python3, -X, dev]", "GET x", []string{"status 204"}},
	})
	noLoadersLeft(t)
}

// The same in JavaScript: ES modules and CommonJS, functions that answer at once and later.
func TestNodeHandlers(t *testing.T) {
	has(t, "node")
	handler := func(name string) string { return "handler: \"functions/tides.mjs:" + name + "\"" }
	tryHandlers(t, []handlerCase{
		{"tide", handler("tide"), "POST x?day=1 {\"a\":1}", []string{"status 200", `"level": 3`, `"day": "1"`, `"a": 1`,
			"tide 1 true true false", "handler"}},
		{"data", handler("data") + ", takes: data", "", []string{`"pass": "BF-1"`}},
		{"raw", handler("raw"), "GET x", []string{"application/octet-stream", "raw bytes"}},
		{"method", handler("desk.ask"), "GET x", []string{"status 200, 1 B"}},
		{"default", handler("default"), "GET x", []string{`"from": "default"`}},
		{"old", "handler: \"functions/old.cjs:old\"", "GET x", []string{`"cjs": true`, `"path": "/old/x"`}},
		{"nothing", handler("nothing"), "GET x", []string{"status 204"}},
		{"page", handler("page") + ", takes: request", "POST x hello", []string{"status 203", "POST hello",
			"X-Url: http://"}},
		{"server", handler("server") + ", takes: request", "POST x hello", []string{"status 207", "X-Url: /server/x",
			"got hello"}},
		{"raises", handler("raises"), "GET x", []string{"status 500", "RangeError: too high (functions/tides.mjs:17)"}},
		{"no-json", handler("noJSON"), "GET x", []string{"status 500", "it returned a value that is not JSON"}},
		{"never", handler("never") + ", timeout: 2s", "GET x", []string{"failed", "did not reply within 2 s",
			"the promise that never returned has not settled, and nothing is open"}},
		{"slow", handler("slow") + ", timeout: 300ms", "GET x", []string{"failed", "log, 0 lines"}},
		{"later", handler("later"), "GET x", []string{"status 500", "Error: later (functions/tides.mjs:20)",
			"uncaught"}},
		{"rejects", handler("rejects"), "GET x", []string{"status 500", "Error: stray (functions/tides.mjs:21)"}},
		{"leaves", handler("leaves"), "GET x", []string{"status 500", "it called process.exit(4)"}},
		{"no-name", handler("tyde"), "GET x", []string{`does not export "tyde" (did you mean "tide"?)`}},
		{"stuck", "handler: \"functions/stuck.mjs:f\", start_timeout: 600ms", "GET x",
			[]string{"was not ready within 600 ms", "still being loaded"}},
		{"syntax", "handler: \"functions/syntax.mjs:f\"", "GET x",
			[]string{"SyntaxError: ", "(functions/syntax.mjs:2)"}},
		{"typed", "handler: \"functions/typed.ts:f\"", "GET x", []string{"typed"}}, // as this Node can, or why not
	})
	noLoadersLeft(t)
}

// In Go a handler is built with its loader, in its own module, in which nothing is written.
func TestGoHandlers(t *testing.T) {
	has(t, "go")
	handler := func(name string) string { return "start_timeout: 60s, handler: \"functions/desk.go:" + name + "\"" }
	tryHandlers(t, []handlerCase{
		{"quote", handler("Quote") + ", takes: data", "POST x {\"adults\":2}", []string{"status 200", `"cents": 2400`,
			"asked 1 quote-1", "handler"}},
		{"none", handler("Quote") + ", takes: data", "POST x {}", []string{"status 500",
			"error: no passengers (functions/desk.go:19)"}},
		{"misfit", handler("Quote") + ", takes: data", "POST x {\"adults\":\"two\"}", []string{"status 500",
			"the body does not fit the parameter's type desk.Ask: cannot unmarshal string", "event-shape"}},
		{"raw", handler("raw") + ", takes: data", "POST x hello", []string{"application/octet-stream", "hello!"}},
		{"panics", handler("Panics") + ", takes: data", "POST x {\"adults\":3}", []string{"status 500",
			"panic: runtime error: index out of range [3] with length 0 (functions/desk.go:29)"}},
		{"mux", handler("Mux") + ", takes: request", "POST x?a=b hello", []string{"status 202", "X-Query: a=b",
			"POST /mux/x hello"}},
		{"no-json", handler("NoJSON"), "GET x", []string{"status 500", "it returned a value that is not JSON: " +
			"unsupported type: func()"}},
		{"two", handler("Two"), "GET x", []string{"does not start", "Two is a func(int, int); a handler is a " +
			"func(T) (R, error)"}},
		{"table", handler("Table"), "GET x", []string{"Table is a map[string]int, and cannot be called"}},
		{"no-name", handler("Quot"), "GET x", []string{"does not build", "package desk has no function Quot to be a " +
			"handler; did you mean Quote?"}},
		{"exits", handler("Exits"), "GET x", []string{"failed", "exited with code 3"}},
		{"stray", handler("Stray"), "GET x", []string{"failed", "panic: stray", "exited with code 2"}},
		{"hangs", handler("Hangs") + ", timeout: 300ms", "GET x", []string{"failed", "did not reply within 300 ms"}},
		{"loud", handler("Loud"), "GET x", []string{"status 200", `"quiet"`, "noise"}},
		{"broken", "handler: \"functions/broken/broken.go:F\"", "GET x", []string{"broken does not build\n",
			"functions/broken/broken.go:3:17: cannot use \"twelve\""}},
		{"board", "handler: \"functions/app/main.go:board\"", "", []string{"done", `"s-1 scan car BF-1"`}},
	})
	noLoadersLeft(t)
}

// compile lays the classes of the handlers in Java out, all but one.
func compile(t *testing.T, dir string) {
	t.Helper()
	c := exec.Command("javac", "-d", "classes", "functions/ferry/Desk.java")
	c.Dir = dir
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	if err := os.Remove(filepath.Join(dir, "classes", "ferry", "Desk$Gone.class")); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"-cf", "desk.jar", "-C", "classes", "ferry/Desk.class"},
		{"-cf", "rest.jar", "-C", "classes", "."}} {
		c := exec.Command("jar", args...)
		if c.Dir = dir; c.Run() != nil {
			t.Fatal("jar failed")
		}
	}
}

// In Java a handler comes from a folder of classes or from a jar, and what it takes becomes what its parameter is.
func TestJavaHandlers(t *testing.T) {
	has(t, "javac")
	handler := func(name string) string { return "handler: \"classes:ferry.Desk." + name + "\"" }
	tryHandlers(t, []handlerCase{
		{"quote", handler("quote") + ", takes: data", "POST x {\"to\":\"holm\",\"adults\":2}", []string{"status 200",
			`"cents": 2400`, `"at": "1970-01-01T00:00:00Z"`, "asked 1 true true quote-1", "handler", "interpreter"}},
		{"misfit", handler("quote") + ", takes: data", "POST x {\"ages\":[1,\"two\"]}", []string{"status 500",
			"the body does not fit the parameter's type Ask: at /ages/1: a text is not an Integer",
			"(functions/ferry/Desk.java:24)"}},
		{"narrow", handler("quote") + ", takes: data", "POST x {\"adults\":2.5}", []string{
			"at /adults: 2.5 does not fit into an int"}},
		{"object", "handler: \"classes:ferry.Desk\"", "POST x {}", []string{`"asked": 1`, `"path": "/object/x"`}},
		{"scan", handler("scan"), "", []string{"done", `"s-1"`, `"car"`, `"BF-1"`}},
		{"scan-bad", handler("scan"), "bad", []string{"failed",
			"IllegalArgumentException: bad pass (functions/ferry/Desk.java:36)"}},
		{"raw", handler("raw") + ", takes: data", "POST x hello", []string{"application/octet-stream", "hello"}},
		{"nothing", handler("nothing"), "GET x", []string{"status 204"}},
		{"later", handler("later"), "GET x", []string{`"later"`}},
		{"page", handler("page") + ", takes: request", "POST x?a=b hello", []string{"status 202", "X-Query: a=b",
			"POST hello"}},
		{"no-page", handler("page"), "GET x", []string{"takes an HttpExchange, which needs takes: request"}},
		{
			"no-json",
			handler("noJson"),
			"GET x",
			[]string{"it returned a value that is not JSON: an Object has no form in"},
		},
		{"leaves", handler("leaves"), "GET x", []string{"status 500",
			"it called System.exit (functions/ferry/Desk.java:57)"}},
		{"dies", handler("dies"), "GET x", []string{"failed", "exited with code 5"}},
		{"hangs", handler("hangs") + ", timeout: 300ms", "GET x", []string{"failed", "did not reply within 300 ms"}},
		{"deep", handler("deep"), "GET x", []string{"status 500", "StackOverflowError (functions/ferry/Desk.java:71)"}},
		{"three", handler("three"), "GET x", []string{"Desk.three has 3 parameters", "(functions/ferry/Desk.java:73)"}},
		{"no-name", handler("quot"), "GET x", []string{"ferry.Desk has no method quot (did you mean quote?)"}},
		{"no-class", "handler: \"classes:ferry.Dusk.quote\"", "GET x",
			[]string{"classes has no class ferry.Dusk (did you mean ferry.Desk?)"}},
		{"broken", handler("Broken.f"), "GET x", []string{"NumberFormatException: For input string: \"high\" " +
			"(functions/ferry/Desk.java:76)"}},
		{
			"needs",
			handler("Needs.g"),
			"GET x",
			[]string{"it needs the class ferry.Desk$Gone, which is not on the class path"},
		},
		{"alone", "handler: \"desk.jar:ferry.Desk.quote\", takes: data", "POST x {}",
			[]string{"it needs the class ferry.Desk$"}},
		{"beside", "handler: \"desk.jar:ferry.Desk.quote\", takes: data, interpreter: [java, -cp, rest.jar, -Xmx64m]",
			"POST x {\"adults\":1}", []string{`"cents": 1200`}},
		{"built", "handler: \"made:Tide.level\", build: [javac, -d, made, functions/Tide.java]", "GET x",
			[]string{"status 200", "3"}},
	})
	noLoadersLeft(t)
}

// Another language needs a loader, which is a command of the user's.
func TestHandlersOfAnotherLanguage(t *testing.T) {
	has(t, "ruby")
	loader, err := filepath.Abs("../../examples/ruby-handler/loader.rb")
	if err != nil {
		t.Fatal(err)
	}
	handler := func(name string) string {
		return fmt.Sprintf("handler: \"functions/gate.rb:%s\", loader: [ruby, %q]", name, loader)
	}
	tryHandlers(t, []handlerCase{
		{"scan", handler("scan"), "", []string{"done", `"id": "s-1"`, `"deck": "car"`, "handler"}},
		{"scan-bad", handler("scan"), "bad", []string{"failed", "ArgumentError: bad pass (functions/gate.rb:3)"}},
		{"raw", handler("Gate.raw") + ", takes: data", "POST x {\"a\":1}", []string{"application/octet-stream"}},
		{"leaves", handler("leaves"), "GET x", []string{"status 500", "it called exit(4) (functions/gate.rb:9)"}},
		{"no-name", handler("scam"), "GET x", []string{"functions/gate.rb has no scam"}},
		{"syntax", "handler: \"functions/broken.rb:f\", loader: [ruby, " + loader + "]", "GET x",
			[]string{"SyntaxError", "(functions/broken.rb:3)"}},
		{"no-loader", "handler: \"functions/gate.rb:scan\", loader: [ruby, \"gone.rb\"]", "GET x",
			[]string{"exited with code 1 before it was ready", "gone.rb"}},
	})
	noLoadersLeft(t)
}

// A batch arrives as a list, and those that are to be retried are; two at a time run in one process.
func TestHandlersInDrills(t *testing.T) {
	has(t, "python3")
	has(t, "node")
	dir := handlers(t, map[string]string{"together": "handler: \"functions/fares.py:together\", timeout: 15s, " +
		"concurrency: {max: 2, per_instance: 2}, keep_warm: 1"},
		`  passes: {kind: queue, batch: {max: 3, wait: 50ms}, attempts: 2, backoff: 1ms, wires: [{to: batch}]}
  other-passes: {kind: queue, batch: {max: 3, wait: 50ms}, attempts: 2, backoff: 1ms, wires: [{to: other}]}
payloads:
  passes: {recording: passes.ndjson}
  asks: {recording: asks.har}
drills:
  d:
    feeds:
      - {source: passes, payloads: passes, arrive: once}
      - {source: other-passes, payloads: passes, arrive: once}
      - {source: web, payloads: asks, arrive: [{burst: {size: 2, every: 1s}, for: 1s}]}
`)
	file := filepath.Join(dir, "nightdrill.yaml")
	text := read(t, file)
	put(t, file, strings.Replace(text, "functions:\n",
		"functions:\n  batch: {handler: \"functions/fares.py:batch\"}\n"+
			"  other: {handler: \"functions/tides.mjs:batch\"}\n", 1))
	var lines []string
	for i := range 9 {
		pass := map[bool]string{true: "later", false: "BF"}[i%3 == 0]
		lines = append(lines,
			fmt.Sprintf(`{"specversion":"1.0","id":"p%d","source":"s","type":"scan","data":{"pass":%q}}`,
				i, pass))
	}
	put(t, filepath.Join(dir, "passes.ndjson"), strings.Join(lines, "\n"))
	put(t, filepath.Join(dir, "asks.har"), `{"log":{"entries":[{"request":{"method":"GET","url":`+
		`"http://x/together/x"}}]}}`)
	out, errs, code := nightdrill(t, "--project", dir, "run", "d", "--json", "-")
	var s struct {
		Sources map[string]struct{ Done, Failed, Rejected int }
	}
	if err := json.Unmarshal([]byte(out), &s); err != nil || code != 0 {
		t.Fatalf("exit %d, %v\n%s%s", code, err, out, errs)
	}
	for _, name := range []string{"passes", "other-passes"} {
		if of := s.Sources[name]; of.Done != 6 || of.Failed != 3 {
			t.Errorf("%s: %+v, want 6 done and the 3 failed that are retried every time", name, of)
		}
	}
	if of := s.Sources["web"]; of.Done != 2 {
		t.Errorf("two at a time in one process: %+v\n%s", of, errs)
	}
	noLoadersLeft(t)
}

// With --watch a save is checked, the function that changed first; the last round decides how it ends. Bare JSON
// becomes a request to the only wire.
func TestChecksAfterEverySave(t *testing.T) {
	has(t, "python3")
	dir := t.TempDir()
	put(t, filepath.Join(dir, "one.py"), "def answer(data):\n    return {'fare': 12}\n")
	put(t, filepath.Join(dir, "two.py"), "def answer(data):\n    return {'fare': 12}\n")
	put(t, filepath.Join(dir, "asks.http"), "POST /fare HTTP/1.1\nHost: quay\nContent-Length: 2\n\n{}\n")
	put(t, filepath.Join(dir, "nightdrill.yaml"), `nightdrill: 1
functions:
  one: {handler: "one.py:answer", takes: data, start_timeout: 60s}
  two: {handler: "two.py:answer", takes: data, start_timeout: 60s, timeout: 20m}
sources:
  first: {kind: http, wires: [{to: one, when: {method: POST, path: /fare}}]}
  second: {kind: http, wires: [{to: two}]}
payloads:
  a: {recording: asks.http, reaches: [first], expect: {values: {/fare: 12}}}
  b: {recording: asks.http, reaches: [second], expect: {values: {/fare: 12}}}
`)
	c := exec.Command(program, "--project", dir, "fire", "--all", "--watch")
	out, err := c.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = c.Process.Kill() }() // where it failed before its end
	lines := bufio.NewScanner(out)
	until := func(want string) (before []string) {
		t.Helper()
		for lines.Scan() {
			if before = append(before, lines.Text()); strings.HasSuffix(lines.Text(), want) {
				return before
			}
		}
		t.Fatalf("it ended before %q: %q", want, before)
		return nil
	}
	until("2 of 2 replies as expected")
	put(t, filepath.Join(dir, "two.py"), "def answer(data):\n    return {'fare': 13}\n")
	if got := strings.Join(until("1 of 2 replies as expected"), "\n"); !strings.Contains(got,
		"second b#1: expected /fare is 12, got 13") {
		t.Errorf("it says\n%s", got)
	}
	put(t, filepath.Join(dir, "two.py"), "def answer(data)\n")
	if got := strings.Join(until("1 of 2 replies as expected"), "\n"); !strings.Contains(got, "second b#1: not sent") ||
		!strings.Contains(got, "two.py:1") {
		t.Errorf("it says\n%s", got)
	}
	// a save while a reply is awaited, for longer than anyone would wait: the new code answers
	if err := syscall.Mkfifo(filepath.Join(dir, "began"), 0o600); err != nil {
		t.Fatal(err)
	}
	put(t, filepath.Join(dir, "two.py"), "import time\ndef answer(data):\n    open('began', 'w')\n   "+
		" time.sleep(600)\n")
	if began, err := os.Open(filepath.Join(dir, "began")); err != nil { // it waits for the other end
		t.Fatal(err)
	} else {
		began.Close()
	}
	put(t, filepath.Join(dir, "two.py"), "def answer(data):\n    return {'fare': 12}\n")
	until("2 of 2 replies as expected")
	put(t, filepath.Join(dir, "two.py"), "def answer(data):\n    return {'fare': 13}\n")
	until("1 of 2 replies as expected")
	if err := c.Process.Signal(os.Interrupt); err != nil {
		t.Fatal(err)
	}
	if err := c.Wait(); c.ProcessState.ExitCode() != 1 {
		t.Errorf("the last round missed, and it ends with %v", err)
	}
	put(t, filepath.Join(dir, "two.py"), "def answer(data):\n    return data\n")
	put(t, filepath.Join(dir, "body.json"), `{"deck": "car"}`)
	body := filepath.Join(dir, "body.json")
	expectCall(t, dir, []string{"fire", "first", body, "--json"}, 0, []string{`"fare": 12`})
	expectCall(t, dir, []string{"fire", "second", body, "--json", "--method", "put", "--path", "/x"}, 0,
		[]string{`"deck": "car"`})
	expectCall(t, dir, []string{"fire", "first", body, "--path", "x"}, 2, []string{`--path must begin with /, got "x"`})
	put(t, body, "{,}")
	expectCall(t, dir, []string{"fire", "first", body}, 2, []string{"is neither a raw HTTP request nor JSON"})
	noLoadersLeft(t)
}

// A wire divides its requests between a function and its variant, in a drill the same way each time; they are
// compared within the run.
func TestADividedWire(t *testing.T) {
	has(t, "python3")
	dir := t.TempDir()
	put(
		t,
		filepath.Join(dir, "fare.py"),
		"import os\ndef fare(event):\n    return {'by': os.environ.get('BY', 'own')}\n",
	)
	put(t, filepath.Join(dir, "ask.request"), "GET /fare HTTP/1.1\n\n")
	put(t, filepath.Join(dir, "nightdrill.yaml"), `nightdrill: 1
functions:
  fare: {handler: "fare.py:fare", start_timeout: 60s, timeout: 20s, concurrency: {max: 1},
    variants: {new: {env: {BY: new}}}}
sources:
  web: {kind: http, wait: 20s, wires: [{shares: {fare: 60, fare@new: 40}}]}
payloads:
  asks: {recording: ask.request}
drills:
  d: {feeds: [{source: web, payloads: asks, arrive: [{burst: {size: 50, every: 1s}, for: 1s}]}]}
`)
	type summary struct {
		ID        string `json:"run"`
		Functions map[string]struct {
			Outcomes struct {
				Done int `json:"done"`
			} `json:"outcomes"`
		} `json:"functions"`
	}
	var runs [2]summary
	for i := range runs {
		out, errs, code := nightdrill(t, "--project", dir, "run", "d", "--json", "-")
		if err := json.Unmarshal([]byte(out), &runs[i]); err != nil || code != 0 {
			t.Fatalf("exit %d, %v\n%s%s", code, err, out, errs)
		}
	}
	own, other := runs[0].Functions["fare"].Outcomes.Done, runs[0].Functions["fare@new"].Outcomes.Done
	if own+other != 50 || own < 20 || other < 10 || runs[1].Functions["fare"].Outcomes.Done != own {
		t.Errorf("%+v", runs)
	}
	expectCall(t, dir, []string{"compare", runs[0].ID}, 0, []string{"fare@new",
		fmt.Sprintf("fare %d, fare@new %d invocations", own, other), "differ"})
	expectCall(t, dir, []string{"fire", "web", filepath.Join(dir, "ask.request"), "--variant", "new"}, 0,
		[]string{`"by": "new"`})
	expectCall(t, dir, []string{"check"}, 0, []string{"40 % of any"})
	noLoadersLeft(t)
}

// A handler that was written for another platform runs unchanged: its events have the form of an example, and
// what it returns becomes a reply.
func TestAHandlerOfAnotherPlatform(t *testing.T) {
	has(t, "python3")
	dir := t.TempDir()
	put(t, filepath.Join(dir, "fare.py"), `import json
def fare(event, context):
    ask = json.loads(event["content"])
    assert event["headers"]["Content-Type"] == "application/json"
    return {"code": 201, "meta": {"x-asked": event["meta"]["requestId"]},
            "result": event["verb"] + " " + event["path"] + " " + str(ask["adults"] * 12)}
`)
	put(t, filepath.Join(dir, "nightdrill.yaml"), `nightdrill: 1
functions:
  fare: {handler: "fare.py:fare", takes: shaped, shape: {template: shape.tmpl}, start_timeout: 60s,
    reply: {status: /code, headers: /meta, body: /result}}
sources:
  web: {kind: http, wires: [{to: fare}]}
`)
	put(t, filepath.Join(dir, "shape.tmpl"), "")
	example := filepath.Join(dir, "example.json")
	put(t, example, `{"form": "2", "verb": "POST", "path": "/fare", "headers": {"Content-Type": "application/json"},
  "meta": {"requestId": "3f0c5c9e-2a41-4c55-9d3b-0f6f1d2a9b11"}, "content": "{\"adults\": 1}", "verbs": ["POST"]}`)
	shape := []string{"payloads", "shape", "--like", example, "--source"}
	expectCall(t, dir, append(shape, "wep"), 2, []string{`unknown source "wep"; available: web`})
	expectCall(t, dir, append(shape, "web", "--out", filepath.Join(dir, "shape.tmpl")), 0, []string{"/meta/requestId",
		"from each event: 6 places; as in the example: 1 value"})
	body := filepath.Join(dir, "body.json")
	put(t, body, `{"adults": 3}`)
	expectCall(t, dir, []string{"fire", "web", body, "--path", "/quay"}, 0, []string{"status 201", "POST /quay 36",
		"X-Asked: "})
	put(t, example, "[")
	expectCall(t, dir, append(shape, "web"), 2, []string{"it is not JSON"})
	noLoadersLeft(t)
}

// init lists the handlers of a folder and takes none of several by itself; the project it writes passes its drill.
func TestInitAroundHandlers(t *testing.T) {
	has(t, "python3")
	dir := t.TempDir()
	put(t, filepath.Join(dir, "fares.py"), "def quote(event): return 1\ndef scan(event, context): return None\n")
	expectCall(t, dir, []string{"init"}, 2, []string{"handler: fares.py:quote  takes: event",
		"its parameters are called event, context", "nothing was written"})
	if _, err := os.Stat(filepath.Join(dir, "nightdrill.yaml")); err == nil {
		t.Error("something was written")
	}
	expectCall(t, dir, []string{"init", "--functions", "quote,fare"}, 2,
		[]string{`no callable "fare" was found; found: ` +
			"fares.py:quote, fares.py:scan"})
	expectCall(t, dir, []string{"init", "--functions", "scan,all"}, 0, []string{"payloads/web/scan.request"})
	expectCall(t, dir, []string{"run", "first"}, 0, []string{"3 of 3 budgets met"})
	noLoadersLeft(t)
}

// A program that is killed leaves no loader behind, not one in the middle of an invocation either.
func TestKilledLoadersEnd(t *testing.T) {
	for _, x := range []struct{ interpreter, file, text string }{
		{"python3", "f.py", "import time\ndef F(event):\n    open('began', 'w')\n    time.sleep(600)\n"},
		{"node", "f.mjs", "import fs from 'node:fs';\nexport function F() { fs.openSync('began', 'w'); for (;;); }\n"},
		{"go", "f.go", "package f\n\nimport \"os\"\n\nfunc F() { os.OpenFile(\"began\", os.O_WRONLY, 0); " +
			"select {} }\n"},
		{"java", "f.jar", "class F { static Object F(Object e) throws Exception { new java.io.FileOutputStream(" +
			"\"began\"); for (;;); } }\n"},
	} {
		t.Run(x.interpreter, func(t *testing.T) {
			has(t, x.interpreter)
			dir := t.TempDir()
			put(t, filepath.Join(dir, x.file), x.text)
			put(t, filepath.Join(dir, "go.mod"), "module f\n\ngo 1.21\n")
			name := "F"
			if x.interpreter == "java" {
				name = "F.F"
				put(t, filepath.Join(dir, "F.java"), x.text)
				for _, args := range [][]string{{"javac", "F.java"}, {"jar", "-cf", "f.jar", "F.class"}} {
					c := exec.Command(args[0], args[1:]...)
					if c.Dir = dir; c.Run() != nil {
						t.Fatal(args)
					}
				}
			}
			put(t, filepath.Join(dir, "ask.request"), "GET / HTTP/1.1\n\n")
			put(t, filepath.Join(dir, "nightdrill.yaml"), "nightdrill: 1\nfunctions:\n  f: {handler: \""+x.file+
				":"+name+"\", "+
				"timeout: 20m, start_timeout: 60s}\nsources:\n  web: {kind: http, wires: [{to: f}]}\n")
			if err := syscall.Mkfifo(filepath.Join(dir, "began"), 0o600); err != nil {
				t.Fatal(err)
			}
			c := exec.Command(program, "--project", dir, "fire", "web", filepath.Join(dir, "ask.request"))
			if err := c.Start(); err != nil {
				t.Fatal(err)
			}
			began, err := os.Open(filepath.Join(dir, "began")) // it waits until the handler has opened the other end
			if err != nil {
				t.Fatal(err)
			}
			began.Close()
			if err := c.Process.Kill(); err != nil {
				t.Fatal(err)
			}
			_ = c.Wait() // it was killed
			until(t, func() bool {
				out, _ := exec.Command("pgrep", "-f", x.file+" "+name+" ").Output()
				return len(out) == 0
			})
		})
	}
}
