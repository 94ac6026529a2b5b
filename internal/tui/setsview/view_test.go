package setsview

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"nightdrill/internal/session"
	"nightdrill/internal/tui/canvas"
	"nightdrill/internal/tui/msg"
)

// screen is the view over a real desk.
type screen struct {
	*Model
	t      *testing.T
	dir    string
	stand  *session.Session
	note   string
	asked  *msg.Ask
	fired  string
	mapped *session.Item // put on the map
}

func open(t *testing.T, w, h int) *screen {
	t.Helper()
	server := httptest.NewServer(http.NotFoundHandler())
	t.Cleanup(server.Close)
	dir := t.TempDir()
	for name, content := range map[string]string{
		"nightdrill.yaml": `nightdrill: 1
project: quay
functions:
  teller: {transport: attach, url: "` + server.URL + `"}
  clerk: {transport: attach, url: "` + server.URL +
			`", deliver: shaped, shape: {template: '{"records":[{{json .Text}}]}'}}
sources:
  asks: {kind: http, wires: [{to: teller}]}
  jobs: {kind: queue, wires: [{to: clerk}]}
payloads:
  some: {recording: some.har, expect: {status: 200}}
  work: {recording: work.ndjson, fits: job.json}
  made: {schema: job.json, seed: 3, count: 40}
`,
		"some.har": `{"log":{"entries":[{"startedDateTime":"2026-05-01T10:00:00Z","request":{"method":"GET","url":"http://x/fare?to=holm","headers":[{"name":"Authorization","value":"Bearer redacted-0123456789abcdef"}]}},
			{"startedDateTime":"2026-05-01T10:00:09Z","request":{"method":"GET","url":"http://x/fare?to=skerry&token=hush-hush","headers":[{"name":"X-Api-Key","value":"hush-hush"}]}}]}}`,
		"work.ndjson": `{"specversion":"1.0","id":"w1","source":"s","type":"work.wanted","data":{"n":1,"deck":"car"}}` +
			"\n" +
			`{"specversion":"1.0","id":"w2","source":"s","type":"work.wanted","data":{"n":"two","deck":"car\u001b[2J"}}` + "\n",
		"job.json": `{"type":"object","required":["n","deck"],"additionalProperties":false,"properties":{"n":{"type":"integer","minimum":1,"maximum":5},"deck":{"type":"string","minLength":3,"maxLength":8},"rare":{"type":"boolean","x-made":{"present":0}}}}`,
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
	x := &screen{Model: New(s), t: t, dir: dir, stand: s}
	x.do(x.Resize(w, h))
	return x
}

// do carries a command out, and what comes of it, as the shell does.
func (x *screen) do(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	switch m := cmd().(type) {
	case msg.Note:
		x.note = m.Text
	case msg.Ask:
		x.asked = &m
	case msg.Map:
		x.mapped = m.Item
	case Fire:
		x.fired = m.Key
	default:
		next, _ := x.Took(m)
		x.do(next)
	}
}

func (x *screen) press(keys ...string) {
	for _, k := range keys {
		code := map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "up": tea.KeyUp, "down": tea.KeyDown,
			"right": tea.KeyRight, "left": tea.KeyLeft}[k]
		msg := tea.KeyPressMsg{Code: code}
		if code == 0 {
			msg = tea.KeyPressMsg{Code: []rune(k)[0], Text: k}
		}
		x.do(x.Key(msg))
	}
}

// shows fails where the view lacks a text, or has one that is marked by a "!".
func (x *screen) shows(texts ...string) {
	x.t.Helper()
	drawn := x.Draw(canvas.NewTheme(true)).String()
	plain := ansi.Strip(drawn)
	for _, content := range texts {
		if not, ok := strings.CutPrefix(content, "!"); ok == strings.Contains(plain, not) && ok ||
			!ok && !strings.Contains(plain, content) {
			x.t.Errorf("%q in\n%s", content, plain)
		}
	}
	if strings.Contains(drawn, "\x1b[2J") {
		x.t.Error("a payload's control sequence reaches the terminal")
	}
}

// What can be sent is reported each set: where from, how large, when, what occurs
// in it, what fits and where it does not.
func TestSets(t *testing.T) {
	x := open(t, 150, 40)
	x.shows("some      2 recorded   for asks", "work      2 recorded", "made     40 generated", "as recorded over 9 s",
		"redacted  header Authorization, in 1", "expects   status 200",
		"payload 1 of 2", "GET /fare?to=holm", "Bearer redacted-0123456789abcdef", `method`, "query", "100 %")
	x.press(".")
	x.shows("payload 2 of 2", "to=skerry", "token=••••••", "!hush-hush")
	x.press("down")
	x.shows("✗ 1 of 2 violate job.json", "payload 1 of 2", "✓ fits", "integer 50 %, string 50 %")
	x.press(".")
	x.shows("✗ 1 errors", `"n": "two",  ◂ got string, want integer`)
	x.press("g")
	x.shows("clerk gets, shaped", "POST /", `"records": [`)
	x.press("n")
	x.do(x.asked.Done("3"))
	if !strings.Contains(x.note, "payloads 1 to 2") {
		t.Errorf("it says %q", x.note)
	}
	x.press("m")
	if !strings.Contains(x.note, "was recorded") {
		t.Errorf("a recording in another mode: %q", x.note)
	}
	for _, size := range [][2]int{{160, 43}, {100, 26}, {80, 20}} {
		x.do(x.Resize(size[0], size[1]))
		x.shows("Payload sets", "Fields")
	}
}

// What is made can be made otherwise for a look, kept, and sent to Fire.
func TestMadeOtherwise(t *testing.T) {
	x := open(t, 150, 40)
	x.press("down", "down")
	x.shows("✓ all satisfy job.json", "valid, seed 3", "integer, 1 to 5", "never", "required by job.json")
	before := string(x.payload().Data())
	x.press("s")
	x.shows("preview: valid, seed 4")
	if string(x.payload().Data()) == before {
		t.Error("another seed makes the same")
	}
	x.press("m", "m")
	x.shows("broken, seed 4", "✗ violates ", "◂ ")
	kept := string(x.payload().Data())
	x.press("k")
	x.do(x.asked.Done("odd-one"))
	if content, err := os.ReadFile(filepath.Join(x.dir, "payloads", "jobs", "odd-one.event.json")); err != nil ||
		!strings.Contains(strings.Join(strings.Fields(string(content)), ""), kept) {
		t.Errorf("%v: %s lacks %s", err, content, kept)
	}
	x.press("enter")
	found := false
	for _, i := range x.stand.List() {
		found = found || i.Key() == x.fired && i.Payload != nil && string(i.Payload.Data()) == kept
	}
	if !found {
		t.Errorf("Fire has no %q", x.fired)
	}
	x.press("esc")
	x.shows("payload 1 of 40")
	x.press("enter")
	if x.fired != "jobs made#1" {
		t.Errorf("sent to Fire: %q", x.fired)
	}
	if x.press("w"); x.mapped == nil || x.mapped.Key() != "jobs made#1" {
		t.Errorf("on the map: %+v", x.mapped)
	}
}

// Without any sets it says how to come by some.
func TestNoSets(t *testing.T) {
	x := open(t, 100, 26)
	x.plan.Sets = nil
	x.shows("No payload sets yet.", "payloads import FILE", "record --to URL")
	x.press("down", ".", "enter", "k", "s", "m", "g")
}
