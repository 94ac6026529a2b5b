package tui

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
)

// The screens are driven as users drive them: the program in a real terminal
// (tmux), keys sent, the pane read until it shows what it must.
var program, state string

func TestMain(m *testing.M) {
	if os.Getenv("WIRE") != "" {
		wire()
		return
	}
	dir, err := os.MkdirTemp("", "nightdrill-screen")
	if err != nil {
		panic(err)
	}
	program, state = filepath.Join(dir, "nightdrill"), filepath.Join(dir, "state")
	build := exec.Command("go", "build", "-o", program, "nightdrill.dev/cmd/nightdrill")
	build.Stderr = os.Stderr
	if err := build.Run(); err != nil {
		panic(err)
	}
	if _, err := exec.LookPath("tmux"); err != nil {
		panic("tmux is needed to test the screens; install it, or run make test, which does")
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// terminal is a shell in a tmux of its own.
type terminal struct {
	t      *testing.T
	socket string
	dir    string
}

func open(t *testing.T, width, height int) *terminal {
	term := &terminal{t, filepath.Join(t.TempDir(), "tmux"), t.TempDir()}
	t.Cleanup(func() { _ = exec.Command("tmux", "-S", term.socket, "kill-server").Run() })
	term.tmux("-f", "/dev/null", "new-session", "-d", "-x", fmt.Sprint(width), "-y", fmt.Sprint(height), "-c", term.dir,
		"env", "PS1=quay> ", "LC_ALL=C.UTF-8", "TERM=tmux-256color", "XDG_STATE_HOME="+state, "sh")
	term.wait("quay>")
	return term
}

func (x *terminal) tmux(args ...string) string {
	x.t.Helper()
	out, err := exec.Command("tmux", append([]string{"-S", x.socket, "-u"}, args...)...).CombinedOutput()
	if err != nil {
		x.t.Fatalf("tmux %v: %v\n%s", args, err, out)
	}
	return string(out)
}

func (x *terminal) pane() string { return x.tmux("capture-pane", "-p") }

func (x *terminal) keys(keys ...string) { x.tmux(append([]string{"send-keys"}, keys...)...) }

// shell types a command line.
func (x *terminal) shell(line string) {
	x.tmux("send-keys", "-l", line)
	x.keys("Enter")
}

// wait reads the pane until it holds every word.
func (x *terminal) wait(words ...string) string {
	x.t.Helper()
	var pane string
	x.until("with "+strings.Join(words, ", "), func() bool {
		pane = x.pane()
		return !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(pane, w) })
	})
	return pane
}

// still returns the pane once two looks see the same: it may be half drawn.
func (x *terminal) still() (pane string) {
	x.t.Helper()
	x.until("still", func() bool {
		last := pane
		pane = x.pane()
		return pane == last
	})
	return pane
}

// answer answers a question of the bottom line, whatever stands there already.
func (x *terminal) answer(question, text string) {
	x.t.Helper()
	x.wait(question)
	x.keys("C-u")
	x.keys("-l", text)
	x.keys("Enter")
}

// gone reads the pane until it does not hold a word.
func (x *terminal) gone(word string) {
	x.t.Helper()
	x.until("without "+word, func() bool { return !strings.Contains(x.pane(), word) })
}

// escape closes what shows a word, which nothing but closing may take from the screen:
// a key that is sent before the program has read the escape is one with Alt.
func (x *terminal) escape(word string) {
	x.t.Helper()
	x.wait(word)
	x.keys("Escape")
	x.gone(word)
}

// until looks again and again, at most for three minutes: a slow machine is no failure.
func (x *terminal) until(what string, holds func() bool) {
	x.t.Helper()
	look := time.NewTicker(40 * time.Millisecond) // each look is a process of its own
	defer look.Stop()
	for end := time.Now().Add(3 * time.Minute); time.Now().Before(end); <-look.C {
		if holds() {
			return
		}
	}
	x.t.Fatalf("never %s:\n%s", what, x.pane())
}

// sttys runs a command line between two looks at the terminal's settings, which
// must be the same. What an earlier program left on the screen goes first.
func (x *terminal) sttys(line string) {
	x.shell("clear; echo before the drill; stty -g > a; " + line + "; echo left with $?; stty -g > b; echo compared")
}

