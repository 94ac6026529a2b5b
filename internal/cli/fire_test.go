package cli

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// One event from the command line: what is printed, and what the exit code says.
func TestFire(t *testing.T) {
	dir := lay(t, served, "")
	if err := os.WriteFile(filepath.Join(dir, "own.request"),
		[]byte("GET /quote/holm-skerry?day=2026-11-20&vehicle=car&passengers=2 HTTP/1.1\nX-N: {{counter}}\n\n"),
		0o644); err != nil {
		t.Fatal(err)
	}
	// saved by itself for the source, it is found by its name
	saved := filepath.Join(dir, "payloads", "fares", "weekend.request")
	if err := os.MkdirAll(filepath.Dir(saved), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(saved, []byte("GET /quote/tern-rock-loop?day={{date}}&vehicle=foot&passengers={{random 1 "+
		"4}} HTTP/1.1\n\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		args string
		code int
		want []string
	}{
		{"fares weekend", 0, []string{"fares weekend  GET /quote/tern-rock-loop?day=2",
			`"crossing": "tern-rock-loop"`}},
		{"fares asks", 0, []string{"fares asks#1", "cold  on quote-1, v1", "status 200", `"crossing": "skerry-holm"`,
			"quote listens on", "boot", "first byte", "search", "by its own Server-Timing"}},
		{"fares asks#1 --times 6", 0, []string{"  6  done", "cold       1", "warm       5"}},
		{"fares asks#1 --times 2 --cold", 0, []string{"cold       2"}},
		{"fares " + filepath.Join(dir, "own.request"), 0, []string{"holm-skerry", "GET /quote/holm-skerry"}},
		{"fares " + filepath.Join(dir, "asks.har"), 0, []string{"status 200"}},
		{"fars asks", 2, []string{`unknown source "fars"; available: fares`}},
		{"fares nothing", 2, []string{`no payload set, saved payload or file "nothing"; available sets: asks`}},
		{"fares asks#2", 2, []string{"asks has payloads 1 to 1, not 2"}},
		{"fares " + filepath.Join(dir, "nightdrill.yaml"), 2,
			[]string{"is neither a raw HTTP request nor JSON: line 1"}},
		{"fares", 2, []string{"fire needs a source and a payload"}},
		{"fares asks --times 0", 2, []string{"must be at least 1"}},
		{"fares asks --variant none", 3, []string{`has a variant "none"`}},
	} {
		out, errs, code := nightdrill(t, append([]string{"--project", dir, "fire"}, strings.Fields(c.args)...)...)
		if code != c.code {
			t.Errorf("%s: exit %d, want %d\n%s%s", c.args, code, c.code, out, errs)
		}
		for _, w := range c.want {
			if !strings.Contains(out+errs, w) {
				t.Errorf("%s: without %q:\n%s%s", c.args, w, out, errs)
			}
		}
	}
	// standard input, and the JSON form
	in := exec.Command(program, "--project", dir, "fire", "fares", "-", "--json")
	in.Stdin = strings.NewReader("GET /quote/nowhere HTTP/1.1\r\n\r\n")
	content, err := in.Output()
	var reply struct {
		Format  string
		Firings []fired
	}
	if json.Unmarshal(content, &reply) != nil || err != nil || reply.Format != "nightdrill.firing/2" ||
		len(reply.Firings) != 1 {
		t.Fatalf("%v\n%s", err, content)
	}
	// a 404 is the function's answer to its caller: the event is done
	if f := reply.Firings[0]; f.Outcome != "done" || f.Status != 404 || f.Class != "cold" || f.Phases["boot"] <= 0 ||
		f.Ms < f.Phases["boot"] || f.Body == nil {
		t.Errorf("fired %+v", f)
	}
	noneLeft(t)
}

// What does not start says what happened and what to do, and the exit code is
// not 0.
func TestFireAtWhatDoesNotStart(t *testing.T) {
	listener := `import socket,time; s=socket.socket(); s.bind(("127.0.0.1",0)); s.listen(); print("up", ` +
		`flush=True); time.sleep(60)`
	script := filepath.Join(t.TempDir(), "other")
	foreign := filepath.Join(t.TempDir(), "foreign")
	_ = os.WriteFile(script, []byte("#!/no/such/interpreter\n"), 0o755)
	_ = os.WriteFile(foreign,
		[]byte("\x7fELF\x02\x01\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00\x02\x00\xff\x00\x01\x00\x00\x00"), 0o755)
	for name, c := range map[string]struct{ start, want string }{
		"not found": {`[pythn3, x.py]`, `command not found: "pythn3" is not on the PATH; did you mean python3?`},
		"ends well": {`[sh, -c, "cat"]`, "(does it read events from standard input? transport: lines;"},
		"exits": {`[sh, -c, "echo tables are missing; exit 4"]`,
			"it exited with code 4 before it was ready; its last line: tables are missing"},
		"never listens": {`[sleep, "60"]`, "was not ready within 2 s: it did not listen on the port that it was given"},
		"elsewhere":     {`[python3, -c, '` + listener + `']`, "but on [127.0.0.1:"},
		"no interpreter": {`["` + script + `"]`, "the interpreter /no/such/interpreter, which the first line of " +
			script + " names, is missing"},
		"other machine": {`["` + foreign + `"]`, "is not a program for this machine"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			if _, err := exec.LookPath("python3"); err != nil && strings.Contains(c.start+c.want, "python3") {
				t.Skip("python3 is not here")
			}
			out, errs, code := nightdrill(t, "--project", lay(t, c.start, ""), "fire", "fares", "asks")
			if code != 1 || !strings.Contains(out, c.want) {
				t.Errorf("exit %d, want 1 and %q\n%s%s", code, c.want, out, errs)
			}
		})
	}
}

// A project is begun in every language that is here; its first event is
// answered; nothing is overwritten.
func TestInit(t *testing.T) {
	for language, tool := range map[string]string{"python": "python3", "node": "node", "go": "go", "java": "java"} {
		t.Run(language, func(t *testing.T) {
			if _, err := exec.LookPath(tool); err != nil {
				t.Skipf("%s is not here", tool)
			}
			dir := t.TempDir()
			if out, errs, code := nightdrill(t, "--project", dir, "init", "--lang", language, "--sources",
				"http,queue,storage,stream,schedule"); code != 0 {
				t.Fatalf("exit %d\n%s%s", code, out, errs)
			}
			if out, errs, code := nightdrill(t, "--project", dir, "check"); code != 0 {
				t.Errorf("check: exit %d\n%s%s", code, out, errs)
			}
			events := [][]string{{"web", "tide"}, {"jobs", "job"}, {"uploads", "note"}, {"readings", "reading"},
				{"nightly", "next"}}
			if language != "python" && language != "node" {
				events = events[:2] // the others are distinguished by nothing but their language
			}
			for _, event := range events {
				out, errs, code := nightdrill(t, "--project", dir, "fire", event[0], event[1])
				if code != 0 || !strings.Contains(out, "status 200") {
					t.Errorf("%v: exit %d\n%s%s", event, code, out, errs)
				}
			}
			if _, errs, code := nightdrill(t, "--project", dir, "init"); code != 2 ||
				!strings.Contains(errs, "nightdrill.yaml already exists and is not overwritten; nothing was written") {
				t.Errorf("a second time: exit %d, %s", code, errs)
			}
		})
	}
	if out, errs, code := nightdrill(t, "--project", t.TempDir(), "init", "--lang", "python", "--sources",
		"schedule"); code != 0 || !strings.Contains(out, "fire nightly next") {
		t.Errorf("a schedule alone: exit %d\n%s%s", code, out, errs)
	}
	// around what is there
	dir := t.TempDir()
	_ = os.WriteFile(filepath.Join(dir, "server.js"),
		[]byte("require('http').createServer((q, s) => s.end('own')).listen(process.env.PORT, '127.0.0.1')"), 0o644)
	_ = os.WriteFile(filepath.Join(dir, "tool.py"), []byte(""), 0o644)
	out, errs, code := nightdrill(t, "--project", dir, "init", "--lang", "node")
	if content, _ := os.ReadFile(filepath.Join(dir, "nightdrill.yaml")); code > 2 || !strings.Contains(string(content),
		`start: ["node", "server.js"]`) || !strings.Contains(out, "around server.js") {
		t.Errorf("exit %d\n%s%s\n%s", code, out, errs, content)
	}
	for args, want := range map[string]string{"--lang pyhton": "did you mean python?",
		"--sources htpt": "did you mean http?", "x": "a command after --"} {
		if _, errs, code := nightdrill(t, append([]string{"--project", t.TempDir(), "init"},
			strings.Fields(args)...)...); code != 2 || !strings.Contains(errs, want) {
			t.Errorf("init %s: exit %d, %s", args, code, errs)
		}
	}
}

// Killed in the middle of a firing: what the function and its service leave
// elsewhere is ended by their stop commands, and what has run away from it, by the warden.
func TestFireKilled(t *testing.T) {
	dir := lay(t, `[sh, -c, "env -i $(command -v setsid) -f sh -c 'echo $$ > new; mv new child; exec sleep 1000'; `+
		`until [ -e child ]; do sleep 0.01; done; echo > started; exec sleep 60"], stop: [sh, -c, "echo {instance} `+
		`> stopped"], needs: [tides]`, "")
	yaml, _ := os.ReadFile(filepath.Join(dir, "nightdrill.yaml"))
	content := strings.Replace(string(yaml), "functions:", "services:\n  tides: {start: [sleep, \"60\"], stop: "+
		"[sh, -c, \"echo > ebb\"]}\nfunctions:", 1)
	if err := os.WriteFile(filepath.Join(dir, "nightdrill.yaml"),
		[]byte(strings.Replace(content, "start_timeout: 2s", "start_timeout: 1m", 1)), 0o644); err != nil {
		t.Fatal(err)
	}
	c := exec.Command(program, "--project", dir, "fire", "fares", "asks")
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	until := func(name string) {
		t.Helper()
		tick := time.NewTicker(5 * time.Millisecond)
		defer tick.Stop()
		for end := time.Now().Add(2 * time.Minute); ; <-tick.C {
			if func() bool { _, err := os.Stat(filepath.Join(dir, name)); return err == nil }() {
				return
			}
			if time.Now().After(end) {
				t.Fatalf("%s never came", name)
			}
		}
	}
	until("started")
	_ = c.Process.Kill()
	_ = c.Wait() // it was killed
	until("stopped")
	until("ebb")
	child := strings.TrimSpace(read(t, filepath.Join(dir, "child")))
	// the commands come last; one that no one waits for is gone, too
	if stat, err := os.ReadFile("/proc/" + child + "/stat"); err == nil && !strings.Contains(string(stat), ") Z ") {
		t.Errorf("%s, which left its session and its environment, still runs", child)
	}
}

// All expectations of a project are looked at in one go, and in its drills: what
// is unexpected is counted, the first of it told, and the exit code says so.
func TestExpectations(t *testing.T) {
	dir := lay(t, served, "")
	file := filepath.Join(dir, "nightdrill.yaml")
	content, _ := os.ReadFile(file)
	with := func(expect string) {
		t.Helper()
		if err := os.WriteFile(file, []byte(strings.Replace(string(content), "{recording: asks.har}",
			"{recording: asks.har, "+expect+"}", 1)), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	junit := filepath.Join(dir, "junit.xml")
	with("expect: {status: 200, values: {/crossing: skerry-holm}}")
	expectCall(t, dir, []string{"fire", "--all", "--junit", junit}, 0, []string{"1 of 1 reply as expected"})
	expectCall(t, dir, []string{"run", "short"}, 0, nil)
	if got, _ := os.ReadFile(junit); !strings.Contains(string(got), `<testsuites name="quay" tests="1" failures="0"`) {
		t.Errorf("JUnit XML\n%s", got)
	}
	with("expect_each: {1: {values: {/crossing: elsewhere}}}")
	expectCall(t, dir, []string{"fire", "--all", "--junit", junit}, 1,
		[]string{`fares asks#1: expected /crossing is "elsewhere", got "skerry-holm"`, "0 of 1 reply as expected"})
	expectCall(t, dir, []string{"run", "short", "--json", "-"}, 1, []string{`"unexpected": 10`,
		`the first unexpected reply was to asks#1: expected /crossing is \"elsewhere\"`})
	if got, _ := os.ReadFile(junit); !strings.Contains(string(got), `failures="1"`) || !strings.Contains(string(got),
		`<failure message="expected /crossing is`) {
		t.Errorf("JUnit XML\n%s", got)
	}
	with("expect: recorded")
	expectCall(t, dir, []string{"fire", "--all"}, 2, []string{"payload 1 of asks was recorded without a reply"})
	with("expect_each: {7: {status: 200}}")
	expectCall(t, dir, []string{"check"}, 2, []string{"expect_each: asks has payloads 1 to 1, not 7"})
	expectCall(t, dir, []string{"fire", "fares", "asks", "--junit", junit}, 2, nil)
	expectCall(t, dir, []string{"fire", "--all", "fares"}, 2, []string{"--all takes no source"})
}

// What a function publishes in its trace is a step of the event; what the command publishes reaches the program that
// is open; and without one there is a plain word.
func TestPublishing(t *testing.T) {
	has(t, "python3")
	dir := t.TempDir()
	put(t, filepath.Join(dir, "f.py"), `import os, urllib.request
def order(event, context):
    r = urllib.request.Request(os.environ["NEXT"], data=b"1", headers={"traceparent": context.traceparent})
    return urllib.request.urlopen(r).status
def seen(event):
    return event["type"]
`)
	put(t, filepath.Join(dir, "o.event.json"), `{"specversion":"1.0","id":"o1","source":"s","type":"order","data":1}`)
	put(t, filepath.Join(dir, "nightdrill.yaml"), `nightdrill: 1
publish: {mqtt: true}
functions:
  order: {handler: "f.py:order", env: {NEXT: "{publish:next}"}, start_timeout: 60s, timeout: 30s}
  seen: {handler: "f.py:seen", start_timeout: 60s}
sources:
  orders: {kind: queue, wires: [{to: order}]}
  next: {kind: queue, wires: [{to: seen}]}
payloads:
  o: {recording: o.event.json}
drills:
  d: {settle: 30s, feeds: [{source: orders, payloads: o, arrive: [{burst: {size: 3, every: 1s}, for: 1s}]}]}
`)
	expectCall(t, dir, []string{"fire", "orders", "o#1"}, 0, []string{"next → seen, done", "orders → order, done"})
	out, errs, code := nightdrill(t, "--project", dir, "run", "d", "--json", "-")
	if code != 0 || strings.Count(out, `"published": 3`) < 1 {
		t.Errorf("exit %d\n%s%s", code, out, errs)
	}
	expectCall(t, dir, []string{"publish", "next", filepath.Join(dir, "o.event.json"), "--to", "http://127.0.0.1:9"}, 3,
		[]string{"no program takes events at http://127.0.0.1:9/next"})
	put(t, filepath.Join(dir, "x.request"), "GET / HTTP/1.1\n\n")
	expectCall(t, dir, []string{"publish", "next", filepath.Join(dir, "x.request")}, 2,
		[]string{"requests, and not events"})
	noLoadersLeft(t)
}
