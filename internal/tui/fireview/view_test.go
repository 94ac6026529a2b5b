package fireview

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/viewtest"
)

// screen is the view over a real session, whose function is a server of the test.
type screen struct {
	*Model
	*viewtest.Screen
	stand *session.Session
	dir   string
}

func open(t *testing.T, handler http.HandlerFunc, w, h int) *screen {
	t.Helper()
	s, dir := viewtest.Project(t, handler, map[string]string{
		"nightdrill.yaml": `nightdrill: 1
project: quay
functions:
  teller: {transport: attach, url: "{url}", env: {LEVEL: low, TIDE_TOKEN: hush-hush-1}, timeout: 2s,
    concurrency: {max: 2}, variants: {strict: {timeout: 1s}}}
sources:
  asks: {kind: http, wires: [{to: teller, when: {path: "/{what}"}}]}
  jobs: {kind: queue, attempts: 2, backoff: 1ms, wires: [{to: teller}]}
payloads:
  some: {recording: some.har, expect: {status: 200, values: {/n: 1}}}
  work: {recording: work.ndjson}
`,
		"some.har": `{"log":{"entries":[{"request":{"method":"GET","url":"http://x/fare",` +
			`"headers":[{"name":"Authorization","value":"Bearer hush"}]}},{"request":{"method":"GET",` +
			`"url":"http://x/a/b"}}]}}`,
		"work.ndjson": `{"specversion":"1.0","id":"w1","source":"s","type":"work.wanted","subject":"gulls",` +
			`"data":{"deep":{"list":[1,2,"three"]}}}` + "\n",
	})
	m := New(s)
	x := &screen{Model: m, Screen: &viewtest.Screen{T: t, View: m}, stand: s, dir: dir}
	x.Do(x.Resize(w, h))
	return x
}

func counting(w http.ResponseWriter, n int32) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Server-Timing", `look;desc="in the tables";dur=1.5`)
	w.Header().Set("Set-Cookie", "sid=hush")
	fmt.Fprintf(w, `{"n":%d,"same":true,"at":"moment %d"}`, n, n)
}

// A firing: reply, phases, what was expected, what differs, and a place that is
// left out.
func TestWhatIsShownOfAFiring(t *testing.T) {
	var n atomic.Int32
	x := open(t, func(w http.ResponseWriter, r *http.Request) { counting(w, n.Add(1)) }, 150, 44)
	content := x.Until("some#1  GET /fare", "jobs  1", "work#1  work.wanted w1", "What does the function reply?",
		"GET /fare", "none yet", "Requests to http://"+x.stand.Front.Address)
	if strings.Contains(content, "Bearer") {
		t.Errorf("a secret is shown:\n%s", content)
	}
	x.Press("enter")
	content = x.Until("200 OK", `"n": 1,`, "● warm in", "first byte", "look", "by its own Server-Timing",
		"✓ as expected: status 200, /n is 1", "its starts are not measured", "Set-Cookie: ••••••")
	if strings.Contains(content, "hush") {
		t.Errorf("a secret is shown:\n%s", content)
	}
	x.Press("enter")
	x.Until("✗ expected /n is 1, got 2", "≠ differs from firing 1 in 2 places", `/at  "moment 1" → "moment 2"`,
		"/n  1 → 2")
	x.Press("i")
	if x.Asked.Text != "/at" {
		t.Errorf("it offers to leave %q out", x.Asked.Text)
	}
	x.Answer("/at")
	x.page.settled = false
	x.Until("in 1 place (1 left out)")
	x.Press("i")
	x.Answer("no pointer")
	if !strings.Contains(x.Note, "not a JSON Pointer") {
		t.Errorf("it says %q", x.Note)
	}
	// earlier firings, and the latest again
	x.Press(",")
	x.Until("1 · ", "✓ as expected")
	x.Press(".", "enter")
	x.Until("3 · ", "/n  2 → 3")
	x.Press("v")
	x.Until("▸@strict")
	x.Press("enter")
	x.Until("4 · ", "teller@strict-1")
	x.Press("v", "v")
	x.Press("n")
	x.Answer("many")
	if !strings.Contains(x.Note, `"many" must be a number`) {
		t.Errorf("it says %q", x.Note)
	}
	x.Press("n")
	x.Answer("3")
	x.Until("7 · ")
	if !strings.HasPrefix(x.Note, "Fired 3 times; warm 3, median") {
		t.Errorf("it says %q", x.Note)
	}
	x.Press("down", "down", "enter")
	x.Until("work#1", "type      work.wanted", `"three"`)
	x.Press("up", "enter")
	x.Until("No wire of asks takes this event.", "any /{what}  → teller")
}