func (x *terminal) restored(code int) {
	x.t.Helper()
	pane := x.wait(fmt.Sprint("left with ", code), "compared\nquay>")
	a, _ := os.ReadFile(filepath.Join(x.dir, "a"))
	b, _ := os.ReadFile(filepath.Join(x.dir, "b"))
	if len(a) == 0 || string(a) != string(b) {
		x.t.Errorf("the terminal's settings were %q and are %q", a, b)
	}
	if !strings.Contains(pane, "before the drill") || strings.Contains(pane, "Arrivals") {
		x.t.Errorf("the screen from before is not back:\n%s", pane)
	}
	if out, _ := exec.Command("pgrep", "-f", program+" demo-function").Output(); len(out) > 0 {
		x.t.Errorf("processes are left: %s", out)
	}
}

// The demo from its start to its findings.
func TestTheDemoOnTheScreen(t *testing.T) {
	x := open(t, 160, 47)
	x.sttys(program + " demo")
	x.wait("● friday-evening", "Arrivals", "quote-1", "◆", "Latency so far, ms")
	x.keys("?")
	x.wait("Keys and symbols", "cold: it waited for this start")
	x.escape("Keys and symbols")
	// to its end: the findings open by themselves
	x.wait("Functions: the worst first", " budgets m", "Budgets") // met, or missed by a slow machine
	pane := x.scrolled()
	id := regexp.MustCompile(`run (\S+) on `).FindStringSubmatch(pane)
	if id == nil {
		t.Fatalf("which run?\n%s", pane)
	}
	for _, want := range []string{"Start ladder", "Warm-up", "Over time: latency", "offered",
		"Outcomes of events", "positions-refused", "use and cost", "a bare round trip took"} {
		if !strings.Contains(pane, want) {
			t.Errorf("the findings do not show %q:\n%s", want, pane)
		}
	}
	if !strings.Contains(pane, "━ boot") && !strings.Contains(pane, "too few for a median, which needs 6") {
		t.Errorf("the ladder has no steps, and does not say why:\n%s", pane)
	}
	checkFindings(t, pane, id[1])
	x.openedPoint()
	x.keys("5", "l")
	x.wait("finished in", "waiting")
	// the event of any invocation is followed on the map
	x.until("with an event on the map", func() bool {
		if strings.Contains(x.pane(), "Stop 1 of ") {
			return true
		}
		x.keys("Down", "g") // some lanes have no call
		return false
	})
	x.wait("arrives at ")
	x.keys("Space", "Space")
	if !regexp.MustCompile(`in total, status \d|open at the end`).MatchString(x.wait("Stop 3 of ", "in total")) {
		t.Error("the last stop says nothing of how it ended")
	}
	x.escape("Stop 3 of ")
	x.keys(":")
	x.keys("-l", "find")
	x.wait(":find", "findings")
	x.keys("Enter")
	x.wait("Functions: the worst first")
	// what the run would have been under other limits
	x.keys("w")
	x.answer("Forecast this run with", "quote.max=3,6")
	x.wait("Forecast from run", "margin to the tightest budget")
	x.keys("m")
	x.wait("warm p95 of quote, ms")
	x.keys("Escape")
	x.wait("Functions: the worst first")
	// an upload that triggered nothing goes on the map, and stops with the reason
	x.keys("2", "Up", "Up", "Up", "Up", "Up", "Up")
	x.wait("counts of the last run, friday-evening", "polled every 500 ms", "sent on ─▸ scans ─▸ boarding",
		"Latest events")
	x.keys("r")
	x.wait("next poll in", "paused")
	x.keys("Up", "Up", "Up", "Up", "Up", "Up", "Down", "Down", "Down")
	x.wait("── cargo ─")
	x.keys("Enter")
	x.wait("Put an event on the map, of cargo", "manifests#5", "no wire takes it", "last run: no wire takes it")
	x.keys("/") // what else has come since then may stand before it
	x.answer("Only events with this text:", "petrel-1900")
	x.wait("Put an event on the map, of cargo", "petrel-1900", "no wire takes it")
	x.keys("Enter")
	x.wait("arrives at cargo: storage.object.created manifests/petrel-1900.CSV")
	x.keys("Space")
	x.wait("Stop 2 of 2", "ends in .CSV, the wire wants", "✗")
	x.keys("f")
	x.wait("1 unmatched")
	x.keys("Escape")
	x.wait("curl -T FILE")
	// a file of events is published to a queue
	x.keys("Up", "Up")
	x.wait("── scans ─", "events are published at http://")
	x.keys("p")
	x.wait("file of events to publish to scans")
	x.keys("-l", "payloads/boarding.ndjson")
	x.keys("Enter")
	x.wait("published to scans: ")
	x.keys("Down", "Down")
	x.wait("── cargo ─")
	// what a key does can be said by name
	x.keys(":")
	x.keys("-l", "offer")
	x.wait(":offer", "offer unmatched ones again")
	x.keys("Enter")
	x.wait("1 unmatched, 0 of them are taken now")
	x.keys("q")
	x.restored(0)
}

