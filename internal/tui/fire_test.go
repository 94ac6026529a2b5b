package tui

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"nightdrill.dev/internal/session"
)

// example lays a copy of one of the examples.
func example(t *testing.T, dir, name string) {
	t.Helper()
	if err := os.CopyFS(dir, os.DirFS(filepath.Join("..", "..", "examples", name))); err != nil {
		t.Fatal(err)
	}
}

// change replaces text in a file.
func change(t testing.TB, path, was, is string) {
	t.Helper()
	text, err := os.ReadFile(path)
	if err != nil || !strings.Contains(string(text), was) {
		t.Fatalf("%s: %v, %q is not in it", path, err, was)
	}
	if err := os.WriteFile(path, []byte(strings.Replace(string(text), was, is, 1)), 0o644); err != nil {
		t.Fatal(err)
	}
}

// The inner loop, as its user goes through it: fire, read, edit the code and see
// the new reply by itself, fire cold, fire 20 times, break the code, read why,
// fix it.
func TestTheInnerLoop(t *testing.T) {
	for _, c := range []struct{ name, interpreter, file, was, is, broken, why string }{
		{"python", "python3", "functions/quote.py", `"cents": TABLE[key]}`, `"cents": TABLE[key], "harbour": "holm"}`,
			`"cents": TABEL[key]`, "NameError"},
		{"node", "node", "functions/quote.mjs", `{ crossing, cents }`, `{ crossing, cents, harbour: "holm" }`,
			`{ crossing, ;`, "SyntaxError"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if _, err := exec.LookPath(c.interpreter); err != nil {
				t.Skipf("%s is not here", c.interpreter)
			}
			x := open(t, 150, 42)
			example(t, x.dir, c.name)
			file := filepath.Join(x.dir, c.file)
			change(t, filepath.Join(x.dir, "nightdrill.yaml"), "idle_after: 2s", "idle_after: 10m") // a slow machine
			x.sttys(program)
			x.wait("▸ Payloads", "fare-requests#1", "What does the function reply?", "next: cold")
			x.keys("Enter")
			x.wait("200 OK", `"crossing": "skerry-holm"`, "◆ cold in", "boot", "first byte", "quote-1 · v1",
				"1 instance at :", "warm, idle stop in")
			x.keys("Enter")
			x.wait("● warm in", "= the same reply as firing 1")
			// the code changes; the reply comes by itself
			x.keys("w")
			x.wait("re-fire on save · front") // at the top: the line of keys says it always
			change(t, file, c.was, c.is)
			x.wait(`/harbour  nothing → "holm"`, "after a change", "quote-2 · v2", "before: v1")
			x.keys("c")
			x.wait("◆ cold in", "= the same reply as firing 3")
			x.keys("n")
			x.wait("fire how many times in a row? 20")
			x.keys("Enter")
			x.wait("Fired 20 times; warm 20, median")
			x.keys("n") // what is prefilled is replaced by the first that is typed, or pasted
			x.wait("fire how many times in a row? 20")
			x.tmux("set-buffer", "3")
			x.tmux("paste-buffer", "-p")
			x.wait("in a row? 3")
			x.keys("Enter")
			x.wait("Fired 3 times")
			// broken: the reason; fixed: the reply
			if c.name == "python" {
				change(t, file, "TABLE = {", "TABLE = TABEL + {")
			} else {
				change(t, file, c.is, c.broken)
			}
			x.wait("✗ not sent", "quote does not start: it exited with code 1 before it was ready", c.why,
				"it is fired again automatically")
			if c.name == "python" {
				change(t, file, "TABLE = TABEL + {", "TABLE = {")
			} else {
				change(t, file, c.broken, c.is)
			}
			x.wait("200 OK", `"harbour": "holm"`)
			x.keys("l")
			x.wait("Log output of the functions", "ready after", "┤ ", c.why)
			x.keys("/", "r", "e", "a", "d", "y", "Enter")
			x.wait("search: ready")
			x.keys("Escape")
			x.wait("▸ Payloads")
			x.keys("q")
			x.restored(0)
		})
	}
}