// A page is laid out anew for another width, also of a firing that is over.
func TestAPageFollowsTheWidth(t *testing.T) {
	x := open(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/plain")
		fmt.Fprint(w, strings.Repeat("tide ", 20))
	}, 200, 44)
	x.Press("enter")
	x.Until("200 OK")
	for _, w := range []int{90, 140, 80, 200} {
		x.Do(x.Resize(w, 44))
		x.Until("200 OK")
		if want := x.answerWidth() - 3; x.page.width != want {
			t.Errorf("at %d columns the page is laid out for %d, not %d", w, x.page.width, want)
		}
	}
}

// Headers that are secret are starred in every form that a payload is shown in,
// and in what is said of a copied command.
func TestSecretHeadersAreNeverShown(t *testing.T) {
	x := open(t, func(w http.ResponseWriter, r *http.Request) {}, 140, 40)
	for _, step := range []string{"", "m", "m", "m", "y"} {
		if step != "" {
			x.Press(step)
		}
		if content := x.Until("▸ Payloads"); strings.Contains(content+x.Note, "hush") {
			t.Errorf("after %q the secret is shown: %s\n%s", step, x.Note, content)
		}
	}
	if !strings.Contains(x.Note, "Authorization: ••••••") {
		t.Errorf("it says %q", x.Note)
	}
	x.Press("d")
	x.Answer("own")
	if content := x.Until("saved payload", "Authorization: ••••••"); strings.Contains(content, "hush") {
		t.Errorf("of a payload that is kept by itself the secret is shown:\n%s", content)
	}
	// what is sent has it
	if i := x.stand.Find("asks own"); i == nil || !strings.Contains(string(i.Text), "Bearer hush") {
		t.Error("the payload that is kept lost its header")
	}
}

