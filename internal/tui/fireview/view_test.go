package fireview

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"nightdrill/internal/session"
	"nightdrill/internal/tui/canvas"
	"nightdrill/internal/tui/msg"
)

// screen is the view over a real desk, whose function is a server of the test.
type screen struct {
	*Model
	t     *testing.T
	stand *session.Session
	dir   string
	note  string   // the last that was said
	asked *msg.Ask // what is requested
}

func open(t *testing.T, handler http.HandlerFunc, w, h int) *screen {
	t.Helper()
	server := httptest.NewServer(handler)
	t.Cleanup(server.Close)
	dir := t.TempDir()
	for name, content := range map[string]string{
		"nightdrill.yaml": `nightdrill: 1
project: quay
functions:
  teller: {transport: attach, url: "` + server.URL +
			`", env: {LEVEL: low, TIDE_TOKEN: hush-hush-1}, timeout: 2s, concurrency: {max: 2}, variants: {strict: {timeout: 1s}}}
sources:
  asks: {kind: http, wires: [{to: teller, when: {path: "/{what}"}}]}
  jobs: {kind: queue, attempts: 2, backoff: 1ms, wires: [{to: teller}]}
payloads:
  some: {recording: some.har, expect: {status: 200, values: {/n: 1}}}
  work: {recording: work.ndjson}
`,
		"some.har":    `{"log":{"entries":[{"request":{"method":"GET","url":"http://x/fare","headers":[{"name":"Authorization","value":"Bearer hush"}]}},{"request":{"method":"GET","url":"http://x/a/b"}}]}}`,
		"work.ndjson": `{"specversion":"1.0","id":"w1","source":"s","type":"work.wanted","subject":"gulls","data":{"deep":{"list":[1,2,"three"]}}}` + "\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	d, err := session.Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	s, err := d.Stand("127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close(); d.Close() })
	x := &screen{Model: New(s), t: t, stand: s, dir: dir}
	x.do(x.Resize(w, h))
	return x
}

// do carries a command out, and what comes of it, as the shell does.
func (x *screen) do(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	switch m := cmd().(type) {
	case tea.BatchMsg:
		for _, c := range m {
			x.do(c)
		}
	case msg.Note:
		x.note = m.Text
	case msg.Ask:
		x.asked = &m
	default:
		next, _ := x.Took(m)
		x.do(next)
	}
}

// press presses keys, named as Bubble Tea names them.
func (x *screen) press(keys ...string) {
	for _, k := range keys {
		code := map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "up": tea.KeyUp, "down": tea.KeyDown,
			"left": tea.KeyLeft, "right": tea.KeyRight, "backspace": tea.KeyBackspace,
			"pgdown": tea.KeyPgDown, "pgup": tea.KeyPgUp, "end": tea.KeyEnd}[k]
		msg := tea.KeyPressMsg{Code: code}
		if code == 0 {
			msg = tea.KeyPressMsg{Code: []rune(k)[0], Text: k}
		}
		x.do(x.Key(msg))
	}
}

// answer answers what is asked.
func (x *screen) answer(content string) {
	x.t.Helper()
	if x.asked == nil {
		x.t.Fatal("nothing is asked")
	}
	a := x.asked
	x.asked = nil
	x.do(a.Done(content))
}

