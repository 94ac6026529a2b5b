package input

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"nightdrill.dev/internal/tui/canvas"
)

// send presses keys: names of keys, or single characters.
func send(l *Line, keys ...string) {
	codes := map[string]tea.Key{"left": {Code: tea.KeyLeft}, "up": {Code: tea.KeyUp}, "down": {Code: tea.KeyDown},
		"home": {Code: tea.KeyHome}, "backspace": {Code: tea.KeyBackspace}, "ctrl+w": {Code: 'w', Mod: tea.ModCtrl},
		"alt+left": {Code: tea.KeyLeft, Mod: tea.ModAlt}}
	for _, k := range keys {
		if code, ok := codes[k]; ok {
			l.Update(tea.KeyPressMsg(code))
			continue
		}
		for _, r := range k {
			l.Update(tea.KeyPressMsg(tea.Key{Code: r, Text: string(r)}))
		}
	}
}

func TestALineIsEdited(t *testing.T) {
	for _, c := range []struct {
		name, text string
		keys       []string
		want       string
	}{
		{"typed", "", []string{"quay"}, "quay"},
		{"the first character replaces what is prefilled", "20", []string{"5"}, "5"},
		{"a movement keeps what is prefilled", "20", []string{"left", "5"}, "250"},
		{"in the middle", "", []string{"qay", "left", "left", "u"}, "quay"},
		{"a word is deleted", "", []string{"two gulls", "ctrl+w"}, "two "},
		{"the cursor moves by words", "", []string{"two gulls", "alt+left", "big "}, "two big gulls"},
		{"wide characters", "", []string{"船が", "backspace"}, "船"},
		{"at the start nothing is deleted", "", []string{"ab", "home", "backspace"}, "ab"},
	} {
		l := New(c.text, nil)
		send(l, c.keys...)
		if l.Value() != c.want {
			t.Errorf("%s: %q, want %q", c.name, l.Value(), c.want)
		}
	}
}

func TestWhatIsPasted(t *testing.T) {
	l := New("20", nil)
	l.Update(tea.PasteMsg{Content: "a quay\n\x1b[2Jof stone"})
	if l.Value() != "a quay [2Jof stone" {
		t.Errorf("pasted: %q", l.Value())
	}
}

func TestEarlierLinesAreRecalled(t *testing.T) {
	var h History
	for _, line := range []string{"one", "", "two", "two"} {
		h.Add(line)
	}
	l := New("", &h)
	send(l, "thr", "up", "up", "up")
	if l.Value() != "one" || len(h) != 2 {
		t.Errorf("%q of %q", l.Value(), h)
	}
	if send(l, "down", "down"); l.Value() != "thr" {
		t.Errorf("back it is %q", l.Value())
	}
}

// A line that is too long is scrolled to its cursor.
func TestALineIsDrawn(t *testing.T) {
	theme := canvas.NewTheme(true)
	for _, c := range []struct {
		keys []string
		want string
	}{{[]string{"abc"}, "> abc"}, {[]string{"abcdefghijkl"}, "> fghijkl"}, {[]string{"abcdefghijkl", "home"},
		"> abcdefg…"}} {
		l := New("", nil)
		send(l, c.keys...)
		on := canvas.New(10, 1, theme)
		on.Put(0, 0, canvas.Plain, "> ")
		l.Draw(on, 2, 0, 10, canvas.Plain)
		if got := strings.TrimRight(ansi.Strip(on.String()), " "); !strings.HasPrefix(got,
			c.want[:min(len(c.want), len(got))]) {
			t.Errorf("%v: %q, want %q", c.keys, got, c.want)
		}
	}
}