// Replies of every shape are shown as what they are.
func TestRepliesOfEveryShape(t *testing.T) {
	var shape atomic.Value
	shape.Store("")
	over := make(chan bool)
	x := open(t, func(w http.ResponseWriter, r *http.Request) {
		switch shape.Load() {
		case "claims":
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, `{"a": oops`)
		case "image":
			w.Header().Set("Content-Type", "image/png")
			w.Write([]byte("\x89PNG\r\n\x1a\n\x00\x01"))
		case "controls":
			w.Header().Set("Content-Type", "text/plain")
			fmt.Fprint(w, "be\x1b[2Jware\r\n\ttab")
		case "empty":
			w.WriteHeader(204)
		case "long":
			w.Header().Set("Content-Type", "text/plain")
			fmt.Fprint(w, strings.Repeat("z", shownBytes+5))
		case "late":
			<-over
		case "turned":
			w.WriteHeader(503)
			fmt.Fprint(w, "low tide")
		}
	}, 120, 40)
	t.Cleanup(func() { close(over) })
	for _, c := range []struct {
		shape string
		want  []string
	}{
		{"claims", []string{"Reply: declared as JSON, but is not valid JSON", `{"a": oops`}},
		{"image", []string{"image/png", "000000  8950 4e47 0d0a 1a0a 0001", "·PNG····"}},
		{"controls", []string{"be·[2Jware", "    tab"}},
		{"empty", []string{"204 No Content", "(no body)"}},
		{"long", []string{"the first MiB of 1048.6 kB; s saves it whole", "more below"}},
		{"turned", []string{"503 Service Unavailable", "failed · teller-1", "low tide"}},
		{"late", []string{"✗ failed", "did not reply within 2 s", "no reply"}},
	} {
		shape.Store(c.shape)
		x.Press("enter")
		if content := x.Until(c.want...); strings.Contains(content, "\x1b") || strings.Contains(content, "\t") {
			t.Errorf("%s: control characters are left", c.shape)
		}
	}
	shape.Store("image")
	x.Press("enter")
	x.Until("·PNG")
	x.Press("s")
	x.Answer("picture.png")
	if content, err := os.ReadFile(filepath.Join(x.dir, "picture.png")); err != nil ||
		string(content) != "\x89PNG\r\n\x1a\n\x00\x01" {
		t.Errorf("saved: %q, %v; it says %q", content, err, x.Note)
	}
	x.Press("s")
	x.Answer("picture.png")
	if !strings.Contains(x.Note, "not saved") {
		t.Errorf("saved over another: %q", x.Note)
	}
	x.Press("k")
	x.Answer("jobs a-picture")
	if i := x.stand.Find("jobs a-picture"); i == nil || !strings.Contains(string(i.Text), "data_base64") {
		t.Errorf("kept: %+v; it says %q", i, x.Note)
	}
	x.Press("k")
	x.Answer("nowhere x")
	if !strings.Contains(x.Note, `nknown source "nowhere"`) {
		t.Errorf("it says %q", x.Note)
	}
}

// Payloads are filtered, copied, renamed and deleted, and shown in three forms.
func TestThePayloads(t *testing.T) {
	x := open(t, func(w http.ResponseWriter, r *http.Request) {}, 110, 32)
	x.Press("/", "w", "o", "r", "k")
	content := x.Until("1 of 3 with work", "jobs  1", "work#1")
	if strings.Contains(content, "some#1") {
		t.Errorf("the filter leaves others:\n%s", content)
	}
	x.Press("enter", "m")
	x.Until("raw", `"specversion": "1.0"`)
	x.Press("m")
	x.Until("bytes", "000000  7b22 6465 6570")
	x.Press("m", "d")
	x.Answer("own")
	x.Until("own", "saved payload")
	x.Press("r")
	x.Answer("mine")
	x.Until("mine  work.wanted")
	x.Press("r")
	x.Answer("../mine")
	if !strings.Contains(x.Note, "is not a name for a payload") {
		t.Errorf("it says %q", x.Note)
	}
	x.Press("y")
	if !strings.Contains(x.Note, "Copied: the payload, ") {
		t.Errorf("it says %q", x.Note)
	}
	x.Press("D")
	if x.Asked == nil || !x.Asked.YesNo {
		t.Fatal("it is deleted without a question")
	}
	x.Answer("y")
	if x.stand.Find("jobs mine") != nil || !strings.Contains(x.Note, "mine deleted; u brings it back") {
		t.Errorf("it says %q", x.Note)
	}
	if x.Press("u"); x.stand.Find("jobs mine") == nil || !strings.Contains(x.Note, "mine is back") {
		t.Errorf("after it was undone it says %q", x.Note)
	}
	x.Press("D")
	x.Answer("y")
	x.Press("D")
	if !strings.Contains(x.Note, "part of a recording") {
		t.Errorf("it says %q", x.Note)
	}
	x.Press("/", "q", "q")
	x.Until("Nothing matches the filter.")
	x.Press("backspace", "backspace", "enter", "esc")
	x.Press("H")
	x.Until("▸ Payloads")
	if !strings.Contains(x.Note, "teller is held") {
		t.Errorf("it says %q", x.Note)
	}
	x.Press("H", "w")
	if !x.stand.Again() {
		t.Error("it does not fire again after a change")
	}
	x.stand.Pause("the drill evening is under way")
	x.Press("enter")
	if content := x.Until("not fired: the drill evening is under way",
		"When the drill is over, enter fires it"); strings.Contains(content, "Fix and save") {
		t.Errorf("there is nothing to fix:\n%s", content)
	}
}