// Payloads are made, edited, kept and deleted; an editor that fails changes
// nothing; the environment is changed for the session.
func TestPayloadsAndEnvironmentOnTheScreen(t *testing.T) {
	x := open(t, 150, 42)
	lay(t, x.dir)
	change(t, filepath.Join(x.dir, "nightdrill.yaml"), "quote: {start:",
		"quote: {env: {QUAY_TOKEN: hush-hush, LEVEL: low}, start:")
	editor := filepath.Join(x.dir, "editor")
	write := func(script string) {
		if err := os.WriteFile(editor, []byte("#!/bin/sh\n"+script+"\n"), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	write(`sed -i 's/passengers=1/passengers=4/' "$1"`)
	x.sttys("EDITOR=" + editor + " VISUAL= " + program)
	x.wait("asks#1")
	x.keys("e")
	x.wait("name for the edited copy, for fares as asks-1")
	x.keys("Enter")
	x.wait("saved payload", "rs=4 HTTP/1.1")
	x.keys("Enter")
	x.wait("200 OK", "fares asks-1")
	write("exit 3")
	x.keys("e")
	x.wait("The editor failed (exit status 3); nothing was changed.")
	write(`echo "not a request" > "$1"`)
	x.keys("e")
	x.wait("cannot be sent", "line 1")
	x.keys("Enter")
	x.wait("not sent", "asks-1 is not sent: line 1")
	x.keys("D")
	x.wait("Delete asks-1? y")
	x.keys("y")
	x.wait("asks-1 deleted; u brings it back.")
	x.keys("/")
	x.keys("-l", "nothing like it")
	x.wait("Nothing matches the filter.")
	x.keys("Escape")
	x.wait("asks#1")
	x.keys("m", "m")
	x.wait("bytes")
	x.keys("E")
	pane := x.wait("Environment of quote", "QUAY_TOKEN", "LEVEL", "low")
	if strings.Contains(pane, "hush-hush") {
		t.Errorf("a secret is shown:\n%s", pane)
	}
	x.keys("Enter")
	x.wait("LEVEL for this session low")
	x.keys("C-u")
	x.keys("-l", "high")
	x.keys("Enter")
	x.wait("set for this session", "high")
	x.escape("Environment of")
	x.keys("y")
	x.wait("Copied: curl -i 'http://127.0.0.1:")
	// the project file is broken, and fixed
	change(t, filepath.Join(x.dir, "nightdrill.yaml"), "project: quay", "projcet: quay")
	x.wait("The project file has errors, the previous version stays in use", "did you mean project?")
	change(t, filepath.Join(x.dir, "nightdrill.yaml"), "projcet: quay", "project: jetty")
	x.wait("jetty")
	x.tmux("resize-window", "-x", "80", "-y", "24")
	x.wait("▸ Payloads", "Latest firings")
	x.keys("q")
	x.restored(0)
}

// Where no project is, one is offered.
func TestBegunOnTheScreen(t *testing.T) {
	x := open(t, 100, 30)
	if _, err := exec.LookPath("python3"); err != nil {
		t.Skip("python3 is not here")
	}
	x.sttys(program)
	x.wait("No project in", "function.py (python)", "s adds a queue")
	x.keys("s")
	x.wait("payloads/jobs/job.event.json")
	x.keys("Enter")
	x.wait("▸ Payloads", "tide", "GET /tides/quay-1", "job.wanted job-1")
	x.keys("Enter")
	x.wait("200 OK", `"asked": "/tides/quay-1"`, "✓ as expected: status 200")
	x.keys("Down", "Enter")
	x.wait("200 OK", `"seen": "job-1"`, "event job.wanted")
	x.keys("q")
	x.restored(0)
}

// BenchmarkKeyToReply is the path of a warm firing from the key to the drawn
// reply, without the terminal: what it adds to the function's own time.
func BenchmarkKeyToReply(b *testing.B) {
	dir := b.TempDir()
	lay(b, dir)
	change(b, filepath.Join(dir, "nightdrill.yaml"), `"{nightdrill}"`, `"`+program+`"`)
	d, err := session.Open(b.Context(), dir)
	if err != nil {
		b.Fatal(err)
	}
	defer d.Close()
	stand, err := d.Stand("127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	defer stand.Close()
	s := newShell(b.Context(), d, stand, nil)
	// run carries a command out, and what comes of it, as the program does; of
	// waiting it does nothing
	var run func(cmd tea.Cmd)
	run = func(cmd tea.Cmd) {
		if cmd == nil {
			return
		}
		switch msg := cmd().(type) {
		case tea.BatchMsg:
			run(msg[0]) // the second one of a look only waits
		default:
			_, next := s.Update(msg)
			run(next)
		}
	}
	s.Update(tea.WindowSizeMsg{Width: 160, Height: 47})
	press := func() (added time.Duration) {
		began := time.Now()
		_, cmd := s.Update(tea.KeyPressMsg{Code: tea.KeyEnter})
		run(cmd)
		for {
			run(s.listen)
			if f := stand.Recent(1)[0]; f.Over && strings.Contains(s.draw(), "200 OK") && f.Last() != nil {
				v := f.Last().Invocation
				return time.Since(began) - v.Done.Sub(v.Sent)
			}
		}
	}
	press() // the cold one
	var all []time.Duration
	for b.Loop() {
		all = append(all, press())
	}
	slices.Sort(all)
	b.ReportMetric(float64(all[len(all)/2])/1e6, "added-ms-p50")
	b.ReportMetric(float64(all[len(all)*99/100])/1e6, "added-ms-p99")
}

func BenchmarkDraw(b *testing.B) {
	dir := b.TempDir()
	lay(b, dir)
	change(b, filepath.Join(dir, "nightdrill.yaml"), `"{nightdrill}"`, `"`+program+`"`)
	d, _ := session.Open(b.Context(), dir)
	defer d.Close()
	stand, _ := d.Stand("127.0.0.1:0")
	defer stand.Close()
	s := newShell(b.Context(), d, stand, nil)
	s.Update(tea.WindowSizeMsg{Width: 160, Height: 47})
	for b.Loop() {
		s.draw()
	}
}
