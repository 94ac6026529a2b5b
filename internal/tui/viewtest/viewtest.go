// Package viewtest drives a view in tests as the shell does.
package viewtest

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/session"
	"nightdrill.dev/internal/tui/canvas"
	"nightdrill.dev/internal/tui/msg"
)

// View is what the shell needs of a view.
type View interface {
	Key(tea.KeyPressMsg) tea.Cmd
	Took(tea.Msg) (cmd tea.Cmd, ok bool)
	Draw(*canvas.Theme) *canvas.Canvas
	Refresh() tea.Cmd
}

// Project opens a project of some files in a folder of its own. {url} in a file is the address of
// a server with the handler. All of it is closed when the test ends.
func Project(t testing.TB, handler http.HandlerFunc, files map[string]string) (s *session.Session, dir string) {
	t.Helper()
	server := httptest.NewServer(handler)
	t.Cleanup(server.Close)
	dir = t.TempDir()
	for name, content := range files {
		content = strings.ReplaceAll(content, "{url}", server.URL)
		if err := os.WriteFile(filepath.Join(dir, name), []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	w, err := session.Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	if s, err = w.Stand("127.0.0.1:0"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close(); w.Close() })
	return s, dir
}

// Screen is a view with the part of the shell that it talks to.
type Screen struct {
	T     testing.TB
	View  View
	Note  string          // the last that was said
	Asked *msg.Ask        // what is requested
	Sent  func(m tea.Msg) // takes a message that is neither, and not the view's; may be nil
}

// Do carries a command out, and what comes of it.
func (x *Screen) Do(cmd tea.Cmd) {
	if cmd != nil {
		x.Take(cmd())
	}
}

// Take hands a message to whom it is for.
func (x *Screen) Take(m tea.Msg) {
	switch m := m.(type) {
	case nil:
	case tea.BatchMsg:
		for _, c := range m {
			x.Do(c)
		}
	case msg.Note:
		x.Note = m.Text
	case msg.Ask:
		x.Asked = &m
	default:
		if cmd, ok := x.View.Took(m); ok {
			x.Do(cmd)
		} else if x.Sent != nil {
			x.Sent(m)
		}
	}
}

// Answer answers what is asked.
func (x *Screen) Answer(content string) {
	x.T.Helper()
	if x.Asked == nil {
		x.T.Fatal("nothing is asked")
	}
	a := x.Asked
	x.Asked = nil
	x.Do(a.Done(content))
}

var named = map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "up": tea.KeyUp, "down": tea.KeyDown,
	"left": tea.KeyLeft, "right": tea.KeyRight, "backspace": tea.KeyBackspace, "space": tea.KeySpace,
	"pgdown": tea.KeyPgDown, "pgup": tea.KeyPgUp, "end": tea.KeyEnd}

// Key returns the message of a key, which is named as Bubble Tea names it.
func Key(name string) tea.KeyPressMsg {
	if code := named[name]; code != 0 {
		return tea.KeyPressMsg{Code: code}
	}
	return tea.KeyPressMsg{Code: []rune(name)[0], Text: name}
}

// Press presses keys, one after the other.
func (x *Screen) Press(keys ...string) {
	for _, k := range keys {
		x.Do(x.View.Key(Key(k)))
	}
}

// Plain returns what the view shows, without its styles. It fails where a control sequence of a
// payload or a function would reach the terminal.
func (x *Screen) Plain() string {
	x.T.Helper()
	drawn := x.View.Draw(canvas.NewTheme(true)).String()
	if strings.Contains(drawn, "\x1b[2J") {
		x.T.Error("a control sequence reaches the terminal")
	}
	return ansi.Strip(drawn)
}

// Shows fails where the view lacks a text, or has one that is marked by a "!".
func (x *Screen) Shows(texts ...string) {
	x.T.Helper()
	plain := x.Plain()
	for _, content := range texts {
		if not, ok := strings.CutPrefix(content, "!"); ok == strings.Contains(plain, not) && ok ||
			!ok && !strings.Contains(plain, content) {
			x.T.Errorf("%q in\n%s", content, plain)
		}
	}
}

// Until refreshes the view until it has every text, and returns what it shows.
func (x *Screen) Until(texts ...string) string {
	x.T.Helper()
	tick := time.NewTicker(5 * time.Millisecond)
	defer tick.Stop()
	for end := time.Now().Add(20 * time.Second); ; <-tick.C {
		x.Do(x.View.Refresh())
		plain, missing := x.Plain(), ""
		for _, content := range texts {
			if !strings.Contains(plain, content) {
				missing = content
			}
		}
		if missing == "" {
			return plain
		}
		if time.Now().After(end) {
			x.T.Fatalf("never with %q:\n%s", missing, plain)
		}
	}
}