// The map and the lanes while a drill runs: the demo's, going on until it is stopped.
func TestWhileADrillRuns(t *testing.T) {
	x := open(t, 160, 47)
	if err := os.CopyFS(x.dir, os.DirFS(filepath.Join("..", "demo", "project"))); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(x.dir, "nightdrill.yaml")
	change(t, file, "- {steady: 20/s, for: 2s}", "- {steady: 2/s, for: 1h}")
	change(t, file, "to: 6/s}, for: 10s}", "to: 6/s}, for: 10s}, {steady: 0.5/s, for: 1h}")
	x.drill("Enter")
	x.wait("● friday-evening", "Arrivals", "quote-1", "◆")
	// the map while the drill runs: every kind with what it lives by
	x.keys("2")
	x.wait("vessels  stream", "lag ", "depth ", "next poll in", "simulated time", "sent on ─▸ scans ─▸ boarding",
		"2 unmatched", "─▸ positions-refused")
	x.keys("Down", "Down", "Down")
	x.wait("── cargo ─", "curl -T FILE http://127.0.0.1:")
	x.keys("4")
	x.wait("by the function's limit", "boarding-", "┤ idle")
	// an invocation, opened while the drill runs
	x.keys("Down")
	x.wait("▸ at")
	x.over("Left")
	x.wait("invocation ", "dispatched", "from due to done", "instance start", "the reply")
	x.keys("PageDown")
	x.wait("Content-Type: application/json")
	x.keys("PageUp")
	x.wait("reply status")
	x.escape("esc close") // not "reply status": a page down that is still to be drawn takes it, too
	x.keys("S")
	x.wait("Functions: the worst first", "did not finish")
	x.keys("q")
	x.restored(0)
}

// drill starts the program, and with keys in its list a drill.
func (x *terminal) drill(keys ...string) {
	x.t.Helper()
	x.sttys(program)
	x.wait("▸ Payloads")
	x.keys("4")
	x.wait("Which drill?")
	x.keys(keys...)
}

// over opens invocations of the chosen lane, one after the other, to one that is over;
// a lane without any is left for the next.
func (x *terminal) over(next string) {
	x.t.Helper()
	x.until("with reply status", func() bool {
		x.keys(next, "Enter")
		x.wait("started because")
		pane := x.pane()
		if strings.Contains(pane, "reply status") {
			return true
		}
		x.escape("esc close")
		if !strings.Contains(pane, ", invocation ") {
			x.keys("Down")
		}
		return false
	})
}

// below matches the line that counts what a page hides.
var below = regexp.MustCompile(`\d+ more lines below`)

// scrolled scrolls to the end of a page, and returns what was seen on the way.
func (x *terminal) scrolled() (seen string) {
	for {
		pane := x.still()
		seen += pane + "\f\n"
		more := below.FindString(pane)
		if more == "" {
			return seen
		}
		x.keys("PageDown")
		x.gone(" " + more)
	}
}