// shows looks until the view holds every word.
func (x *screen) shows(words ...string) string {
	x.t.Helper()
	tick := time.NewTicker(5 * time.Millisecond)
	defer tick.Stop()
	content := ""
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); <-tick.C {
		x.do(x.Refresh())
		content = ansi.Strip(x.Draw(canvas.NewTheme(true)).String())
		missing := false
		for _, w := range words {
			missing = missing || !strings.Contains(content, w)
		}
		if !missing {
			return content
		}
	}
	x.t.Fatalf("never with %q:\n%s", words, content)
	return ""
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
	content := x.shows("asks some#1  GET /fare", "jobs work#1  work.wanted w1", "What does the function reply?",
		"GET /fare", "none yet", "Requests to http://"+x.stand.Front.Address)
	if strings.Contains(content, "Bearer") {
		t.Errorf("a secret is shown:\n%s", content)
	}
	x.press("enter")
	content = x.shows("200 OK", `"n": 1,`, "● warm in", "first byte", "look", "by its own Server-Timing",
		"✓ as expected: status 200, /n is 1", "its starts are not measured", "Set-Cookie: ••••••")
	if strings.Contains(content, "hush") {
		t.Errorf("a secret is shown:\n%s", content)
	}
	x.press("enter")
	x.shows("✗ expected /n is 1, got 2", "≠ differs from firing 1 in 2 places", `/at  "moment 1" → "moment 2"`,
		"/n  1 → 2")
	x.press("i")
	if x.asked.Text != "/at" {
		t.Errorf("it offers to leave %q out", x.asked.Text)
	}
	x.answer("/at")
	x.page.settled = false
	x.shows("in 1 place (1 left out)")
	x.press("i")
	x.answer("no pointer")
	if !strings.Contains(x.note, "not a JSON Pointer") {
		t.Errorf("it says %q", x.note)
	}
	// earlier firings, and the latest again
	x.press(",")
	x.shows("1 · ", "✓ as expected")
	x.press(".", "enter")
	x.shows("3 · ", "/n  2 → 3")
	x.press("v")
	x.shows("to @strict")
	x.press("enter")
	x.shows("4 · ", "teller@strict-1")
	x.press("v", "v")
	x.press("n")
	x.answer("many")
	if !strings.Contains(x.note, `"many" must be a number`) {
		t.Errorf("it says %q", x.note)
	}
	x.press("n")
	x.answer("3")
	x.shows("7 · ")
	if !strings.HasPrefix(x.note, "Fired 3 times; warm 3, median") {
		t.Errorf("it says %q", x.note)
	}
	x.press("down", "down", "enter")
	x.shows("jobs work#1", "type      work.wanted", `"three"`)
	x.press("up", "enter")
	x.shows("No wire of asks takes this event.", "any /{what}  → teller")
}

// A page is laid out anew for another width, also of a firing that is over.
func TestAPageFollowsTheWidth(t *testing.T) {
	x := open(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/plain")
		fmt.Fprint(w, strings.Repeat("tide ", 20))
	}, 200, 44)
	x.press("enter")
	x.shows("200 OK")
	for _, w := range []int{90, 140, 80, 200} {
		x.do(x.Resize(w, 44))
		x.shows("200 OK")
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
			x.press(step)
		}
		if content := x.shows("▸ Payloads"); strings.Contains(content+x.note, "hush") {
			t.Errorf("after %q the secret is shown: %s\n%s", step, x.note, content)
		}
	}
	if !strings.Contains(x.note, "Authorization: ••••••") {
		t.Errorf("it says %q", x.note)
	}
	x.press("d")
	x.answer("own")
	if content := x.shows("saved payload", "Authorization: ••••••"); strings.Contains(content, "hush") {
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
			time.Sleep(2500 * time.Millisecond)
		case "turned":
			w.WriteHeader(503)
			fmt.Fprint(w, "low tide")
		}
	}, 120, 40)
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
		x.press("enter")
		if content := x.shows(c.want...); strings.Contains(content, "\x1b") || strings.Contains(content, "\t") {
			t.Errorf("%s: control characters are left", c.shape)
		}
	}
	shape.Store("image")
	x.press("enter")
	x.shows("·PNG")
	x.press("s")
	x.answer("picture.png")
	if content, err := os.ReadFile(filepath.Join(x.dir, "picture.png")); err != nil ||
		string(content) != "\x89PNG\r\n\x1a\n\x00\x01" {
		t.Errorf("saved: %q, %v; it says %q", content, err, x.note)
	}
	x.press("s")
	x.answer("picture.png")
	if !strings.Contains(x.note, "not saved") {
		t.Errorf("saved over another: %q", x.note)
	}
	x.press("k")
	x.answer("jobs a-picture")
	if i := x.stand.Find("jobs a-picture"); i == nil || !strings.Contains(string(i.Text), "data_base64") {
		t.Errorf("kept: %+v; it says %q", i, x.note)
	}
	x.press("k")
	x.answer("nowhere x")
	if !strings.Contains(x.note, `nknown source "nowhere"`) {
		t.Errorf("it says %q", x.note)
	}
}