// The environment hides what looks secret; the logs follow, search and pause.
func TestLogsAndEnvironment(t *testing.T) {
	x := open(t, func(w http.ResponseWriter, r *http.Request) {}, 110, 32)
	x.Press("E")
	content := x.Until("Environment of teller", "LEVEL", "low", "TIDE_TOKEN", "••••••", "another variable")
	if strings.Contains(content, "hush") {
		t.Errorf("a secret is shown:\n%s", content)
	}
	x.Press("down", "enter")
	if x.Asked.Text != "" {
		t.Errorf("the secret is offered to be changed: %q", x.Asked.Text)
	}
	x.Answer("other")
	x.Until("set for this session")
	x.Press("D")
	x.Press("down", "enter")
	x.Answer("novalue")
	if !strings.Contains(x.Note, "must have the form NAME=value") {
		t.Errorf("it says %q", x.Note)
	}
	x.Press("enter")
	x.Answer("DEPTH=12")
	x.Until("DEPTH", "12")
	x.Press("esc", "enter")
	x.Until("200 OK")
	for i := range 200 {
		x.stand.Log.Add(time.Now(), "teller", "teller-1", 0, fmt.Sprintf("line %d", i))
	}
	x.Press("l")
	x.Until("Log output of the functions", "following", "line 199")
	x.Press("pgup", "up")
	content = x.Until("paused")
	if strings.Contains(content, "line 199") {
		t.Errorf("it did not scroll:\n%s", content)
	}
	x.Press("end", "/", "1", "9", "8", "enter")
	content = x.Until("search: 198", "line 198")
	if strings.Contains(content, "line 199") {
		t.Errorf("the search leaves others:\n%s", content)
	}
	x.Press("/", "enter", "f")
	x.Until("Log output of teller")
	x.Press("o")
	x.Until("Log output of teller-")
	x.Press("o")
	x.Until("for firing 1")
	x.Press("o", "l")
	x.Until("▸ Payloads")
}

// The view is whole at every size that the program has, and within it.
func TestEverySize(t *testing.T) {
	var n atomic.Int32
	x := open(t, func(w http.ResponseWriter, r *http.Request) { counting(w, n.Add(1)) }, 150, 44)
	x.Press("enter")
	x.Until("200 OK")
	for _, theme := range []*canvas.Theme{canvas.NewTheme(true), canvas.NewTheme(false)} {
		for w := 80; w <= 240; w += 17 {
			for h := 20; h <= 80; h += 7 {
				x.Do(x.Resize(w, h))
				rows := strings.Split(ansi.Strip(x.Draw(theme).String()), "\n")
				for _, r := range rows {
					if ansi.StringWidth(r) > w {
						t.Fatalf("%dx%d: a row is %d wide", w, h, ansi.StringWidth(r))
					}
				}
				if content := strings.Join(rows, "\n"); len(rows) != h || !strings.Contains(content, "200 OK") ||
					!strings.Contains(content, "Latest firings") || !strings.Contains(content, "▸ Payloads") {
					t.Fatalf("%dx%d, %d rows:\n%s", w, h, len(rows), content)
				}
			}
		}
	}
	for _, key := range []string{"l", "esc", "E", "esc", "/", "x", "esc", "left", "left", "down", "pgdown", "up",
		"pgup", "right", "right", "right"} {
		x.Press(key)
		x.Do(x.Resize(80, 20))
		x.Draw(canvas.NewTheme(true))
		if len(x.Help()) == 0 {
			t.Errorf("after %s no key is named", key)
		}
	}
}