// openedPoint puts the cursor on a drawing, opens the invocations behind a point, one
// of them in its lane, and comes back; then a filter holds for the whole page.
func (x *terminal) openedPoint() {
	for range 8 {
		x.keys("PageUp")
	}
	x.wait("Functions: the worst first")
	x.keys("c")
	x.wait("▸ quote start", "what is behind it") // of which some may never have had an invocation
	x.keys("Down")
	x.wait("▸ quote cold")
	x.keys("Enter")
	x.wait("in total", "longest first", "done at, s")
	x.keys("Enter")
	x.wait("reply status", "from due to done")
	x.escape("esc close")
	x.keys("5")
	x.wait("in total")
	x.escape("in total")
	x.escape("what is behind it")
	x.keys("/")
	x.answer("Filter, such as", "function=quote class=hot")
	x.wait("use cold, first, warm or retried")
	x.keys("/")
	x.answer("Filter, such as", "function=quote class=cold") // a slow machine may have no warm reply
	x.wait("only function=quote class=cold", "Functions: the worst first")
	x.escape("only function=quote")
}

// checkFindings compares the figures on the screen with those of the command.
func checkFindings(t *testing.T, pane, id string) {
	c := exec.Command(program, "runs", "show", id, "--json", "--project", filepath.Join(state, "nightdrill", "demo"))
	out, err := c.Output()
	var s measure.Summary
	if err != nil || json.Unmarshal(out, &s) != nil {
		t.Fatalf("runs show: %v\n%s", err, out)
	}
	fn := ""
	found := 0
	for line := range strings.Lines(pane) {
		f := strings.Fields(line)
		if strings.HasPrefix(line, "\f") { // another page: whose row is its first?
			fn = ""
		}
		if strings.Contains(line, "── Start ladder") {
			break
		}
		if len(f) > 1 && slices.Contains([]string{"quote", "boarding", "manifest", "position", "tides"}, f[0]) &&
			slices.Contains([]string{"start", "cold", "first", "warm"}, f[1]) {
			fn, f = f[0], f[1:]
		}
		if len(f) < 6 || fn == "" {
			continue
		}
		figures := s.Functions[fn]
		of := map[string]measure.Figures{"start": figures.Start, "cold": figures.Latency.Cold,
			"first": figures.Latency.First, "warm": figures.Latency.Warm}
		want, ok := of[f[0]]
		if !ok {
			continue
		}
		found++
		row := []string{fmt.Sprint(want.N), figure.Millis(want.P50)}
		if want.P50Lo != nil {
			row = append(row, figure.Millis(want.P50Lo), "–", figure.Millis(want.P50Hi))
		} else if want.P50 != nil {
			row = append(row, "needs", fmt.Sprint(want.Needs[0]))
		}
		row = append(row, figure.Millis(want.P95), figure.Millis(want.P99), figure.Millis(want.Max))
		if got, want := strings.Join(f[1:min(len(f), len(row)+1)], " "), strings.Join(row, " "); got != want {
			t.Errorf("%s %s: the screen says %q, the run %q", fn, f[0], got, want)
		}
	}
	if found < 5 {
		t.Errorf("only %d rows of figures were found:\n%s", found, pane)
	}
	for name, n := range s.Sources {
		if n == (measure.Counts{}) {
			if !strings.Contains(pane, "No events at") || !strings.Contains(pane, name) {
				t.Errorf("%s: the screen does not list it as without events", name)
			}
			continue
		}
		if row := regexp.MustCompile(`(?m)^ ` + name + ` +(\d+) +(\d+) +(\d+) +(\d+) +(\d+) `).FindStringSubmatch(
			pane); row == nil ||
			strings.Join(row[1:], " ") != fmt.Sprint(n.Arrived, " ", n.Done, " ", n.Failed, " ", n.DeadLettered, " ",
				n.Rejected) {
			t.Errorf("%s: the screen says %v, the run %+v", name, row, n)
		}
	}
}

const longDrill = `nightdrill: 1
project: quay
functions:
  quote: {start: ["{nightdrill}", demo-function, quote], variants: {roomy: {concurrency: {max: 20}}}}
sources:
  fares: {kind: http, wires: [{to: quote}]}
payloads:
  asks: {recording: asks.har}
drills:
  short: {feeds: [{source: fares, payloads: asks, arrive: [once]}]}
  endless: {feeds: [{source: fares, payloads: asks, arrive: [{steady: 50/s, for: 1h}]}]}
`