// Payloads are filtered, copied, renamed and deleted, and shown in three forms.
func TestThePayloads(t *testing.T) {
	x := open(t, func(w http.ResponseWriter, r *http.Request) {}, 110, 32)
	x.press("/", "w", "o", "r", "k")
	content := x.shows("1 of 3 with work", "jobs work#1")
	if strings.Contains(content, "some#1") {
		t.Errorf("the filter leaves others:\n%s", content)
	}
	x.press("enter", "m")
	x.shows("raw", `"specversion": "1.0"`)
	x.press("m")
	x.shows("bytes", "000000  7b22 6465 6570")
	x.press("m", "d")
	x.answer("own")
	x.shows("own", "saved payload")
	x.press("r")
	x.answer("mine")
	x.shows("mine  work.wanted")
	x.press("r")
	x.answer("../mine")
	if !strings.Contains(x.note, "is not a name for a payload") {
		t.Errorf("it says %q", x.note)
	}
	x.press("y")
	if !strings.Contains(x.note, "Only HTTP requests") {
		t.Errorf("it says %q", x.note)
	}
	x.press("x")
	if x.asked == nil || !x.asked.YesNo {
		t.Fatal("it is deleted without a question")
	}
	x.answer("y")
	if x.stand.Find("jobs mine") != nil || !strings.Contains(x.note, "mine deleted") {
		t.Errorf("it says %q", x.note)
	}
	x.press("x")
	if !strings.Contains(x.note, "part of a recording") {
		t.Errorf("it says %q", x.note)
	}
	x.press("/", "q", "q")
	x.shows("Nothing matches the filter.")
	x.press("backspace", "backspace", "enter", "esc")
	x.press("H")
	x.shows("▸ Payloads")
	if !strings.Contains(x.note, "teller is held") {
		t.Errorf("it says %q", x.note)
	}
	x.press("H", "w")
	if !x.stand.Again() {
		t.Error("it does not fire again after a change")
	}
	x.stand.Pause("the drill evening is under way")
	x.press("enter")
	if content := x.shows("not fired: the drill evening is under way",
		"When the drill is over, enter fires it"); strings.Contains(content, "Fix and save") {
		t.Errorf("there is nothing to fix:\n%s", content)
	}
}

// The environment hides what looks secret; the logs follow, search and pause.
func TestLogsAndEnvironment(t *testing.T) {
	x := open(t, func(w http.ResponseWriter, r *http.Request) {}, 110, 32)
	x.press("E")
	content := x.shows("Environment of teller", "LEVEL", "low", "TIDE_TOKEN", "••••••", "another variable")
	if strings.Contains(content, "hush") {
		t.Errorf("a secret is shown:\n%s", content)
	}
	x.press("down", "enter")
	if x.asked.Text != "" {
		t.Errorf("the secret is offered to be changed: %q", x.asked.Text)
	}
	x.answer("other")
	x.shows("set for this session")
	x.press("x")
	x.press("down", "enter")
	x.answer("novalue")
	if !strings.Contains(x.note, "must have the form NAME=value") {
		t.Errorf("it says %q", x.note)
	}
	x.press("enter")
	x.answer("DEPTH=12")
	x.shows("DEPTH", "12")
	x.press("esc", "enter")
	x.shows("200 OK")
	for i := range 200 {
		x.stand.Log.Add(time.Now(), "teller", "teller-1", 0, fmt.Sprintf("line %d", i))
	}
	x.press("l")
	x.shows("Log output of the functions", "following", "line 199")
	x.press("pgup", "up")
	content = x.shows("paused")
	if strings.Contains(content, "line 199") {
		t.Errorf("it did not scroll:\n%s", content)
	}
	x.press("end", "/", "1", "9", "8", "enter")
	content = x.shows("search: 198", "line 198")
	if strings.Contains(content, "line 199") {
		t.Errorf("the search leaves others:\n%s", content)
	}
	x.press("/", "enter", "f")
	x.shows("Log output of teller")
	x.press("o")
	x.shows("Log output of teller-")
	x.press("o")
	x.shows("for firing 1")
	x.press("o", "l")
	x.shows("▸ Payloads")
}

// The view is whole at every size that the program has, and within it.
func TestEverySize(t *testing.T) {
	var n atomic.Int32
	x := open(t, func(w http.ResponseWriter, r *http.Request) { counting(w, n.Add(1)) }, 150, 44)
	x.press("enter")
	x.shows("200 OK")
	for _, theme := range []*canvas.Theme{canvas.NewTheme(true), canvas.NewTheme(false)} {
		for w := 80; w <= 240; w += 17 {
			for h := 20; h <= 80; h += 7 {
				x.do(x.Resize(w, h))
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
		x.press(key)
		x.do(x.Resize(80, 20))
		x.Draw(canvas.NewTheme(true))
		if len(x.Help()) == 0 {
			t.Errorf("after %s no key is named", key)
		}
	}
}