func lay(t testing.TB, dir string) {
	har := `{"log":{"entries":[{"request":{"method":"GET",` +
		`"url":"http://x.example/quote/skerry-holm?day=2026-11-20&vehicle=foot&passengers=1"}}]}}`
	for name, text := range map[string]string{"nightdrill.yaml": longDrill, "asks.har": har} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// A drill is chosen, started and stopped; the run is kept as unfinished.
func TestADrillIsChosenAndStopped(t *testing.T) {
	x := open(t, 100, 30)
	lay(t, x.dir)
	x.sttys(program)
	x.wait("▸ Payloads", "asks#1")
	x.keys("4")
	x.wait("Which drill?", "short", "endless")
	x.keys("5")
	x.wait("No runs yet.")
	x.keys("4")
	x.keys("Down", "Enter")
	x.wait("● endless", "quote-1", "▁", "◆") // with an invocation to be chosen
	x.keys("+", ",", ".", "0")
	x.over("Right")
	x.escape("esc close")
	// limits are changed while it runs, and that is marked
	x.keys("e")
	x.wait("Current limits", "project total")
	x.keys("Down", "2", "Enter")
	x.wait("changed, from now on")
	x.keys("t")
	x.wait("✗ rejects")
	x.keys("t")
	x.wait("accepts")
	x.keys("e")
	x.gone("Current limits")
	x.wait("changed", "quote accepts events again")
	// a terminal too small, and back
	x.tmux("resize-window", "-x", "60", "-y", "20")
	x.wait("Night Drill needs 80 columns and 24 rows")
	x.tmux("resize-window", "-x", "80", "-y", "24")
	x.wait("● endless", "Instances", "quote-1")
	x.keys("S")
	x.wait("Functions: the worst first", "did not finish")
	x.keys("4")
	x.wait("stopped after")
	x.keys("s")
	x.wait("Which drill?")
	x.keys("Up", "Enter")
	x.wait("Functions: the worst first", "2 of 2")
	x.keys("Left")
	x.wait("1 of 2", "endless", "unfinished")
	x.pastRuns()
	x.keys("q")
	x.restored(0)
}

// pastRuns names, notes and pins a run in the list, compares two, and deletes one.
func (x *terminal) pastRuns() {
	x.keys("r")
	x.wait("Past runs, newest first", "short", "endless")
	x.keys("Up", "Up", "n")
	x.answer("Name of the run", "first try")
	x.wait("first try")
	x.keys("p")
	x.wait("▪ first try")
	x.keys("Space", "Space")
	x.wait("▸▪ first try")
	x.keys("c")
	x.wait("verdicts", "first try against A endless", "Other measures")
	x.keys("s")
	x.wait("against first try")
	x.keys("5", "r")
	x.wait("Past runs")
	x.keys("Down", "Down", "D")
	x.wait("u brings it back")
	x.gone("endless ")
	x.keys("u")
	x.wait("is back", "endless ")
	x.keys("Down", "D")
	x.gone("endless ")
	x.keys("x")
	x.answer("to which folder?", "out")
	x.wait("files written to")
	x.escape("Past runs")
	// a run is replayed, and compared with what it was; then variants, in turns
	x.wait("Functions: the worst first")
	x.keys("a")
	x.wait("to today's code? y")
	x.keys("y")
	x.wait("verdicts", "against first try", "got the same repl")
	x.keys("v")
	x.wait("Set up a comparison", "variants of a function", "● quote@roomy")
	x.keys("Down", "Down", "Down", "0", "Enter")
	x.wait("must be a whole number from 1 to 10000")
	x.keys("BSpace", "2", "Down", "9", "Enter")
	x.wait("variants in", "quote@roomy", "verdicts")
	x.tmux("resize-window", "-x", "100", "-y", "30")
	x.wait("latency, from due to done")
	x.keys("?")
	x.wait("Keys and symbols", "against an older run")
	x.escape("Keys and symbols")
}

// answered is what a lane says that had answers.
var answered = regexp.MustCompile(`(?m)-\d+ .* [1-9]\d*\s*$`)

// Ctrl-C in the middle, and a signal from outside: the terminal is restored,
// no process is left, the run is there.
func TestBrokenOff(t *testing.T) {
	for _, by := range []string{"Ctrl-C", "SIGTERM", "q and y"} {
		t.Run(by, func(t *testing.T) {
			x := open(t, 120, 40)
			lay(t, x.dir)
			x.drill("Down", "Enter")
			x.wait("● endless", "▁")
			x.until("with an answer", func() bool { return answered.MatchString(x.pane()) })
			code := 130
			switch by {
			case "Ctrl-C":
				x.keys("C-c")
			case "SIGTERM":
				toProgram(t, "TERM", program)
			default:
				x.keys("q")
				x.wait("Stop it and quit?")
				x.keys("y")
				code = 0
			}
			x.restored(code)
			readable(t, x.dir)
		})
	}
}

// Killed in the middle of the demo's drill: the warden restores the terminal
// and ends every process, and what was measured up to half a second before is there.
func TestKilled(t *testing.T) {
	x := open(t, 120, 40)
	x.sttys(program + " demo")
	x.wait("● friday-evening", "┤ idle", "boarding-1")
	toProgram(t, "KILL", program+" demo")
	// the shell goes on before the warden is done; it is asked once more
	x.until("on the main screen", func() bool {
		return strings.TrimSpace(x.tmux("display-message", "-p",
			"#{alternate_on}")) == "0"
	})
	x.shell("stty -g > b; echo left with 137; echo compared")
	x.until("without a process", func() bool {
		out, _ := exec.Command("pgrep", "-f", program).Output()
		return len(out) == 0
	})
	x.restored(137)
	readable(t, filepath.Join(state, "nightdrill", "demo"))
}

func toProgram(t *testing.T, name, commandLine string) {
	if out, err := exec.Command("pkill", "-"+name, "-xf", commandLine).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
}

// readable fails when the last run of a project is not there, unfinished, with
// its figures.
func readable(t *testing.T, dir string) {
	t.Helper()
	for _, args := range [][]string{{"runs", "list"}, {"runs", "show"}} {
		out, err := exec.Command(program, append(args, "--project", dir)...).CombinedOutput()
		if text := string(out); err != nil || !strings.Contains(text, "unfinished") || args[1] == "show" &&
			!strings.Contains(text, "quote start") {
			t.Errorf("%v: %v\n%s", args, err, out)
		}
	}
}

const setsProject = `nightdrill: 1
project: quay
functions:
  quote: {start: ["{nightdrill}", demo-function, quote], variants: {roomy: {concurrency: {max: 20}}}}
sources:
  fares: {kind: http, wires: [{to: quote}]}
  jobs: {kind: queue, wires: [{to: quote}]}
payloads:
  asks: {recording: asks.har}
  jobs-made: {schema: job.json, count: 30}
`

// From the payload sets one payload is looked at, made otherwise, kept, and fired.
func TestPayloadsToFire(t *testing.T) {
	x := open(t, 120, 34)
	lay(t, x.dir)
	for name, text := range map[string]string{"nightdrill.yaml": setsProject,
		"job.json": `{"type":"object","required":["n"],"additionalProperties":false,` +
			`"properties":{"n":{"type":"integer","minimum":1,"maximum":5}}}`} {
		if err := os.WriteFile(filepath.Join(x.dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	x.sttys(program)
	x.wait("▸ Payloads")
	x.keys("1")
	x.wait("Payload sets", "asks", "1 recorded", "jobs-made", "30 generated", "GET /quote/skerry-holm")
	x.keys("Down")
	x.wait("all satisfy job.json", "integer, 1 to 5", "payload 1 of 30")
	x.keys("m", "m")
	x.wait("broken, seed 1", "✗ violates")
	x.keys("s")
	x.wait("broken, seed 2")
	x.keys("k")
	x.wait("save for jobs as")
	x.keys("Enter")
	x.wait("Saved as jobs jobs-made-1-broken")
	x.keys("Escape")
	x.wait("payload 1 of 30")
	x.keys("Up", "Enter")
	x.wait("▸ Payloads", "fares", "asks#1")
	x.keys("Enter")
	x.wait("200 OK", "cents")
	// the front is recorded with one switch
	x.keys("R")
	x.wait("name for the recording of the front")
	x.keys("Enter")
	x.wait("recording front-")
	x.keys("R")
	x.wait("no requests came to the front")
	x.keys("q")
	x.restored(0)
	if _, err := os.Stat(filepath.Join(x.dir, "payloads", "jobs", "jobs-made-1-broken.event.json")); err != nil {
		t.Error(err)
	}
}
